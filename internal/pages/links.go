package pages

import (
	"bytes"
	"io"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// links makes the web addresses that a box writes of itself lead to where its
// page is shown: in what is read as text, while it streams.
type links struct {
	from  *url.URL // the box's own origin
	to    string   // the origin that the browser sees
	form  *regexp.Regexp
	reach int // the longest that may match, with what follows it, in bytes
}

func newLinks(from *url.URL, to string) *links {
	// In scripts and JSON slashes may be escaped.
	form := regexp.MustCompile(`(?i)(https?):(\\?/\\?/)` + regexp.QuoteMeta(from.Hostname()) + `(:[0-9]{1,5})?`)
	return &links{from, to, form, len(`https:\/\/`) + len(from.Hostname()) + len(":65535") + 2}
}

// textual are kinds of content that hold links, besides all kinds of text.
var textual = []string{"application/javascript", "application/json", "application/xhtml+xml", "application/xml",
	"image/svg+xml"}

// apply puts the links of an answer right, if it is text and not compressed. Events
// (text/event-stream) stay as they are: the end of each would wait for the next.
func (l *links) apply(r *http.Response) {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")) // what has no kind is left as it is
	if r.Header.Get("Content-Encoding") != "" || kind == "text/event-stream" || !strings.HasPrefix(kind, "text/") &&
		!slices.Contains(textual, kind) {
		return
	}
	r.Body = &relinked{links: l, body: r.Body}
	r.ContentLength = -1
	r.Header.Del("Content-Length")
	r.Header.Del("ETag") // of other bytes
}

// own reports whether a link goes to the origin that is shown.
func (l *links) own(scheme, port, next string) bool {
	if next != "" && strings.ContainsAny(next[:1], "0123456789") || len(next) > 1 && next[0] == '.' && next[1] >= '0' &&
		next[1] <= '9' {
		return false // a longer address
	}
	return strings.EqualFold(scheme, l.from.Scheme) && portOf(scheme,
		strings.TrimPrefix(port, ":")) == portOf(l.from.Scheme, l.from.Port())
}

// portOf gives the port of a web address; 0 for one that is none.
func portOf(scheme, port string) uint16 {
	if port == "" {
		return map[string]uint16{"http": 80, "https": 443}[strings.ToLower(scheme)]
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return 0
	}
	return uint16(n)
}

// relinked is a body with its links put right.
type relinked struct {
	*links
	body io.ReadCloser
	in   []byte // read, and not looked through yet
	out  []byte // to be given
	err  error  // of the body, given once out is empty
}

// Read implements io.Reader.
func (r *relinked) Read(p []byte) (int, error) {
	for len(r.out) == 0 && r.err == nil {
		var n int
		chunk := make([]byte, 4096)
		n, r.err = r.body.Read(chunk)
		r.in = append(r.in, chunk[:n]...)
		r.look()
	}
	if len(r.out) == 0 {
		return 0, r.err
	}
	n := copy(p, r.out)
	r.out = r.out[n:]
	return n, nil
}

// look moves what cannot be the beginning of a link any more from in to out.
func (r *relinked) look() {
	safe := len(r.in)
	if r.err == nil {
		safe = max(0, len(r.in)-r.reach)
	}
	var out bytes.Buffer
	done := 0
	for _, m := range r.form.FindAllSubmatchIndex(r.in, -1) {
		if m[0] >= safe {
			break
		}
		part := func(i int) string {
			if m[2*i] < 0 {
				return ""
			}
			return string(r.in[m[2*i]:m[2*i+1]])
		}
		if !r.own(part(1), part(3), string(r.in[m[1]:min(len(r.in), m[1]+2)])) {
			continue
		}
		out.Write(r.in[done:m[0]])
		out.WriteString(strings.Replace(r.to, "//", part(2), 1))
		done = m[1]
	}
	rest := max(done, safe)
	out.Write(r.in[done:rest])
	r.in, r.out = slices.Clone(r.in[rest:]), out.Bytes()
}

// Close implements io.Closer.
func (r *relinked) Close() error { return r.body.Close() }
