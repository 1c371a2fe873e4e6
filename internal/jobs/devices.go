package jobs

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/planning"
)

// Devices lists everything found.
func (s *Site) Devices(ctx context.Context) (api.Segment, error) {
	now, err := s.plan.Checked(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	entries, found := now.Entries, now.Devices
	where, err := s.plan.Where(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return api.Segment{}, err
	}
	tags := planning.TagsByDevice(entries)
	out := api.Segment{Devices: []api.DeviceView{}, Arrivals: []api.Presence{}, Surveyed: !began.IsZero(),
		LookOnly: s.all.LookOnly}
	if w := s.watch(); w != nil {
		out.Watched, out.Arrivals = true, append(out.Arrivals, w.arrivals()...)
	}
	if at := s.segment.Plugged(); at != nil {
		out.Dark = at.Dark()
		out.Name, out.Sent, out.Dropped = s.segment.Segment().Name, at.Bench.Sent.Load(), at.Bench.Dropped.Load()
	}
	parts := map[address.MAC]map[string]string{}
	for tag, p := range planning.PartsOf(entries, found) {
		if parts[p.MAC] == nil {
			parts[p.MAC] = map[string]string{}
		}
		parts[p.MAC][p.Part] = tag
	}
	for _, f := range found {
		v := s.all.Plans.ViewOf(f, tags[f.MAC], where(f))
		v.PartTags = parts[f.MAC]
		out.Devices = append(out.Devices, v)
	}
	out.Findings = now.Notices
	return out, nil
}

// Choose says which profile a device has.
func (s *Site) Choose(ctx context.Context, mac address.MAC, c api.Choice) (*api.DeviceView, error) {
	f, err := s.plan.Found(ctx, mac)
	if err != nil {
		return nil, err
	}
	if c.Profile != "" && s.all.Plans.Profiles()[c.Profile] == nil {
		return nil, problem.New(problem.Missing, "there is no such profile",
			"list them with: redstart profile list").About(c.Profile)
	}
	f.Profile, f.Chosen = c.Profile, c.Profile != ""
	f.Recognise(s.all.Plans.Profiles())
	if err := s.store.PutDevice(ctx, f); err != nil {
		return nil, err
	}
	s.arrived(f)
	return s.plan.Device(ctx, mac)
}

// Forget forgets devices that no entry is matched with, all or none. Those still
// on the segment are found again by the next survey.
func (s *Site) Forget(ctx context.Context, macs []address.MAC) error {
	if err := s.store.ForgetDevices(ctx, macs); err != nil {
		return err
	}
	s.plan.Changed()
	return nil
}

// listed are the facts that exported lists have a column for.
var listed = fact.Keys(func(k fact.Kind) bool { return k.Listed })

// deviceColumns are those of exported lists.
var deviceColumns = slices.Concat([]string{"mac", "address", "profile", "kind", "sure", "state"}, listed,
	[]string{"entry", "here", "first", "last", "heard-by"})

// ExportDevices gives all that was found as a file: one line for each device in
// CSV and XLSX, which has a second sheet with every fact; everything in JSON.
func (s *Site) ExportDevices(ctx context.Context, format string) (planning.Download, error) {
	seg, err := s.Devices(ctx)
	if err != nil {
		return planning.Download{}, err
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
		content, err := planfile.Table(format, "", lines)
		return planning.Download{Name: name, Kind: planfile.Kinds[format], Content: content}, err
	case planfile.JSON:
		e := json.NewEncoder(&out)
		e.SetIndent("", " ")
		if err := e.Encode(seg); err != nil {
			return planning.Download{}, err
		}
	case planfile.XLSX:
		workbook := excelize.NewFile()
		defer workbook.Close()
		if err := workbook.SetSheetName("Sheet1", "devices"); err != nil {
			return planning.Download{}, err
		}
		if _, err := workbook.NewSheet("facts"); err != nil {
			return planning.Download{}, err
		}
		for sheet, list := range map[string][][]string{"devices": lines, "facts": facts} {
			for i, l := range list {
				if err := workbook.SetSheetRow(sheet, fmt.Sprintf("A%d", i+1), &l); err != nil {
					return planning.Download{}, err
				}
			}
		}
		if err := workbook.Write(&out); err != nil {
			return planning.Download{}, err
		}
	default:
		return planning.Download{}, problem.New(problem.Usage, "there is no such format",
			"choose csv, xlsx or json").About(format)
	}
	return planning.Download{Name: name, Kind: planfile.Kinds[format], Content: out.Bytes()}, nil
}

// Blink makes a found device show itself.
func (s *Site) Blink(ctx context.Context, mac address.MAC) error {
	if err := s.segment.May(true); err != nil {
		return err
	}
	f, err := s.plan.Found(ctx, mac)
	if err != nil {
		return err
	}
	p := s.all.Plans.Profiles()[f.Profile]
	if p == nil || len(p.Acts[profile.Blink]) == 0 {
		return problem.New(problem.Conflict, "this model cannot be made to blink",
			"compare its MAC and serial with the label").About(mac.String())
	}
	client := driver.New(s.segment.Bench(), driver.Target{MAC: mac, Address: f.AddressNow(), Profile: p})
	defer client.Close()
	_, err = client.Do(ctx, profile.Blink, nil)
	return err
}
