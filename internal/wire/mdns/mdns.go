// Package mdns makes the questions of Multicast DNS (RFC 6762) and DNS-Based
// Service Discovery (RFC 6763) and reads the answers. The message format itself
// is a library's.
package mdns

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// Group is where everybody listens (RFC 6762, 3).
var Group = netip.MustParseAddrPort("224.0.0.251:5353")

// TTL is the hop limit of every message (RFC 6762, 11).
const TTL = 255

const (
	maxSize    = 9000 // RFC 6762, 17
	maxRecords = 128
	everyKind  = "_services._dns-sd._udp.local." // RFC 6763, 9
)

// kinds are asked for by name as well: many responders do not enumerate.
var kinds = []string{"_http._tcp.local.", "_https._tcp.local.", "_ssh._tcp.local.", "_rtsp._tcp.local.",
	"_device-info._tcp.local.", "_workstation._tcp.local."}

// ErrMalformed says that the bytes are no answer.
var ErrMalformed = errors.New("mdns: not an answer")

// Question asks for everything that is offered.
func Question() []byte {
	m := dns.Msg{}
	for _, k := range append([]string{everyKind}, kinds...) {
		m.Question = append(m.Question, dns.Question{Name: k, Qtype: dns.TypePTR, Qclass: dns.ClassINET})
	}
	b, err := m.Pack()
	if err != nil {
		return nil // the names above are well formed
	}
	return b
}

// IsQuestion reports whether the datagram asks.
func IsQuestion(b []byte) bool {
	var m dns.Msg
	return len(b) <= maxSize && m.Unpack(b) == nil && !m.Response && len(m.Question) > 0
}

// Answer is what a responder tells.
type Answer struct {
	Host      string // without .local
	Instances []string
	Kinds     []string          // like _http._tcp
	Text      map[string]string // of TXT records: key to value
	Addresses []netip.Addr
}

// Parse decodes an answer or an announcement.
func Parse(b []byte) (Answer, error) {
	var m dns.Msg
	if len(b) > maxSize || m.Unpack(b) != nil || !m.Response {
		return Answer{}, ErrMalformed
	}
	a := Answer{Text: map[string]string{}}
	records := append(m.Answer, m.Extra...)
	if len(records) == 0 || len(records) > maxRecords {
		return Answer{}, ErrMalformed
	}
	add := func(list []string, s string) []string {
		for _, x := range list {
			if x == s {
				return list
			}
		}
		return append(list, s)
	}
	for _, r := range records {
		switch r := r.(type) {
		case *dns.PTR:
			if strings.EqualFold(r.Hdr.Name, everyKind) {
				a.Kinds = add(a.Kinds, strings.TrimSuffix(r.Ptr, ".local."))
				continue
			}
			if instance, ok := cutKind(r.Ptr, r.Hdr.Name); ok {
				a.Kinds = add(a.Kinds, strings.TrimSuffix(r.Hdr.Name, ".local."))
				a.Instances = add(a.Instances, instance)
			}
		case *dns.SRV:
			a.Host = strings.TrimSuffix(r.Target, ".local.")
		case *dns.TXT:
			for _, t := range r.Txt {
				if key, value, ok := strings.Cut(t, "="); ok {
					a.Text[strings.ToLower(key)] = value
				}
			}
		case *dns.A:
			a.Host = strings.TrimSuffix(r.Hdr.Name, ".local.")
			if ip, ok := netip.AddrFromSlice(r.A.To4()); ok {
				a.Addresses = append(a.Addresses, ip)
			}
		case *dns.AAAA:
			a.Host = strings.TrimSuffix(r.Hdr.Name, ".local.")
			if ip, ok := netip.AddrFromSlice(r.AAAA.To16()); ok {
				a.Addresses = append(a.Addresses, ip)
			}
		}
	}
	return a, nil
}

// cutKind takes the kind off an instance's name and its escapes away (RFC 6763, 4.3).
func cutKind(name, kind string) (string, bool) {
	instance, ok := strings.CutSuffix(name, "."+kind)
	if !ok {
		return "", false
	}
	var out []byte
	for i := 0; i < len(instance); i++ {
		if instance[i] == '\\' && i+3 < len(instance) && instance[i+1] >= '0' && instance[i+1] <= '2' {
			n := int(instance[i+1]-'0')*100 + int(instance[i+2]-'0')*10 + int(instance[i+3]-'0')
			out = append(out, byte(n))
			i += 3
			continue
		}
		if instance[i] == '\\' && i+1 < len(instance) {
			i++
		}
		out = append(out, instance[i])
	}
	return string(out), true
}

// Announce encodes what a device offers: one instance of one kind of service.
func Announce(instance, kind, host string, port uint16, at netip.Addr, text map[string]string) []byte {
	full := instance + "." + kind + ".local."
	head := func(name string, t uint16) dns.RR_Header {
		return dns.RR_Header{Name: name, Rrtype: t, Class: dns.ClassINET, Ttl: 120}
	}
	txt := &dns.TXT{Hdr: head(full, dns.TypeTXT)}
	for _, k := range sorted(text) {
		txt.Txt = append(txt.Txt, k+"="+text[k])
	}
	m := dns.Msg{MsgHdr: dns.MsgHdr{Response: true, Authoritative: true},
		Answer: []dns.RR{&dns.PTR{Hdr: head(kind+".local.", dns.TypePTR), Ptr: full}},
		Extra: []dns.RR{&dns.SRV{Hdr: head(full, dns.TypeSRV), Port: port, Target: host + ".local."}, txt,
			&dns.A{Hdr: head(host+".local.", dns.TypeA), A: at.AsSlice()}}}
	b, err := m.Pack()
	if err != nil {
		return nil // a device whose names cannot be written stays silent
	}
	return b
}

func sorted(m map[string]string) []string {
	return slices.Sorted(maps.Keys(m))
}
