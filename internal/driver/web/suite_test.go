package web_test

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
  web: {scheme: http, auth: basic}
order:
  - {act: password}
  - {act: name}
  - {act: address}
acts:
  identify: [{request: GET /, take: {model: json /model}}]
  sign-in: [{request: GET /in, refused: [401]}]
  password: [{request: "PUT /password/{password}", json: {new: "{password}"}, refused: [401]}]
  name: [{request: PUT /name, json: {name: "{name}"}}]
  address: [{request: PUT /address, json: {at: "{address}"}}]
  read: [{request: GET /all, refused: [401], take: {name: json /name, address: json /at}}]
`

// The web driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	var tries atomic.Int64
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); ok && (user != drivertest.User || password != drivertest.Password) {
			tries.Add(1)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprintf(w, `{"name": %q, "at": "192.168.99.3", "model": "H"}`, drivertest.Name)
	})
	drivertest.Run(t, drivertest.Case{
		Profile: heron, Box: box.Model{Maker: "Heron", Name: "H"},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
		Serve:   drivertest.HTTP(h), Tries: tries.Load,
	})
}
