package inquiry

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
)

const maxPage = 64 << 10

// page and securePage read title and server of the first page, and the certificate.
var (
	page = question{profile.AskHTTP, oneTime, func(ctx context.Context, t *talker) error {
		return t.page(ctx, "http", 80)
	}}
	securePage = question{profile.AskHTTPS, oneTime, func(ctx context.Context, t *talker) error {
		return t.page(ctx, "https", 443)
	}}
)

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
	pairs := []string{fact.Open, fmt.Sprintf("%d/tcp", port), fact.Server, response.Header.Get("Server")}
	if doc, err := goquery.NewDocumentFromReader(io.LimitReader(response.Body, maxPage)); err == nil {
		pairs = append(pairs, fact.Title, strings.Join(strings.Fields(doc.Find("title").First().Text()), " "))
	}
	if response.TLS != nil && len(response.TLS.PeerCertificates) > 0 {
		pairs = append(pairs, fact.Certificate, response.TLS.PeerCertificates[0].Subject.CommonName)
	}
	t.tell(scheme, "", pairs...)
	return nil
}
