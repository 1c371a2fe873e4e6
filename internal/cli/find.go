package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
	"redstart/internal/survey"
)

// findFlags are the options of find.
type findFlags struct {
	api.FindOptions
	gentle, known, list, watch, stop bool
	listen                           float64
	save, only                       string
}

func (a *app) find() *cobra.Command {
	var f findFlags
	c := &cobra.Command{Use: "find", Short: "Find the devices on the segment",
		Long: `Asks the segment who is there, in every way that a box may answer: over ARP at
every factory address, the planned subnets and the ranges given; over DCP,
WS-Discovery, BACnet, EtherNet/IP, multicast DNS, SSDP, DHCP, IPv6 and SNMP; and
it listens. Devices that share an address are found one by one, by their MACs.
Nothing is set on any device.`,
		Example: `  redstart find --list                    # which interface is the right one
  redstart find                           # everything, as fast as is kind
  redstart find --gentle                  # on a live plant
  redstart find --range 172.23.0.0/16     # look further
  redstart find --watch                   # who comes and who goes, until Ctrl-C`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if f.list {
				s, err := a.service(ctx)
				if err != nil {
					return err
				}
				return a.printInterfaces(ctx, s, f.listen)
			}
			c, err := a.clientOrNewSite(ctx)
			if err != nil {
				return err
			}
			if f.watch {
				return a.watchSegment(ctx, c)
			}
			if f.stop {
				if err := a.stop(ctx, c, api.Finding, 0); err != nil {
					return err
				}
				a.say("Stopped; what was found is kept.")
				return nil
			}
			if !f.known {
				if err := a.survey(ctx, c, f); err != nil {
					return err
				}
			}
			if f.save != "" {
				return a.saveFound(ctx, c, f.save)
			}
			return a.printDevices(ctx, c, f.only)
		}}
	flags := c.Flags()
	flags.BoolVar(&f.gentle, "gentle", false, fmt.Sprintf("at most %d frames per second, for a live plant",
		survey.Gentle))
	flags.BoolVar(&f.LookOnly, "look-only", false, "gentle, and hold no conversation with any device")
	flags.IntVar(&f.Pace, "pace", 0, "`frames` per second; the service's own unless given")
	flags.StringArrayVar(&f.Ranges, "range", nil,
		"look there too: `RANGE` like 172.23.0.0/16 or 10.0.0.1-10.0.0.99; may be given again")
	flags.BoolVar(&f.Capture, "capture", false, "keep the packets; save them with: redstart find packets")
	flags.BoolVar(&f.known, "known", false, "send nothing; list what was found before")
	flags.StringVar(&f.only, "only", "", "list only devices that hold this `TEXT` in any column")
	flags.StringVar(&f.save, "save", "", "save what was found to this `file` (csv, xlsx or json)")
	flags.BoolVar(&f.list, "list", false, "list the computer's interfaces and what is heard on each; send nothing")
	flags.Float64Var(&f.listen, "listen", 2, "with --list, listen for so many `seconds`")
	flags.BoolVar(&f.watch, "watch", false, "watch who comes and who goes, until Ctrl-C")
	flags.BoolVar(&f.stop, "stop", false, "stop the survey under way, and keep what it found")
	c.MarkFlagsMutuallyExclusive("gentle", "pace", "look-only")
	c.MarkFlagsMutuallyExclusive("list", "watch", "known", "stop")
	c.AddCommand(a.findShow(), a.findBlink(), a.findPage(), a.findChoose(), a.findForget(), a.findHistory(),
		a.findPackets(), a.findPlug(), a.findUnplug(), a.findSegments())
	return c
}

func (a *app) survey(ctx context.Context, c *client.Client, f findFlags) error {
	if f.gentle || f.LookOnly {
		f.Pace = survey.Gentle
	}
	ended, err := a.follow(ctx, c, func() (api.Work, error) { return c.Find(ctx, f.FindOptions) })
	if err != nil {
		return err
	}
	if ended.Text != "" && a.output == "table" {
		a.say("%s%s.\n", strings.ToUpper(ended.Text[:1]), ended.Text[1:])
	}
	return nil
}

func macArg(s string) (address.MAC, error) {
	mac, err := address.ParseMAC(s)
	if err == nil && mac.IsZero() {
		err = fmt.Errorf("no MAC is given")
	}
	if err != nil {
		return mac, problem.New(problem.Usage, err.Error(), "")
	}
	return mac, nil
}

func macArgs(args []string) (list []address.MAC, err error) {
	for _, arg := range args {
		mac, err := macArg(arg)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(list, mac) {
			list = append(list, mac)
		}
	}
	return list, nil
}

// modelText says what a device is taken for, and how sure that is.
func modelText(d api.DeviceView) string {
	switch {
	case d.Profile != "":
		return fmt.Sprintf("%s (%d %%)", d.Profile, d.Sure)
	case len(d.Maybe) > 0:
		return strings.Join(d.Maybe, " or ") + "?"
	}
	return "unknown"
}

// modelCell is the profile for programs.
func modelCell(d api.DeviceView) cell { return cell{d.Profile, modelText(d)} }

func placeText(d api.DeviceView) cell {
	switch {
	case d.Now.IsValid():
		return dash(d.Now.String())
	case d.Waits:
		return cell{"", "waits for DHCP"}
	case !d.Here && d.Was.IsValid():
		return cell{"", "was " + d.Was.String()}
	case d.Value(fact.Address6) != "":
		return dash(d.Value(fact.Address6))
	}
	return dash("")
}

func (a *app) printDevices(ctx context.Context, c *client.Client, only string) error {
	s, err := c.Devices(ctx)
	if err != nil {
		return err
	}
	if len(s.Devices) == 0 && a.output == "table" {
		a.say("Nothing was found. Check cable, power and interface; devices show up seconds after power-up.")
		return nil
	}
	var rows [][]any
	shown, gone, behind := 0, 0, 0
	for _, d := range s.Devices {
		if !d.Here {
			gone++
		}
		state := d.State
		if !d.Here {
			state = "not here now"
		}
		row := []any{d.MAC, placeText(d), modelCell(d), dash(state), dash(d.Value(fact.Serial)),
			dash(d.Value(fact.Name)), strings.Join(d.Protocols(), ","), dash(d.Tag)}
		if only != "" && !strings.Contains(strings.ToLower(fmt.Sprint(row...)), strings.ToLower(only)) {
			continue
		}
		shown++
		rows = append(rows, row)
		for _, part := range d.Parts() {
			if strings.HasPrefix(part, "port ") {
				continue // a switch's ports are many; find show lists them
			}
			behind++
			name := func(key string) cell { return dash(strings.Join(d.ValuesOf(part, key), " ")) }
			rows = append(rows, []any{cell{d.MAC.String() + " " + part, "  └ " + part}, dash(""), name(fact.Model),
				dash(""), name(fact.Serial), name(fact.Name), "bacnet", dash(d.PartTags[part])})
		}
	}
	if err := a.list(s, []string{"MAC", "Address", "Profile", "State", "Serial", "Name", "Heard by", "Entry"}, rows,
		""); err != nil || a.output != "table" {
		return err
	}
	a.say("\n%s%s.", value.Count(shown, "device"), map[bool]string{true: fmt.Sprintf(", and %d behind them",
		behind)}[behind > 0])
	if gone > 0 {
		a.say("Note: %s found before, not here now.", value.Count(gone, "device"))
	}
	for _, f := range s.Findings {
		next := ""
		if f.Next != "" {
			next = "; " + f.Next
		}
		a.say("Note: %s%s.", f.Text, next)
	}
	if s.Dropped > 0 {
		a.say("Note: %d frames came faster than they could be taken; find again, or use --gentle.", s.Dropped)
	}
	a.say("Next: redstart match")
	return nil
}

// printInterfaces lists what matters for choosing an interface.
func (a *app) printInterfaces(ctx context.Context, c *client.Client, seconds float64) error {
	list, err := c.Interfaces(ctx, seconds)
	if err != nil {
		return err
	}
	var rows [][]any
	yes := map[bool]cell{true: {"yes", "yes"}, false: {"no", "–"}}
	for _, v := range list {
		kind := "wired"
		if v.Wireless {
			kind = "wireless"
		}
		link := "no link"
		if v.Link {
			link = "link"
			if v.Speed > 0 {
				link = fmt.Sprintf("%d Mbit/s", v.Speed)
			}
		}
		heard, subnets, servers := dash(""), dash(""), dash("")
		if h := v.Hears; h != nil {
			heard = dash(fmt.Sprintf("%d frames, %d senders", h.Frames, h.Senders))
			subnets, servers = dash(join(h.Subnets)), dash(join(h.Servers))
		}
		rows = append(rows, []any{v.Name, v.MAC, kind, link, dash(join(v.Addresses)), yes[v.DefaultRoute], heard,
			subnets, servers, yes[v.InUse]})
	}
	if err := a.list(list, []string{"Interface", "MAC", "Kind", "Link", "Own addresses", "Default route", "Heard",
		"Subnets heard", "DHCP servers", "In use"}, rows, ""); err != nil || a.output != "table" {
		return err
	}
	a.say("")
	for _, v := range list {
		for _, w := range v.Warnings {
			a.say("Note: %s: %s.", v.Name, w)
		}
	}
	a.say("Nothing was sent. Next: redstart find plug NAME, or redstart serve --interface NAME")
	return nil
}

func join[T fmt.Stringer](list []T) string {
	var parts []string
	for _, x := range list {
		parts = append(parts, x.String())
	}
	return strings.Join(parts, " ")
}

// watchSegment prints who comes and goes. A watch that was not there before ends
// with it.
func (a *app) watchSegment(ctx context.Context, c *client.Client) error {
	seg, err := c.Devices(ctx)
	if err != nil {
		return err
	}
	var failed error
	err = c.Follow(ctx, func(e client.Event) bool {
		switch e.Kind {
		case "hello":
			if failed = c.Watch(ctx, true); failed == nil && a.output == "table" {
				a.say("Watching %s; %d are here. Ctrl-C ends it.", dash(seg.Name), here(seg))
			}
			return failed == nil
		case "presence":
			var p api.Presence
			if failed = json.Unmarshal(e.Data, &p); failed != nil {
				return false
			}
			if a.output == "json" {
				failed = json.NewEncoder(a.out).Encode(p)
				return failed == nil
			}
			if a.output == "csv" {
				fmt.Fprintf(a.out, "%s,%s,%s,%s,%s,%s\n", raw(p.At), p.Kind, p.Device.MAC, placeText(p.Device).raw,
					p.Device.Profile, p.Device.Tag)
				return true
			}
			words := map[string]string{survey.Arrived: "+ came", survey.Returned: "+ back", survey.Learned: "  told",
				survey.Departed: "- went"}
			a.say("%s  %s  %s  %-15s  %s  %s", p.At.Local().Format("15:04:05.000"), words[p.Kind], p.Device.MAC,
				placeText(p.Device), modelText(p.Device), p.Device.Tag)
		}
		return true
	})
	if !seg.Watched {
		// The service goes on with other things; the watch was ours.
		_ = c.Watch(context.WithoutCancel(ctx), false)
	}
	if failed != nil {
		return failed
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func here(s api.Segment) (n int) {
	for _, d := range s.Devices {
		if d.Here {
			n++
		}
	}
	return n
}

// saveFound saves what was found; the file's ending says the format.
func (a *app) saveFound(ctx context.Context, c *client.Client, path string) error {
	format := path[strings.LastIndex(path, ".")+1:]
	content, err := c.Found(ctx, format)
	if err != nil {
		return err
	}
	return a.saveFile(path, content)
}

// addrArgs reads addresses.
func addrArgs(texts []string) ([]netip.Addr, error) {
	var list []netip.Addr
	for _, t := range texts {
		at, err := address.ParseIPv4(t)
		if err != nil {
			return nil, problem.New(problem.Usage, err.Error(), "")
		}
		list = append(list, at)
	}
	slices.SortFunc(list, netip.Addr.Compare)
	return list, nil
}
