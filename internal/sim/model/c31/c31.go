// Package c31 simulates the Ovalis C31 camera, which talks ONVIF alone: no login exists until
// the first administrator is made, and until then only a few questions are answered; it takes
// no login whose time is more than five seconds from its own clock, which is wrong by years;
// it says itself whether it needs a restart.
package c31

import (
	_ "embed"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/onvif"
	"redstart/internal/wire/wsd"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only these cameras have.
type Own struct {
	User     string // the administrator; "" for none yet
	DNS, NTP string
	Zone     string // by its rules (IEEE 1003.1, 8.3)
	Location string // in its discovery scopes
}

// Factory is the state in which every camera leaves the factory.
var Factory = box.Settings{Name: "c31", Address: netip.MustParsePrefix("192.168.77.31/24"), Own: Own{Zone: "UTC0"}}

var (
	names     = naming.Rules{Max: 24, Case: "lower"}
	passwords = secret.Rules{Min: 8, Max: 32, Classes: 2, Refuse: []string{"ovalis"}}
)

// Model is the camera.
var Model = box.Model{
	Maker: "Ovalis Optics", Name: "C31", Firmware: "1.0.7", Port: 80, Handler: handler,
	Datagrams: []box.Datagram{{Port: wsd.Group.Port(), Group: wsd.Group.Addr(), Answer: discover}},
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x4f, 0x57}, Serial: "OV31-%06d", Away: 12 * time.Second,
	Factory: box.Always(Factory), Short: "EYE", Kind: "camera", Profile: "ovalis-c31", Plan: plan,
	Stands: box.Each(0, "HALL-CAM-11", "HALL-CAM-12", "YARD-CAM-11", "BERTH1-CAM-11", "BERTH2-CAM-11", "SHOP-CAM-11"),
}

func discover(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if id, ok := wsd.IsProbe(payload); ok {
		reply(wsd.Match{
			Endpoint: "urn:uuid:" + b.Serial, Types: "dn:NetworkVideoTransmitter",
			Scopes: []string{wsd.ScopeOf("hardware", b.Model.Name), wsd.ScopeOf("name", b.Running().Name),
				wsd.ScopeOf("location", b.Running().Own.(Own).Location)},
			Where: []string{"http://" + b.Running().Address.Addr().String() + "/onvif/device_service"},
		}.Answer(id), netip.AddrPort{})
	}
}

// call is what may be in the body of a call, as far as it is understood.
type call struct {
	Body struct {
		Operation struct {
			XMLName xml.Name
			User    struct {
				Username, Password, UserLevel string
			}
			Name         string
			DateTimeType string
			TimeZone     struct{ TZ string }
			UTCDateTime  struct {
				Time struct{ Hour, Minute, Second int }
				Date struct{ Year, Month, Day int }
			}
			NTPManual        struct{ IPv4Address string }
			DNSManual        struct{ IPv4Address string }
			IPv4Address      string
			InterfaceToken   string
			NetworkInterface struct {
				IPv4 struct {
					Manual struct {
						Address      string
						PrefixLength string
					}
					DHCP string
				}
			}
			Scopes []string
		} `xml:",any"`
	}
}

// open are the questions that are answered to anybody (ONVIF Core Specification, 5.9.4.3).
var open = map[string]bool{"GetSystemDateAndTime": true, "GetDeviceInformation": true}

func handler(b *box.Box) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /onvif/device_service", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		var in call
		if err == nil {
			err = xml.Unmarshal(text, &in)
		}
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		answer, after := serve(b, text, in)
		w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
		if strings.Contains(answer, ":Fault>") {
			w.WriteHeader(http.StatusBadRequest)
		}
		_, _ = io.WriteString(w, answer) // the reader went away
		if after {
			b.RestartSoon(r)
		}
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		box.Page(w, http.StatusOK, "Ovalis C31", "#7a4", "<p>Set up with an ONVIF client.</p>")
	})
	return mux
}

// serve answers a call; after says that it restarts then.
func serve(b *box.Box, text []byte, in call) (answer string, after bool) {
	operation := in.Body.Operation.XMLName.Local
	s := b.Running()
	own := s.Own.(Own)
	fresh := own.User == ""
	if !open[operation] && !(fresh && (operation == "CreateUsers" || operation == "GetUsers")) {
		if fresh {
			return onvif.Fault("ter:NotAuthorized", "make an administrator first"), false
		}
		user, good := onvif.Check(text, b.Clock(), func(user string) string {
			if user == own.User {
				return s.Password
			}
			return ""
		})
		password := "another" // of which a digest tells nothing
		if good {
			password = s.Password
		}
		if user != "" {
			b.Tried(user, password, good)
		}
		if !good {
			return onvif.Fault("ter:NotAuthorized", "the sender is not authorised"), false
		}
	}
	if ask := asks[operation]; ask != nil {
		return onvif.Envelope("<t:" + operation + "Response>" + ask(b, s, own) + "</t:" + operation + "Response>"),
			false
	}
	done, err := take(b, operation, in)
	if err != nil {
		return onvif.Fault("ter:InvalidArgVal", err.Error()), false
	}
	return onvif.Envelope("<t:" + operation + "Response>" + done + "</t:" + operation + "Response>"),
		operation == "SystemReboot"
}

// asks are the questions.
var asks = map[string]func(*box.Box, box.Settings, Own) string{
	"GetSystemDateAndTime": func(b *box.Box, _ box.Settings, own Own) string {
		return "<t:SystemDateAndTime><s:DateTimeType>NTP</s:DateTimeType><s:TimeZone><s:TZ>" + onvif.Escaped(own.Zone) +
			"</s:TZ></s:TimeZone>" + onvif.UTC(b.Clock()) + "</t:SystemDateAndTime>"
	},
	"GetDeviceInformation": func(b *box.Box, _ box.Settings, _ Own) string {
		return fmt.Sprintf("<t:Manufacturer>%s</t:Manufacturer><t:Model>%s</t:Model><t:FirmwareVersion>%s"+
			"</t:FirmwareVersion><t:SerialNumber>%s</t:SerialNumber><t:HardwareId>1</t:HardwareId>", b.Model.Maker,
			b.Model.Name, b.Model.Firmware, b.Serial)
	},
	"GetUsers": func(_ *box.Box, _ box.Settings, own Own) string {
		return "<t:User><s:Username>" + onvif.Escaped(own.User) +
			"</s:Username><s:UserLevel>Administrator</s:UserLevel></t:User>"
	},
	"GetHostname": func(_ *box.Box, s box.Settings, _ Own) string {
		return "<t:HostnameInformation><s:FromDHCP>false</s:FromDHCP><s:Name>" + onvif.Escaped(s.Name) +
			"</s:Name></t:HostnameInformation>"
	},
	"GetNetworkInterfaces": func(_ *box.Box, s box.Settings, _ Own) string {
		return fmt.Sprintf(`<t:NetworkInterfaces token="eth0"><s:Enabled>true</s:Enabled><s:IPv4><s:Enabled>true</s:Enabled>`+
			`<s:Config><s:Manual><s:Address>%s</s:Address><s:PrefixLength>%d</s:PrefixLength></s:Manual><s:DHCP>false</s:DHCP>`+
			`</s:Config></s:IPv4></t:NetworkInterfaces>`, box.AddrText(s.Address.Addr()), s.Address.Bits())
	},
	"GetNetworkDefaultGateway": func(_ *box.Box, s box.Settings, _ Own) string {
		return "<t:NetworkGateway><s:IPv4Address>" + box.AddrText(s.Gateway) + "</s:IPv4Address></t:NetworkGateway>"
	},
	"GetDNS": func(_ *box.Box, _ box.Settings, own Own) string {
		return "<t:DNSInformation><s:FromDHCP>false</s:FromDHCP><s:DNSManual><s:Type>IPv4</s:Type><s:IPv4Address>" +
			own.DNS +
			"</s:IPv4Address></s:DNSManual></t:DNSInformation>"
	},
	"GetNTP": func(_ *box.Box, _ box.Settings, own Own) string {
		return "<t:NTPInformation><s:FromDHCP>false</s:FromDHCP><s:NTPManual><s:Type>IPv4</s:Type><s:IPv4Address>" +
			own.NTP +
			"</s:IPv4Address></s:NTPManual></t:NTPInformation>"
	},
	"GetScopes": func(b *box.Box, s box.Settings, own Own) string {
		return "<t:Scopes><s:ScopeDef>Configurable</s:ScopeDef><s:ScopeItem>" +
			onvif.Escaped(wsd.ScopeOf("location", own.Location)) + "</s:ScopeItem></t:Scopes>"
	},
}

// take does what an operation says, and gives what is in its answer.
func take(b *box.Box, operation string, in call) (string, error) {
	o := in.Body.Operation
	set := func(f func(*box.Settings, *Own)) {
		apply := func(s *box.Settings) {
			own := s.Own.(Own)
			f(s, &own)
			s.Own = own
		}
		b.Change(apply)
		b.Store(apply)
	}
	note := func(text string) { b.Witness("write", text) }
	switch operation {
	case "CreateUsers", "SetUser":
		if err := passwords.Check(o.User.Password); err != nil || o.User.Username == "" || b.Has().RefusesPassword {
			return "", fmt.Errorf("the password is too weak")
		}
		if o.User.UserLevel != "Administrator" {
			return "", fmt.Errorf("the first user is an administrator")
		}
		note("password " + o.User.Password + " of " + o.User.Username)
		set(func(s *box.Settings, own *Own) { own.User, s.Password = o.User.Username, o.User.Password })
	case "SetHostname":
		if err := names.Check(o.Name); err != nil {
			return "", err
		}
		note("name " + o.Name)
		set(func(s *box.Settings, _ *Own) { s.Name = o.Name })
	case "SetSystemDateAndTime":
		at := o.UTCDateTime
		note("time " + o.TimeZone.TZ)
		b.SetClock(time.Date(at.Date.Year, time.Month(at.Date.Month), at.Date.Day, at.Time.Hour, at.Time.Minute,
			at.Time.Second,
			0, time.UTC))
		set(func(_ *box.Settings, own *Own) { own.Zone = o.TimeZone.TZ })
	case "SetNTP":
		note("ntp " + o.NTPManual.IPv4Address)
		set(func(_ *box.Settings, own *Own) { own.NTP = o.NTPManual.IPv4Address })
	case "SetDNS":
		note("dns " + o.DNSManual.IPv4Address)
		set(func(_ *box.Settings, own *Own) { own.DNS = o.DNSManual.IPv4Address })
	case "SetScopes":
		note("scopes " + strings.Join(o.Scopes, " "))
		m := wsd.Match{Scopes: o.Scopes}
		set(func(_ *box.Settings, own *Own) { own.Location = m.Scope("location") })
	case "SetNetworkDefaultGateway":
		_, via, err := box.Network("10.0.0.1", "24", o.IPv4Address)
		if err != nil {
			return "", err
		}
		note("gateway " + o.IPv4Address)
		b.Store(func(s *box.Settings) { s.Gateway = via })
	case "SetNetworkInterfaces":
		manual := o.NetworkInterface.IPv4.Manual
		at, _, err := box.Network(manual.Address, manual.PrefixLength, "")
		if err != nil || o.InterfaceToken != "eth0" {
			return "", fmt.Errorf("interface or address is wrong")
		}
		note("address " + at.String())
		b.Store(func(s *box.Settings) { s.Address = at })
		return "<t:RebootNeeded>true</t:RebootNeeded>", nil
	case "SystemReboot":
		note("restart")
		return "<t:Message>restarting</t:Message>", nil
	default:
		return "", fmt.Errorf("there is no such operation")
	}
	return "", nil
}
