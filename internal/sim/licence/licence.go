// Package licence simulates what suppliers of boxes do with host ids: they write a licence
// for each, which no other host takes.
package licence

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"strings"
)

// HostID is what a licence is made for, of whatever it follows from.
func HostID(of ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(of, " ")))
	return hex.EncodeToString(sum[:6])
}

// Text is the licence of a maker for a host.
func Text(maker, host string) string {
	return strings.ToLower(strings.Fields(maker)[0]) + " licence " + host + "\n"
}

// Fits reports whether an uploaded file, the part of that name, is the licence for a host;
// why says what is wrong with it.
func Fits(r *http.Request, part, maker, host string) (why string) {
	if err := r.ParseMultipartForm(1 << 20); err != nil {
		return "no file"
	}
	f, _, err := r.FormFile(part)
	if err != nil {
		return "no file"
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 4096))
	if err != nil || strings.TrimSpace(string(text)) != strings.TrimSpace(Text(maker, host)) {
		return "this licence is for another host"
	}
	return ""
}
