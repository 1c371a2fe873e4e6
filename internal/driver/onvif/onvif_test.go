package onvif_test

import (
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"redstart/internal/driver/drivertest"
	"redstart/internal/sim/box"
	"redstart/internal/sim/onvif"
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
  onvif: {port: 80}
order:
  - {act: password}
  - {act: name}
  - {act: address}
acts:
  identify: [{onvif: GetDeviceInformation, open: true, take: {model: Model}}]
  sign-in: [{onvif: GetUsers}]
  password: [{onvif: SetUser, body: "<t:User><s:Password>{password}</s:Password></t:User>"}]
  name: [{onvif: SetHostname, body: "<t:Name>{name}</t:Name>"}]
  address: [{onvif: SetNetworkInterfaces, body: "<t:A>{address}</t:A>"}]
  read: [{onvif: GetHostname, take: {name: HostnameInformation/Name, address: "HostnameInformation@at"}}]
`

var operation = regexp.MustCompile(`<t:([A-Za-z]+)`)

// The ONVIF driver passes what every driver must; the device's clock is years off.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	var tries atomic.Int64
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		if err != nil {
			return
		}
		w.Header().Set("Content-Type", "application/soap+xml")
		name := operation.FindStringSubmatch(string(body))
		switch {
		case name == nil:
			w.WriteHeader(http.StatusBadRequest)
		case name[1] == "GetSystemDateAndTime":
			fmt.Fprint(w, onvif.Envelope(`<t:GetSystemDateAndTimeResponse><t:SystemDateAndTime>`+
				onvif.UTC(onvif.Years(-20))+`</t:SystemDateAndTime></t:GetSystemDateAndTimeResponse>`))
		default:
			user, ok := onvif.Check(body, onvif.Years(-20), func(string) string { return drivertest.Password })
			if user != drivertest.User || !ok {
				tries.Add(1)
				w.WriteHeader(http.StatusBadRequest)
				fmt.Fprint(w, onvif.Fault("ter:NotAuthorized", "who are you?"))
				return
			}
			fmt.Fprint(w,
				onvif.Envelope(strings.ReplaceAll(`<t:XResponse><t:HostnameInformation at="192.168.99.3"><s:Name>`+
					drivertest.Name+`</s:Name></t:HostnameInformation></t:XResponse>`, "X", name[1])))
		}
	})
	drivertest.Run(t, drivertest.Case{
		Profile: heron, Box: box.Model{Maker: "Heron", Name: "H"},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
		Serve:   drivertest.HTTP(h), Tries: tries.Load,
	})
}
