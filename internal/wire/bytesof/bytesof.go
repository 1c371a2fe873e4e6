// Package bytesof lets tests write wire bytes out as in a standard's tables.
package bytesof

import (
	"encoding/hex"
	"strings"
	"testing"
)

// Hex reads hexadecimal digits with any white space between them.
func Hex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}
