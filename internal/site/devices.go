package site

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/store"
)

func (s *Service) recognise(f *device.Found) { f.Recognise(s.Profiles()) }

func (s *Service) viewOf(f *device.Found, tag string, where api.Whereabouts) api.DeviceView {
	v := api.DeviceView{Found: f, Tag: tag, Whereabouts: where, Waits: f.Waits(), Contradictions: f.Contradictions()}
	if p := s.Profiles()[f.Profile]; p != nil {
		v.Kind, v.Blinks = p.Kind, len(p.Acts[profile.Blink]) > 0
	}
	_, _, v.Page = s.pagePort(f)
	return v
}

// brief is what everyone is told of a device that was heard.
func (s *Site) brief(f *device.Found) api.DeviceView {
	tag, err := s.store.TagOf(context.WithoutCancel(s.life), f.MAC)
	if err != nil {
		s.log.Warn("the entry of a device could not be read", "mac", f.MAC.String(), "error", err)
	}
	return s.viewOf(f, tag, whereIs(f, true, time.Time{}))
}

func (s *Site) deviceView(ctx context.Context, f *device.Found, tag string) (*api.DeviceView, error) {
	where, err := s.where(ctx)
	if err != nil {
		return nil, err
	}
	v := s.viewOf(f, tag, where(f))
	return &v, nil
}

// isHere tells who is on the segment: whom the last whole survey heard, or who
// was heard since, and whom the watch does not miss.
func (s *Site) isHere(ctx context.Context) (func(*device.Found) bool, error) {
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return nil, err
	}
	w := s.watch()
	return func(f *device.Found) bool {
		return !f.Last.Before(began.Time) && (w == nil || !w.hasGone(f.MAC))
	}, nil
}

// where tells where devices are.
func (s *Site) where(ctx context.Context) (func(*device.Found) api.Whereabouts, error) {
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return nil, err
	}
	here, err := s.isHere(ctx)
	return func(f *device.Found) api.Whereabouts { return whereIs(f, here(f), began.Time) }, err
}

func whereIs(f *device.Found, here bool, since time.Time) api.Whereabouts {
	w := api.Whereabouts{Here: here}
	at, told := f.Where()
	if w.Was = at; at.IsValid() {
		w.WasAt = store.Stamp{Time: told}
	}
	if here && !told.Before(since) {
		w.Now = at
	}
	return w
}

// here keeps those that are on the segment.
func (s *Site) here(list []*device.Found) []*device.Found {
	is, err := s.isHere(s.life)
	if err != nil {
		return nil // the service is ending
	}
	return slices.DeleteFunc(slices.Clone(list), func(f *device.Found) bool { return !is(f) })
}

// Devices lists everything found.
func (s *Site) Devices(ctx context.Context) (api.Segment, error) {
	now, err := s.checked(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	entries, found := now.entries, now.devices
	where, err := s.where(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	tags := tagsByDevice(entries)
	out := api.Segment{Devices: []api.DeviceView{}, Arrivals: []api.Presence{}, Surveyed: !began.IsZero(),
		LookOnly: s.config.LookOnly}
	if w := s.watch(); w != nil {
		out.Watched, out.Arrivals = true, append(out.Arrivals, w.arrivals()...)
	}
	if at := s.plugged(); at != nil {
		out.Dark = at.dark.Load()
		out.Name, out.Sent, out.Dropped = s.segment().name, at.bench.Sent.Load(), at.bench.Dropped.Load()
	}
	parts := map[address.MAC]map[string]string{}
	for tag, p := range partsOf(entries, found) {
		if parts[p.MAC] == nil {
			parts[p.MAC] = map[string]string{}
		}
		parts[p.MAC][p.Part] = tag
	}
	for _, f := range found {
		v := s.viewOf(f, tags[f.MAC], where(f))
		v.PartTags = parts[f.MAC]
		out.Devices = append(out.Devices, v)
	}
	out.Findings = now.notices
	return out, nil
}

// found gives a device that was found.
func (s *Site) found(ctx context.Context, mac address.MAC) (*device.Found, error) {
	f, err := s.store.Device(ctx, mac)
	if err == nil && f.MAC.IsZero() {
		err = problem.New(problem.Missing, "no such box was found", "find first: redstart find").About(mac.String())
	}
	return f, err
}

// Device gives everything known of a found device.
func (s *Site) Device(ctx context.Context, mac address.MAC) (*api.DeviceView, error) {
	f, err := s.found(ctx, mac)
	if err != nil {
		return nil, err
	}
	tag, err := s.store.TagOf(ctx, mac)
	if err != nil {
		return nil, err
	}
	return s.deviceView(ctx, f, tag)
}

// Choose says which profile a device has.
func (s *Site) Choose(ctx context.Context, mac address.MAC, c api.Choice) (*api.DeviceView, error) {
	f, err := s.found(ctx, mac)
	if err != nil {
		return nil, err
	}
	if c.Profile != "" && s.Profiles()[c.Profile] == nil {
		return nil, problem.New(problem.Missing, "there is no such profile",
			"list them with: redstart profile list").About(c.Profile)
	}
	f.Profile, f.Chosen = c.Profile, c.Profile != ""
	f.Recognise(s.Profiles())
	if err := s.store.PutDevice(ctx, f); err != nil {
		return nil, err
	}
	s.arrived(f)
	return s.Device(ctx, mac)
}

// Forget forgets devices that no entry is matched with, all or none. Those still
// on the segment are found again by the next survey.
func (s *Site) Forget(ctx context.Context, macs []address.MAC) error {
	if err := s.store.ForgetDevices(ctx, macs); err != nil {
		return err
	}
	s.publishEntries()
	return nil
}

// listed are the facts that exported lists have a column for.
var listed = fact.Keys(func(k fact.Kind) bool { return k.Listed })

// deviceColumns are those of exported lists.
var deviceColumns = slices.Concat([]string{"mac", "address", "profile", "kind", "sure", "state"}, listed,
	[]string{"entry", "here", "first", "last", "heard-by"})

// ExportDevices gives all that was found as a file: one line for each device in
// CSV and XLSX, which has a second sheet with every fact; everything in JSON.
func (s *Site) ExportDevices(ctx context.Context, format string) (Download, error) {
	seg, err := s.Devices(ctx)
	if err != nil {
		return Download{}, err
	}
	name := s.store.Key + "-found." + format
	const stamp = "2006-01-02T15:04:05Z07:00"
	lines, facts := [][]string{deviceColumns}, [][]string{{"mac", "part", "fact", "value", "protocol", "first", "last"}}
	for _, d := range seg.Devices {
		at := ""
		if d.Now.IsValid() {
			at = d.Now.String()
		}
		line := []string{d.MAC.String(), at, d.Profile, d.Kind, fmt.Sprint(d.Sure), d.State}
		for _, key := range listed {
			line = append(line, d.Value(key))
		}
		lines = append(lines, append(line, d.Tag, fmt.Sprint(d.Here), d.First.UTC().Format(stamp),
			d.Last.UTC().Format(stamp), strings.Join(d.Protocols(), " ")))
		for _, x := range d.Facts {
			facts = append(facts, []string{d.MAC.String(), x.Part, x.Key, x.Value, x.Protocol,
				x.First.UTC().Format(stamp), x.Last.UTC().Format(stamp)})
		}
	}
	var out bytes.Buffer
	switch format {
	case planfile.CSV:
		content, err := tableFile(format, "", lines)
		return Download{name, fileKinds[format], content}, err
	case planfile.JSON:
		e := json.NewEncoder(&out)
		e.SetIndent("", " ")
		if err := e.Encode(seg); err != nil {
			return Download{}, err
		}
	case planfile.XLSX:
		workbook := excelize.NewFile()
		defer workbook.Close()
		if err := workbook.SetSheetName("Sheet1", "devices"); err != nil {
			return Download{}, err
		}
		if _, err := workbook.NewSheet("facts"); err != nil {
			return Download{}, err
		}
		for sheet, list := range map[string][][]string{"devices": lines, "facts": facts} {
			for i, l := range list {
				if err := workbook.SetSheetRow(sheet, fmt.Sprintf("A%d", i+1), &l); err != nil {
					return Download{}, err
				}
			}
		}
		if err := workbook.Write(&out); err != nil {
			return Download{}, err
		}
	default:
		return Download{}, problem.New(problem.Usage, "there is no such format",
			"choose csv, xlsx or json").About(format)
	}
	return Download{name, fileKinds[format], out.Bytes()}, nil
}

// Blink makes a found device show itself.
func (s *Site) Blink(ctx context.Context, mac address.MAC) error {
	if err := s.may(true); err != nil {
		return err
	}
	f, err := s.found(ctx, mac)
	if err != nil {
		return err
	}
	p := s.Profiles()[f.Profile]
	if p == nil || len(p.Acts[profile.Blink]) == 0 {
		return problem.New(problem.Conflict, "this model cannot be made to blink",
			"compare its MAC and serial with the label").About(mac.String())
	}
	client := driver.New(s.bench(), driver.Target{MAC: mac, Address: f.AddressNow(), Profile: p})
	defer client.Close()
	_, err = client.Do(ctx, profile.Blink, nil)
	return err
}
