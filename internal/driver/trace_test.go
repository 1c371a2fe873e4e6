package driver

import (
	"strings"
	"testing"

	"redstart/internal/core/profile"
)

// Who looks on at a trial sees no secret, however it is written, and nothing that a terminal
// would obey.
func TestWhatATraceShows(t *testing.T) {
	var got Exchange
	c := &Client{target: Target{Profile: &profile.Profile{}, Trace: func(x Exchange) { got = x }}}
	const secret = `a&b<"c d/é`
	c.told = []Exchange{{
		Sent: "x=" + "a%26b%3C%22c+d%2F%C3%A9" + ` {"p":"a\u0026b\u003c\"c d/é"} <p>a&amp;b&lt;&#34;c d/é</p> name=lamp`,
		Got:  "\x1b]0;owned\x07200\nyou said " + secret + "\u202e\xff",
	}}
	c.trace(profile.Name, 2, map[string]string{"password": secret, "name": "lamp"}, nil)
	if strings.Contains(got.Sent, "b") || strings.Count(got.Sent, "•••") != 3 || !strings.Contains(got.Sent, "name=lamp") {
		t.Errorf("sent %q", got.Sent)
	}
	if got.Got != "]0;owned200\nyou said •••?" || got.Move != 2 {
		t.Errorf("got %q", got.Got)
	}
}
