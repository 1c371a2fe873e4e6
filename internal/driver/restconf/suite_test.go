package restconf_test

import (
	"fmt"
	"net/http"
	"net/netip"
	"sync/atomic"
	"testing"

	"redstart/internal/driver/drivertest"
	"redstart/internal/sim/box"
)

const heron = `redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: 192.168.99.3/24}
user: keeper
restart: {takes: 1s, at-most: 5s}
talk:
  restconf: {scheme: http}
order:
  - {act: password}
  - {act: name}
  - {act: address}
acts:
  identify: [{restconf: "GET data/lamp:lamp", take: {model: "/lamp:lamp/model"}}]
  sign-in: [{restconf: "GET data/lamp:lamp"}]
  password: [{restconf: "PATCH data/lamp:users/user={user}", body: {"lamp:user": [{password: "{password}"}]}}]
  name: [{restconf: "PATCH data/lamp:lamp", body: {"lamp:lamp": {name: "{name}"}}}]
  address: [{restconf: "POST operations/lamp:move", body: {"lamp:input": {to: "{address}", "bits#": "{bits}"}}}]
  read: [{restconf: "GET data/lamp:lamp", take: {name: "/lamp:lamp/name", address: "/lamp:lamp/at", bits: "/lamp:lamp/bits"}}]
`

// The RESTCONF driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	var tries atomic.Int64
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/.well-known/host-meta" {
			fmt.Fprint(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="/rest"/></XRD>`)
			return
		}
		if user, password, ok := r.BasicAuth(); ok && (user != drivertest.User || password != drivertest.Password) {
			tries.Add(1)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("ETag", `"1"`)
		fmt.Fprintf(w, `{"lamp:lamp": {"name": %q, "at": "192.168.99.3", "bits": 24, "model": "H"}}`, drivertest.Name)
	})
	drivertest.Run(t, drivertest.Case{
		Profile: heron, Box: box.Model{Maker: "Heron", Name: "H"},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
		Serve:   drivertest.HTTP(h), Tries: tries.Load,
	})
}
