// Package onvif is the ONVIF driver: operations of the device management service over SOAP
// 1.2 (ONVIF Core Specification, 5 and 8), with a login that is proven by the device's own
// clock (WS-Security UsernameToken Profile 1.1, 3.1).
package onvif

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/antchfx/xmlquery"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/overhttp"
	"redstart/internal/wire/wsd"
)

// clockSlack is by how much a device's clock may differ from where it was reckoned to be
// before a refused login is put down to that.
const clockSlack = 2 * time.Second

// tokenAge is how long the way to the device may take before a refused login is put down to
// that: it takes no token that is older than some seconds.
const tokenAge = 3 * time.Second

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
	*overhttp.Link
	login profile.Login
	url   string
	clock time.Duration // the device's clock, of ours
	asked bool          // the clock was read
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	link := overhttp.Open(peer, section.place(), "ONVIF service")
	return &session{Link: link, login: peer.Login, url: link.Base + cmp.Or(section.Path, "/onvif/device_service")}
}

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no ONVIF operation", driver.ErrNotSent)
	}
	body, err := profile.Fill(m.Body, vars, escaped)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	header := ""
	if !m.Open && s.login.User != "" {
		if header, err = s.token(ctx); err != nil {
			return nil, err
		}
	}
	was, began := s.clock, time.Now()
	answer, err := s.call(ctx, m.Operation, header, body)
	if errors.Is(err, driver.ErrLogin) && header != "" {
		// Somebody may have set its clock since it was read: a token of that time proves nothing.
		s.asked = false
		if header, err = s.token(ctx); err != nil {
			return nil, err
		}
		if (s.clock-was).Abs() < clockSlack && time.Since(began) < tokenAge {
			return nil, driver.ErrLogin
		}
		answer, err = s.call(ctx, m.Operation, header, body)
	}
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
	sum := sha1.Sum(slices.Concat(nonce[:], []byte(created), []byte(s.login.Password)))
	return fmt.Sprintf(`<w:Security xmlns:w="%s" xmlns:u="%s"><w:UsernameToken><w:Username>%s</w:Username>`+
		`<w:Password Type="%s">%s</w:Password><w:Nonce EncodingType="%s">%s</w:Nonce><u:Created>%s</u:Created>`+
		`</w:UsernameToken></w:Security>`, secext, utility, escaped(s.login.User), digest,
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
	answer, err := s.Exchange(request, false)
	s.Tell(operation, []byte(body), answer, err)
	if err != nil {
		return nil, err
	}
	return judged(answer)
}

// judged reads an answer: a fault (SOAP 1.2, 5.4) is a refusal, or says that the login is.
func judged(a overhttp.Answer) (*xmlquery.Node, error) {
	doc, err := xmlquery.Parse(bytes.NewReader(a.Body))
	if a.Status == http.StatusUnauthorized {
		return nil, driver.ErrLogin
	}
	if err != nil || found(doc, "Envelope/Body") == nil {
		return nil, driver.Refusal{Text: "it answered " + a.Line() + ", and no SOAP"}
	}
	fault := found(doc, "Body/Fault")
	switch {
	case fault == nil && a.Status/100 == 2:
		return found(doc, "Envelope/Body"), nil
	case fault == nil:
		return nil, driver.Refusal{Text: "it answered " + a.Line()}
	case strings.Contains(fault.InnerText(), "NotAuthorized"),
		strings.Contains(fault.InnerText(), "FailedAuthentication"):
		return nil, driver.ErrLogin
	}
	why := "a fault without a reason"
	if reason := found(fault, "Reason/Text"); reason != nil {
		why = strings.TrimSpace(reason.InnerText())
	}
	return nil, driver.Refusal{Text: "it refused", Said: why}
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
