// Package wsd encodes and decodes the Probe and ProbeMatch of WS-Discovery
// (OASIS, Web Services Dynamic Discovery; the April 2005 namespace that the
// ONVIF Core Specification, 7.3, uses) and ONVIF's device information (ONVIF
// Core Specification, 8.3).
package wsd

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
)

// Group is where everybody listens (WS-Discovery, 2.4).
var Group = netip.MustParseAddrPort("239.255.255.250:3702")

const (
	maxSize    = 8192
	maxMatches = 16
	maxScopes  = 64
	scopeRoot  = "onvif://www.onvif.org/"
)

// ErrMalformed says that the bytes are no such message.
var ErrMalformed = errors.New("wsd: not a message")

// Probe asks every ONVIF device to answer. The id is a UUID.
func Probe(id string) []byte {
	return fmt.Appendf(nil,
		`<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><e:Header><w:MessageID>uuid:%s</w:MessageID><w:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</w:To><w:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</w:Action></e:Header><e:Body><d:Probe><d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe></e:Body></e:Envelope>`, id)
}

// Match is one device of an answer or an announcement.
type Match struct {
	Endpoint string // its UUID
	Types    string
	Scopes   []string
	Where    []string // URLs of its device service
}

type envelope struct {
	MessageID string `xml:"Header>MessageID"`
	Body      struct {
		Probe   *struct{}   `xml:"Probe"`
		Matches []matchBody `xml:"ProbeMatches>ProbeMatch"`
		Hello   *matchBody  `xml:"Hello"`
	} `xml:"Body"`
}

type matchBody struct {
	Endpoint string `xml:"EndpointReference>Address"`
	Types    string `xml:"Types"`
	Scopes   string `xml:"Scopes"`
	XAddrs   string `xml:"XAddrs"`
}

// decode reads a bounded document; entities and declarations are not followed
// by encoding/xml.
func decode(b []byte, out any) error {
	if len(b) > maxSize {
		return ErrMalformed
	}
	if err := xml.NewDecoder(bytes.NewReader(b)).Decode(out); err != nil {
		return ErrMalformed
	}
	return nil
}

// IsProbe reports whether the datagram is a question, and gives its id.
func IsProbe(b []byte) (id string, ok bool) {
	var e envelope
	if decode(b, &e) != nil || e.Body.Probe == nil {
		return "", false
	}
	return strings.TrimSpace(e.MessageID), true
}

// Parse decodes the answers to a probe, or an announcement (Hello).
func Parse(b []byte) ([]Match, error) {
	var e envelope
	if err := decode(b, &e); err != nil {
		return nil, err
	}
	found := e.Body.Matches
	if e.Body.Hello != nil {
		found = append(found, *e.Body.Hello)
	}
	if len(found) == 0 || len(found) > maxMatches {
		return nil, ErrMalformed
	}
	var list []Match
	for _, m := range found {
		scopes := strings.Fields(m.Scopes)
		list = append(list, Match{strings.TrimSpace(m.Endpoint), strings.TrimSpace(m.Types),
			scopes[:min(len(scopes), maxScopes)], strings.Fields(m.XAddrs)})
	}
	return list, nil
}

// Scope gives what the device says of itself under a heading such as "name" or
// "hardware" (ONVIF Core Specification, 7.3.2.2); "" when nothing.
func (m Match) Scope(heading string) string {
	for _, s := range m.Scopes {
		if rest, ok := strings.CutPrefix(s, scopeRoot+heading+"/"); ok {
			if text, err := url.PathUnescape(rest); err == nil {
				return text
			}
		}
	}
	return ""
}

// IsONVIF reports whether the answer is that of an ONVIF device: such a one has
// scopes of ONVIF's, and its type is a network video one (ONVIF Core Specification,
// 7.3.2.1 and 7.3.2.2). A host that shares files answers the same probe as another
// kind of device.
func (m Match) IsONVIF() bool {
	for _, s := range m.Scopes {
		if strings.HasPrefix(s, scopeRoot) {
			return true
		}
	}
	for _, t := range strings.Fields(m.Types) {
		if strings.HasPrefix(t[strings.LastIndex(t, ":")+1:], "NetworkVideo") {
			return true
		}
	}
	return false
}

// ScopeOf writes a scope.
func ScopeOf(heading, value string) string { return scopeRoot + heading + "/" + url.PathEscape(value) }

// Answer encodes the answer to a probe with the given id.
func (m Match) Answer(to string) []byte {
	return fmt.Appendf(nil,
		`<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><e:Header><w:RelatesTo>%s</w:RelatesTo><w:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</w:Action></e:Header><e:Body><d:ProbeMatches><d:ProbeMatch><w:EndpointReference><w:Address>%s</w:Address></w:EndpointReference><d:Types>%s</d:Types><d:Scopes>%s</d:Scopes><d:XAddrs>%s</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>`,
		text(to), text(m.Endpoint), text(m.Types), text(strings.Join(m.Scopes, " ")), text(strings.Join(m.Where, " ")))
}

func text(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a builder takes everything
	return b.String()
}

// Information is what an ONVIF device tells of itself without a login.
type Information struct {
	Maker    string `xml:"Body>GetDeviceInformationResponse>Manufacturer"`
	Model    string `xml:"Body>GetDeviceInformationResponse>Model"`
	Firmware string `xml:"Body>GetDeviceInformationResponse>FirmwareVersion"`
	Serial   string `xml:"Body>GetDeviceInformationResponse>SerialNumber"`
}

// AskInformation is the request for it, to be posted to /onvif/device_service
// as application/soap+xml.
const AskInformation = `<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:t="http://www.onvif.org/ver10/device/wsdl"><e:Body><t:GetDeviceInformation/></e:Body></e:Envelope>`

// ParseInformation decodes the answer.
func ParseInformation(b []byte) (Information, error) {
	var i Information
	if err := decode(b, &i); err != nil {
		return i, err
	}
	if i.Model == "" && i.Serial == "" {
		return i, ErrMalformed
	}
	return i, nil
}

// Answer encodes the information.
func (i Information) Answer() []byte {
	return fmt.Appendf(nil,
		`<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:t="http://www.onvif.org/ver10/device/wsdl"><e:Body><t:GetDeviceInformationResponse><t:Manufacturer>%s</t:Manufacturer><t:Model>%s</t:Model><t:FirmwareVersion>%s</t:FirmwareVersion><t:SerialNumber>%s</t:SerialNumber><t:HardwareId>1</t:HardwareId></t:GetDeviceInformationResponse></e:Body></e:Envelope>`,
		text(i.Maker), text(i.Model), text(i.Firmware), text(i.Serial))
}
