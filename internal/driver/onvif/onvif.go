// Package onvif is the ONVIF driver: operations of the device management service over SOAP
// 1.2 (ONVIF Core Specification, 5 and 8), with a login that is proven by the device's own
// clock (WS-Security UsernameToken Profile 1.1, 3.1).
package onvif

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/antchfx/xmlquery"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/wire/wsd"
)

const (
	maxBody  = 1 << 20 // bytes of an answer that are read
	moveTime = 15 * time.Second
)

// Namespaces (ONVIF Core Specification, 5.3).
const (
	soap    = "http://www.w3.org/2003/05/soap-envelope"
	device  = "http://www.onvif.org/ver10/device/wsdl"
	schema  = "http://www.onvif.org/ver10/schema"
	secext  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	utility = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	digest  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest"
	encoded = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"
)

// session is one conversation with one device service.
type session struct {
	driver.Peer
	section   Section
	url       string
	http      *http.Client
	transport *http.Transport
	clock     time.Duration // the device's clock, of ours
	asked     bool          // the clock was read
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	s := &session{Peer: peer, section: section}
	scheme, path := section.Over, section.Path
	if scheme == "" {
		scheme = "http"
	}
	if path == "" {
		path = "/onvif/device_service"
	}
	s.url = fmt.Sprintf("%s://%s:%d%s", scheme, peer.Address, section.Port(), path)
	s.transport = &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return peer.Dial(ctx, section.Port())
		},
		MaxResponseHeaderBytes: 64 << 10,
		TLSClientConfig: &tls.Config{
			InsecureSkipVerify: true, // who it is its MAC says; what it shows is told
			VerifyConnection: func(state tls.ConnectionState) error {
				sum := sha256.Sum256(state.PeerCertificates[0].Raw)
				return peer.Trust(hex.EncodeToString(sum[:]))
			},
		},
	}
	s.http = &http.Client{Transport: s.transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	return s
}

// Close implements driver.Session.
func (s *session) Close() { s.transport.CloseIdleConnections() }

// Ready implements driver.Session.
func (s *session) Ready(ctx context.Context) error {
	c, err := s.Dial(ctx, s.section.Port())
	if err != nil {
		return err
	}
	return c.Close()
}

// refusal is an answer that says no.
type refusal struct{ text string }

func (r refusal) Error() string        { return r.text }
func (r refusal) Is(target error) bool { return target == driver.ErrValue }

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no ONVIF operation", driver.ErrNotSent)
	}
	ctx, cancel := context.WithTimeout(ctx, moveTime)
	defer cancel()
	body, err := profile.Fill(m.Body, vars, escaped)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	header := ""
	if !m.Open && s.Login.User != "" {
		if header, err = s.token(ctx); err != nil {
			return nil, err
		}
	}
	answer, err := s.call(ctx, m.Operation, header, body)
	if err != nil {
		return nil, err
	}
	if m.Operation == "SetSystemDateAndTime" {
		s.asked = false // its clock is another one now
	}
	facts := map[string]string{}
	for key, path := range m.Take {
		value, ok := taken(answer, path)
		if !ok {
			return nil, fmt.Errorf("its answer has no %s: there is no %s", key, path)
		}
		facts[key] = value
	}
	return facts, nil
}

// token proves the login by the device's own clock, which is read first, without a login: a
// device takes no token of another time (UsernameToken Profile 1.1, 3.1).
func (s *session) token(ctx context.Context) (string, error) {
	if !s.asked {
		answer, err := s.call(ctx, "GetSystemDateAndTime", "", "")
		if err != nil {
			return "", err
		}
		if told, ok := taken(answer, "UTCDateTime"); ok {
			if at, err := time.Parse(time.RFC3339, told); err == nil {
				s.clock = time.Until(at)
			}
		}
		s.asked = true
	}
	var nonce [16]byte
	_, _ = rand.Read(nonce[:]) // never fails
	created := time.Now().Add(s.clock).UTC().Format("2006-01-02T15:04:05.000Z")
	sum := sha1.Sum(slices.Concat(nonce[:], []byte(created), []byte(s.Login.Password)))
	return fmt.Sprintf(`<w:Security xmlns:w="%s" xmlns:u="%s"><w:UsernameToken><w:Username>%s</w:Username>`+
		`<w:Password Type="%s">%s</w:Password><w:Nonce EncodingType="%s">%s</w:Nonce><u:Created>%s</u:Created>`+
		`</w:UsernameToken></w:Security>`, secext, utility, escaped(s.Login.User), digest,
		base64.StdEncoding.EncodeToString(sum[:]), encoded, base64.StdEncoding.EncodeToString(nonce[:]), created), nil
}

// call makes one call and gives the body of its answer.
func (s *session) call(ctx context.Context, operation, header, body string) (*xmlquery.Node, error) {
	envelope := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="%s" xmlns:t="%s" xmlns:s="%s">`+
		`<e:Header>%s</e:Header><e:Body><t:%s>%s</t:%s></e:Body></e:Envelope>`, soap, device, schema, header, operation,
		body, operation)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, s.url, strings.NewReader(envelope))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	request.Header.Set("Content-Type", `application/soap+xml; charset=utf-8; action="`+device+"/"+operation+`"`)
	response, err := s.http.Do(request)
	if err != nil {
		if errors.Is(err, driver.ErrStranger) {
			return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, driver.ErrStranger)
		}
		return nil, fmt.Errorf("%w from its ONVIF service: %s", driver.ErrNoAnswer, plain(err))
	}
	defer response.Body.Close()
	got, err := io.ReadAll(io.LimitReader(response.Body, maxBody+1))
	if err == nil && len(got) > maxBody {
		err = fmt.Errorf("it is longer than %d KiB", maxBody>>10)
	}
	if err != nil {
		return nil, fmt.Errorf("%w from its ONVIF service: it did not come whole: %w", driver.ErrNoAnswer, err)
	}
	if s.Told != nil {
		s.Told(operation+"\n"+body, response.Status+"\n"+string(got[:min(len(got), 2000)]))
	}
	return judged(response.StatusCode, got)
}

// plain keeps the address, which holds nothing of use, out of an error.
func plain(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, "\": "); i >= 0 {
		text = text[i+3:]
	}
	return text
}

// judged reads an answer: a fault (SOAP 1.2, 5.4) is a refusal, or says that the login is.
func judged(status int, got []byte) (*xmlquery.Node, error) {
	doc, err := xmlquery.Parse(bytes.NewReader(got))
	if status == http.StatusUnauthorized {
		return nil, driver.ErrLogin
	}
	if err != nil || found(doc, "Envelope/Body") == nil {
		return nil, refusal{fmt.Sprintf("it answered %d %s, and no SOAP", status, http.StatusText(status))}
	}
	fault := found(doc, "Body/Fault")
	switch {
	case fault == nil && status/100 == 2:
		return found(doc, "Envelope/Body"), nil
	case fault == nil:
		return nil, refusal{fmt.Sprintf("it answered %d %s", status, http.StatusText(status))}
	case strings.Contains(fault.InnerText(), "NotAuthorized"),
		strings.Contains(fault.InnerText(), "FailedAuthentication"):
		return nil, driver.ErrLogin
	}
	why := "a fault without a reason"
	if reason := found(fault, "Reason/Text"); reason != nil {
		why = strings.TrimSpace(reason.InnerText())
	}
	return nil, refusal{"it refused: " + why}
}

// found gives the first element below a node on a path of local names; nil for none.
func found(n *xmlquery.Node, path string) *xmlquery.Node {
	var expression strings.Builder
	for i, name := range strings.Split(path, "/") {
		expression.WriteString("/")
		if i == 0 {
			expression.WriteString("/")
		}
		fmt.Fprintf(&expression, "*[local-name()='%s']", name)
	}
	at, err := xmlquery.Query(n, "."+expression.String())
	if err != nil {
		return nil
	}
	return at
}

// taken gives what a path leads to: the text of an element, an attribute, or of an element
// that is a date and time (ONVIF Core Specification, 8.3.5) that moment.
func taken(n *xmlquery.Node, path string) (string, bool) {
	if heading, is := strings.CutPrefix(path, "scope "); is {
		return scope(n, heading), true
	}
	path, attribute, _ := strings.Cut(path, "@")
	at := found(n, strings.TrimSuffix(path, "/"))
	switch {
	case at == nil:
		return "", false
	case attribute != "":
		for _, a := range at.Attr {
			if a.Name.Local == attribute {
				return a.Value, true
			}
		}
		return "", false
	case found(at, "Date/Year") != nil:
		return moment(at)
	}
	return strings.TrimSpace(at.InnerText()), true
}

// scope gives what the device says of itself under a heading; "" for nothing.
func scope(n *xmlquery.Node, heading string) string {
	var m wsd.Match
	for _, item := range xmlquery.Find(n, ".//*[local-name()='ScopeItem']") {
		m.Scopes = append(m.Scopes, strings.TrimSpace(item.InnerText()))
	}
	return m.Scope(heading)
}

func moment(at *xmlquery.Node) (string, bool) {
	var part [6]int
	for i, path := range []string{"Date/Year", "Date/Month", "Date/Day", "Time/Hour", "Time/Minute", "Time/Second"} {
		of := found(at, path)
		if of == nil {
			return "", false
		}
		n, err := strconv.Atoi(strings.TrimSpace(of.InnerText()))
		if err != nil {
			return "", false
		}
		part[i] = n
	}
	return time.Date(part[0], time.Month(part[1]), part[2], part[3], part[4], part[5], 0,
		time.UTC).Format(time.RFC3339), true
}

func escaped(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s)) // a builder takes everything
	return out.String()
}
