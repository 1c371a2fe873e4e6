// Package onvif simulates what the device services of ONVIF devices have in common: SOAP
// envelopes, faults, and a login that is proven by the device's own clock.
package onvif

import (
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Skew is how far the time of a login may be from the device's clock.
const Skew = 5 * time.Second

// Envelope wraps an answer; t: is the device service, s: the common schema.
func Envelope(body string) string {
	return `<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" ` +
		`xmlns:t="http://www.onvif.org/ver10/device/wsdl" xmlns:s="http://www.onvif.org/ver10/schema" ` +
		`xmlns:ter="http://www.onvif.org/ver10/error"><e:Body>` + body + `</e:Body></e:Envelope>`
}

// Fault is an answer that says no (ONVIF Core Specification, 5.11.2).
func Fault(subcode, reason string) string {
	return Envelope(fmt.Sprintf(`<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>%s</e:Value></e:Subcode>`+
		`</e:Code><e:Reason><e:Text xml:lang="en">%s</e:Text></e:Reason></e:Fault>`, subcode, Escaped(reason)))
}

// Escaped is text in XML.
func Escaped(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s)) // a builder takes everything
	return out.String()
}

// Years is now, some years on.
func Years(n int) time.Time { return time.Now().AddDate(n, 0, 0) }

// UTC writes a moment as the schema's DateTime.
func UTC(at time.Time) string {
	at = at.UTC()
	return fmt.Sprintf(`<s:UTCDateTime><s:Time><s:Hour>%d</s:Hour><s:Minute>%d</s:Minute><s:Second>%d</s:Second></s:Time>`+
		`<s:Date><s:Year>%d</s:Year><s:Month>%d</s:Month><s:Day>%d</s:Day></s:Date></s:UTCDateTime>`, at.Hour(),
		at.Minute(),
		at.Second(), at.Year(), at.Month(), at.Day())
}

// Check reads the login of a call and checks its proof (UsernameToken Profile 1.1, 3.1)
// against the password of the user it names and the device's clock. Without a login the user
// is "".
func Check(call []byte, clock time.Time, passwordOf func(user string) string) (user string, ok bool) {
	var in struct {
		Token struct {
			Username, Password, Nonce, Created string
		} `xml:"Header>Security>UsernameToken"`
	}
	if err := xml.Unmarshal(call, &in); err != nil || in.Token.Username == "" {
		return "", false
	}
	nonce, err := base64.StdEncoding.DecodeString(in.Token.Nonce)
	created, err2 := time.Parse(time.RFC3339, in.Token.Created)
	if err != nil || err2 != nil || created.Sub(clock).Abs() > Skew {
		return in.Token.Username, false
	}
	sum := sha1.Sum(slices.Concat(nonce, []byte(in.Token.Created), []byte(passwordOf(in.Token.Username))))
	want := base64.StdEncoding.EncodeToString(sum[:])
	return in.Token.Username, subtle.ConstantTimeCompare([]byte(want), []byte(in.Token.Password)) == 1
}
