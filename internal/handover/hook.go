package handover

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"redstart/internal/core/chain"
	"redstart/internal/core/problem"
)

// HookHost is where a hook is, without what its address holds besides.
func HookHost(hook string) string {
	u, err := url.Parse(hook)
	if err != nil || hook == "" {
		return ""
	}
	return u.Scheme + "://" + u.Host + "/…"
}

// hookTime is how long whoever is told may take to answer.
const hookTime = 15 * time.Second

// longestURL is how long the address of a hook may be, in characters.
const longestURL = 2000

// CheckHook says what is wrong with the address of a hook; nil when nothing is.
func CheckHook(text string) error {
	u, err := url.Parse(text)
	wrong := func(why string) error {
		return problem.New(problem.Usage, "the hook "+why, "give an address like https://alarms.example/redstart")
	}
	switch {
	case err != nil || len(text) > longestURL || u.Hostname() == "":
		return wrong("is no address")
	case u.User != nil:
		return wrong("has a login in its address, which would be kept in plain text")
	case u.Scheme == "https":
		return nil
	case u.Scheme == "http":
		if a := net.ParseIP(u.Hostname()); a != nil && a.IsLoopback() {
			return nil
		}
		return wrong("is plain http on another computer: what changed at a site is not for everybody on the way")
	}
	return wrong("is no web address")
}

// Tell sends a document to a hook, signed (RFC 9421, Ed25519; its digest by RFC 9530): whoever
// gets it verifies it with the public half of the key that signs records.
func Tell(ctx context.Context, hook string, key ed25519.PrivateKey, doc []byte, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, hookTime)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, hook, bytes.NewReader(doc))
	if err != nil {
		return err
	}
	sum := sha256.Sum256(doc)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Content-Digest", digest)
	// RFC 9421, 2.5: what is signed, one line each, then the parameters.
	params := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="%s";alg="ed25519"`, now.Unix(),
		chain.KeyText(key.Public().(ed25519.PublicKey)))
	base := strings.Join([]string{`"@method": POST`, `"@target-uri": ` + request.URL.String(), `"content-type": application/json`,
		`"content-digest": ` + digest, `"@signature-params": ` + params}, "\n")
	request.Header.Set("Signature-Input", "redstart="+params)
	request.Header.Set("Signature", "redstart=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(base)))+":")
	// It goes where it was sent, and nowhere else.
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := c.Do(request)
	if err != nil {
		// The address may hold what only its owner is to know.
		if own := (*url.Error)(nil); errors.As(err, &own) {
			err = own.Err
		}
		return fmt.Errorf("the hook does not answer: %w", err)
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16)) // what it says is of no use here
	if answer.StatusCode >= 300 {
		return fmt.Errorf("the hook answered %s", answer.Status)
	}
	return nil
}
