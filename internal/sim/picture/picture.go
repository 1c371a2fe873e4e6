// Package picture simulates a box that shows the picture of a camera: it truly signs in
// there, over its own host, to find out whether it gets one.
package picture

import (
	"context"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/icholy/digest"

	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
)

// patience is how long it waits for the camera.
const patience = 8 * time.Second

// Got says whether the box gets the picture of a stream with a login: yes or no; "" where
// no stream is set.
func Got(b *box.Box, stream, user, password string) string {
	at, err := url.Parse(stream)
	if stream == "" || err != nil {
		return ""
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at.Hostname()+"/camera/session", nil)
	if err != nil {
		return "no"
	}
	over := &http.Transport{DialContext: b.Dial, DisableKeepAlives: true}
	client := &http.Client{Transport: &digest.Transport{Username: user, Password: password, Transport: over}}
	answer, err := client.Do(r)
	if err != nil {
		return "no"
	}
	_ = answer.Body.Close() // nothing of it is read
	if answer.StatusCode != http.StatusOK {
		return "no"
	}
	return "yes"
}

// Reaches says whether the box reaches another at an address: yes or no; "" where none is set.
func Reaches(b *box.Box, address string) string {
	if address == "" {
		return ""
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	c, err := b.Dial(ctx, "tcp", net.JoinHostPort(address, "80"))
	if err != nil {
		return "no"
	}
	_ = c.Close() // it was reached
	return "yes"
}

// On adds to a page of a door station whether the picture is there, and the monitor that it
// rings at.
func On(p forms.Page, of func(*box.Box) (ringsAt, stream, user, password string)) forms.Page {
	show := p.Show
	p.Show = func(b *box.Box) [][2]string {
		ringsAt, stream, user, password := of(b)
		return append(show(b), [2]string{"picture", Got(b, stream, user, password)},
			[2]string{"station", Reaches(b, ringsAt)})
	}
	return p
}
