package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
)

// Interfaces lists the service's network interfaces and listens to each.
func (c *Client) Interfaces(ctx context.Context, seconds float64) ([]api.InterfaceView, error) {
	return get[[]api.InterfaceView](ctx, c, fmt.Sprintf("/api/interfaces?listen=%g", seconds))
}

// Plug has the site use a segment, and plugs the service into it first where needed.
func (c *Client) Plug(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPut, c.at("/segment"), api.Plugged{Interface: name}, nil)
}

// Unplug has the service leave a segment.
func (c *Client) Unplug(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/segments/"+url.PathEscape(name), nil, nil)
}

// Segments lists the segments that the service is on.
func (c *Client) Segments(ctx context.Context) ([]api.SegmentView, error) {
	return get[[]api.SegmentView](ctx, c, "/api/segments")
}

// Devices lists everything found.
func (c *Client) Devices(ctx context.Context) (api.Segment, error) {
	return get[api.Segment](ctx, c, c.at("/devices"))
}

func devicePath(mac address.MAC) string { return "/devices/" + url.PathEscape(mac.String()) }

// Device gives everything known of a found device.
func (c *Client) Device(ctx context.Context, mac address.MAC) (api.DeviceView, error) {
	return get[api.DeviceView](ctx, c, c.at(devicePath(mac)))
}

// Forget forgets found devices, all or none.
func (c *Client) Forget(ctx context.Context, macs ...address.MAC) error {
	return c.call(ctx, http.MethodPost, c.at("/devices/forget"), api.Macs{MACs: macs}, nil)
}

// Choose says which profile a device has; "" takes the choice back.
func (c *Client) Choose(ctx context.Context, mac address.MAC, profile string) error {
	return c.call(ctx, http.MethodPut, c.at(devicePath(mac)+"/profile"), api.Choice{Profile: profile}, nil)
}

// Blink makes a device show itself.
func (c *Client) Blink(ctx context.Context, mac address.MAC) error {
	return c.call(ctx, http.MethodPost, c.at(devicePath(mac)+"/blink"), nil, nil)
}

// Try carries out acts of a profile with a box.
func (c *Client) Try(ctx context.Context, mac address.MAC, in api.Trial) (api.Tried, error) {
	return post[api.Tried](ctx, c, c.at("/devices/"+mac.String()+"/trials"), in)
}

// OpenPage opens a device's own page and tells where it is.
func (c *Client) OpenPage(ctx context.Context, mac address.MAC) (api.PageView, error) {
	return post[api.PageView](ctx, c, c.at(devicePath(mac)+"/page"), nil)
}

// ClosePage closes a device's own page.
func (c *Client) ClosePage(ctx context.Context, mac address.MAC) error {
	return c.call(ctx, http.MethodDelete, c.at(devicePath(mac)+"/page"), nil, nil)
}

// Found gives everything found as a file.
func (c *Client) Found(ctx context.Context, format string) (content []byte, err error) {
	err = c.call(ctx, http.MethodGet, c.at("/found?format="+url.QueryEscape(format)), nil, &content)
	return content, err
}

// Find starts a survey.
func (c *Client) Find(ctx context.Context, o api.FindOptions) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/surveys"), o)
}

// Surveys lists the surveys, latest first.
func (c *Client) Surveys(ctx context.Context) ([]api.Survey, error) {
	return get[[]api.Survey](ctx, c, c.at("/surveys"))
}

// Capture gives the packets of a survey.
func (c *Client) Capture(ctx context.Context, id int64) (content []byte, err error) {
	err = c.call(ctx, http.MethodGet, c.at(fmt.Sprintf("/surveys/%d/capture", id)), nil, &content)
	return content, err
}

// Watch begins or ends the standing watch.
func (c *Client) Watch(ctx context.Context, on bool) error {
	return c.call(ctx, http.MethodPut, c.at("/watch"), api.Watching{On: on}, nil)
}

// Askers lists the boxes that wait for an address over DHCP.
func (c *Client) Askers(ctx context.Context) ([]api.Asker, error) {
	return get[[]api.Asker](ctx, c, c.at("/askers"))
}

// HandOut gives planned addresses over DHCP.
func (c *Client) HandOut(ctx context.Context, in api.HandOut) (api.Work, error) {
	return post[api.Work](ctx, c, c.at("/leases"), in)
}

// Proposals lists proposed matches and what is left over.
func (c *Client) Proposals(ctx context.Context) (match.Result, error) {
	return get[match.Result](ctx, c, c.at("/matches"))
}

// Accept accepts proposed matches.
func (c *Client) Accept(ctx context.Context, in api.Acceptance) ([]match.Proposal, error) {
	return post[[]match.Proposal](ctx, c, c.at("/matches"), in)
}

// UndoMatches undoes matches and gives the entries' tags.
func (c *Client) UndoMatches(ctx context.Context, in api.Undo) ([]string, error) {
	return post[[]string](ctx, c, c.at("/matches/undo"), in)
}

// Match matches by hand.
func (c *Client) Match(ctx context.Context, tag string, with api.MatchWith) error {
	return c.call(ctx, http.MethodPut, c.at(entryPath(tag)+"/match"), with, nil)
}

// Lock keeps the matches of entries from being changed, or lets them be, all or none.
func (c *Client) Lock(ctx context.Context, in api.Locking) error {
	return c.call(ctx, http.MethodPut, c.at("/locks"), in, nil)
}

// Replace puts a new box in the place of an entry's.
func (c *Client) Replace(ctx context.Context, tag string, in api.Replacement) (api.Replaced, error) {
	return post[api.Replaced](ctx, c, c.at(entryPath(tag)+"/replace"), in)
}

// Scan takes in a scanned label.
func (c *Client) Scan(ctx context.Context, in api.Scan) (api.Scanned, error) {
	return post[api.Scanned](ctx, c, c.at("/scans"), in)
}

// Adopt takes found devices into the plan.
func (c *Client) Adopt(ctx context.Context, in api.Adoption, preview bool) (api.Edited, error) {
	return post[api.Edited](ctx, c, c.at(fmt.Sprintf("/adoptions?preview=%v", preview)), in)
}
