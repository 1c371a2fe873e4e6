// Package inquiry asks a found device who it is, as far as the profiles that
// may fit it want: its page, its certificate, its shell's banner, its ONVIF
// device information, its SNMP tables. It only reads.
package inquiry

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/PuerkitoBio/goquery"

	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/wsd"
)

const (
	wholeTime = 15 * time.Second // for one device
	oneTime   = 4 * time.Second  // for one question
	maxPage   = 64 << 10
	maxBanner = 255 // RFC 4253, 4.2
)

// Inquirer asks devices over a bench.
type Inquirer struct {
	Bench    *bench.Bench
	Profiles profile.Set
	Avoid    func(netip.Addr) bool // addresses that are not ours to borrow
}

// Ask gives what a device tells. The error says that it told nothing, or that
// some of it did not come in time: then it is worth asking again.
func (q Inquirer) Ask(ctx context.Context, f *device.Found) ([]device.Sighting, error) {
	ctx, cancel := context.WithTimeout(ctx, wholeTime)
	defer cancel()
	var asks []string
	var ports []uint16
	var fitting []*profile.Profile
	for _, id := range append([]string{f.Profile}, f.Maybe...) {
		if p := q.Profiles[id]; p != nil {
			fitting = append(fitting, p)
			asks, ports = append(asks, p.Ask...), append(ports, p.Ports...)
		}
	}
	at := f.AddressNow()
	if len(fitting) == 0 || !at.IsValid() {
		return nil, nil
	}
	var told []device.Sighting
	var failed error
	for _, p := range fitting {
		if len(p.Acts[profile.Identify]) == 0 || !p.NeedsAddress(profile.Identify) {
			continue
		}
		talk := driver.New(q.Bench, driver.Target{MAC: f.MAC, Address: at, Bits: p.Factory.Address.Bits, Profile: p, Avoid: q.Avoid})
		facts, err := talk.Do(ctx, profile.Identify, nil)
		talk.Close()
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		told = append(told, device.Sighting{MAC: f.MAC, Protocol: "web", At: time.Now(), Facts: facts})
	}
	if len(asks) > 0 {
		talk, err := q.Bench.Open(ctx, bench.Peer{MAC: f.MAC, Address: at, Bits: fitting[0].Factory.Address.Bits, Avoid: q.Avoid})
		if err != nil {
			return told, errors.Join(failed, err)
		}
		defer talk.Close()
		t := &talker{Conversation: talk, at: time.Now(), found: f, profile: fitting[0], isSwitch: fitting[0].Kind == "switch"}
		slices.Sort(asks)
		for _, ask := range slices.Compact(asks) {
			if err := t.ask(ctx, ask); err != nil {
				failed = errors.Join(failed, err)
			}
		}
		t.knock(ctx, ports)
		told = append(told, t.told...)
	}
	// A refusal is an answer; what did not come in time may come next time.
	var n net.Error
	late := errors.Is(failed, context.DeadlineExceeded) || errors.As(failed, &n) && n.Timeout()
	if len(told) > 0 && !late {
		failed = nil
	}
	return told, failed
}

// talker asks one device.
type talker struct {
	*bench.Conversation
	at       time.Time // one for all that is told: what is missing from the same reading is no more
	found    *device.Found
	profile  *profile.Profile // that fits best
	isSwitch bool
	told     []device.Sighting
}

func (t *talker) tell(protocol, part string, pairs ...string) {
	s := device.Sighting{MAC: t.found.MAC, Part: part, Protocol: protocol, At: t.at, Facts: map[string]string{}}
	for i := 0; i < len(pairs); i += 2 {
		s.Facts[pairs[i]] = pairs[i+1]
	}
	t.told = append(t.told, s)
}

func (t *talker) ask(ctx context.Context, what string) error {
	ctx, cancel := context.WithTimeout(ctx, oneTime)
	defer cancel()
	switch what {
	case profile.AskHTTP:
		return t.page(ctx, "http", 80)
	case profile.AskHTTPS:
		return t.page(ctx, "https", 443)
	case profile.AskSSH:
		return t.banner(ctx)
	case profile.AskONVIF:
		return t.onvif(ctx)
	default:
		return t.snmp(ctx)
	}
}

// client makes a web client to the device; any certificate will do, since it is
// what is asked for.
func (t *talker) client(port uint16) *http.Client {
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return t.Dial(ctx, port) },
			TLSClientConfig:   &tls.Config{InsecureSkipVerify: true},
		},
	}
}

func (t *talker) url(scheme string, port uint16, path string) string {
	return fmt.Sprintf("%s://%s:%d%s", scheme, t.found.AddressNow(), port, path)
}

// page reads title and server of the first page, and the certificate.
func (t *talker) page(ctx context.Context, scheme string, port uint16) error {
	if s, p, ok := t.profile.Page(); ok && s == scheme {
		port = p
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, t.url(scheme, port, "/"), nil)
	if err != nil {
		return err
	}
	response, err := t.client(port).Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	pairs := []string{device.Open, fmt.Sprintf("%d/tcp", port), device.Server, response.Header.Get("Server")}
	if doc, err := goquery.NewDocumentFromReader(io.LimitReader(response.Body, maxPage)); err == nil {
		pairs = append(pairs, device.Title, strings.Join(strings.Fields(doc.Find("title").First().Text()), " "))
	}
	if response.TLS != nil && len(response.TLS.PeerCertificates) > 0 {
		pairs = append(pairs, device.Certificate, response.TLS.PeerCertificates[0].Subject.CommonName)
	}
	t.tell(scheme, "", pairs...)
	return nil
}

// banner reads the shell's greeting (RFC 4253, 4.2) and says nothing.
func (t *talker) banner(ctx context.Context) error {
	c, err := t.Dial(ctx, 22)
	if err != nil {
		return err
	}
	defer c.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = c.SetReadDeadline(deadline) // a connection without deadlines ends with the conversation
	}
	line, err := bufio.NewReader(io.LimitReader(c, maxBanner)).ReadString('\n')
	if line == "" {
		return err
	}
	t.tell("ssh", "", device.Banner, line, device.Open, "22/tcp")
	return nil
}

func (t *talker) onvif(ctx context.Context) error {
	port := uint16(80)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, t.url("http", port, "/onvif/device_service"), bytes.NewReader([]byte(wsd.AskInformation)))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/soap+xml; charset=utf-8")
	response, err := t.client(port).Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxPage))
	if err != nil {
		return err
	}
	i, err := wsd.ParseInformation(body)
	if err != nil {
		return err
	}
	t.tell("onvif", "", device.Vendor, i.Maker, device.Model, i.Model, device.Firmware, i.Firmware, device.Serial, i.Serial)
	return nil
}

// knock notes which of the profile's ports answer.
func (t *talker) knock(ctx context.Context, ports []uint16) {
	slices.Sort(ports)
	for _, port := range slices.Compact(ports) {
		open := fmt.Sprintf("%d/tcp", port)
		if slices.ContainsFunc(t.told, func(s device.Sighting) bool { return s.Facts[device.Open] == open }) {
			continue
		}
		knocking, cancel := context.WithTimeout(ctx, oneTime)
		c, err := t.Dial(knocking, port)
		cancel()
		if err == nil {
			c.Close()
			t.tell("tcp", "", device.Open, open)
		}
	}
}
