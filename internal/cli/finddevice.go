package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// withMAC is a command about one found device.
func (a *app) withMAC(do func(ctx context.Context, c *client.Client, mac address.MAC,
	rest []string) error) func(*cobra.Command, []string) error {
	return a.with(func(ctx context.Context, c *client.Client, args []string) error {
		mac, err := macArg(args[0])
		if err != nil {
			return err
		}
		return do(ctx, c, mac, args[1:])
	})
}

func (a *app) findShow() *cobra.Command {
	return &cobra.Command{Use: "show MAC", Short: "Everything known of a device, with where each fact comes from",
		Args: cobra.ExactArgs(1),
		RunE: a.withMAC(func(ctx context.Context, c *client.Client, mac address.MAC, _ []string) error {
			d, err := c.Device(ctx, mac)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, x := range d.Facts {
				rows = append(rows, []any{dash(x.Part), x.Key, wrap(x.Value, 60), x.Protocol, day(x.First),
					clock(x.Last)})
			}
			if a.output == "table" {
				a.say("%s  %s  %s", d.MAC, placeText(d), modelText(d))
				if len(d.Why) > 0 {
					a.say("Recognised by: %s.", strings.Join(d.Why, ", "))
				}
				if d.State != "" {
					a.say("State: %s, because %s.", d.State, d.StateWhy)
				}
				a.say("")
			}
			if err := a.list(d, []string{"Behind it", "Fact", "Value", "Told over", "First", "Last"}, rows,
				""); err != nil || a.output != "table" {
				return err
			}
			a.say("")
			for _, x := range d.Contradictions {
				var told []string
				for _, f := range x.Facts {
					told = append(told, fmt.Sprintf("%s over %s", f.Value, f.Protocol))
				}
				a.say("Note: its %s is told differently: %s.", x.Key, strings.Join(told, ", "))
			}
			next := "redstart match set TAG " + d.MAC.String()
			if d.Tag != "" {
				next = "redstart plan show " + d.Tag
			}
			a.say("Next: %s", next)
			return nil
		})}
}

func (a *app) findBlink() *cobra.Command {
	return &cobra.Command{Use: "blink MAC", Short: "Make a device show itself", Args: cobra.ExactArgs(1),
		RunE: a.withMAC(func(ctx context.Context, c *client.Client, mac address.MAC, _ []string) error {
			if err := c.Blink(ctx, mac); err != nil {
				return err
			}
			a.say("%s blinks.", mac)
			return nil
		})}
}

func (a *app) findPage() *cobra.Command {
	var shut bool
	c := &cobra.Command{Use: "page MAC", Short: "Open a device's own page in the browser, whatever its address",
		Long: `Opens the page of one exact box, by its MAC, through the service: the computer's
own address stays as it is, and others with the same address do not matter. The
link that is printed opens the page once; it closes after 20 minutes without use.`, Args: cobra.ExactArgs(1),
		RunE: a.withMAC(func(ctx context.Context, c *client.Client, mac address.MAC, _ []string) error {
			if shut {
				if err := c.ClosePage(ctx, mac); err != nil {
					return err
				}
				a.say("The page of %s is closed.", mac)
				return nil
			}
			v, err := c.OpenPage(ctx, mac)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.list(v, nil, nil, "")
			}
			a.say("Open in the browser: %s", v.URL)
			return nil
		})}
	c.Flags().BoolVar(&shut, "shut", false, "close it")
	return c
}

func (a *app) findChoose() *cobra.Command {
	return &cobra.Command{Use: "choose MAC [PROFILE]",
		Short: "Say which profile a device has; without one, take that back", Args: cobra.RangeArgs(1, 2),
		RunE: a.withMAC(func(ctx context.Context, c *client.Client, mac address.MAC, rest []string) error {
			profile := strings.Join(rest, "")
			if err := c.Choose(ctx, mac, profile); err != nil {
				return err
			}
			if profile == "" {
				a.say("%s is recognised by its signs again.", mac)
				return nil
			}
			a.say("%s is a %s.", mac, profile)
			return nil
		})}
}

func (a *app) findForget() *cobra.Command {
	return &cobra.Command{Use: "forget MAC...", Short: "Forget found devices that no entry is matched with",
		Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			macs, err := macArgs(args)
			if err != nil {
				return err
			}
			if err := c.Forget(ctx, macs...); err != nil {
				return err
			}
			a.say("%s forgotten; what is still on the segment is found again.", value.Count(len(macs), "device"))
			return nil
		})}
}

func (a *app) findHistory() *cobra.Command {
	return &cobra.Command{Use: "history", Short: "The surveys, and what was new, gone, moved or renamed",
		Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Surveys(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, v := range list {
				var changes []string
				for _, x := range v.Changes {
					text := x.Kind + " " + x.MAC.String()
					switch {
					case x.From != "" && x.To != "":
						text += " " + x.From + " → " + x.To
					case x.To != "":
						text += " at " + x.To
					case x.From != "":
						text += ", was " + x.From
					}
					changes = append(changes, text)
				}
				const most = 12
				if len(changes) > most {
					changes = append(changes[:most], fmt.Sprintf("and %d more", len(changes)-most))
				}
				rows = append(rows, []any{v.ID, day(v.Began.Time),
					v.Ended.Sub(v.Began.Time).Round(100_000_000).String(), v.State, v.Found, v.Believed,
					dash(v.Capture), dash(strings.Join(changes, "\n"))})
			}
			return a.list(list, []string{"Survey", "Began", "Took", "State", "Found", "Believed", "Packets",
				"Since the one before"}, rows, "")
		})}
}

func (a *app) findPackets() *cobra.Command {
	return &cobra.Command{Use: "packets FILE [SURVEY]", Short: "Save the packets of a survey that kept them, as pcapng",
		Long: `Saves the packets of a survey that kept them. They hold everything that crossed
meanwhile, passwords too that somebody typed into a box's page: keep the file to yourself.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			list, err := c.Surveys(ctx)
			if err != nil {
				return err
			}
			var id int64
			for _, v := range list {
				if v.Capture != "" && (len(args) == 1 || strconv.FormatInt(v.ID, 10) == args[1]) {
					id = v.ID
					break
				}
			}
			if id == 0 {
				return problem.New(problem.Missing, "no such survey kept its packets",
					"find with: redstart find --capture")
			}
			content, err := c.Capture(ctx, id)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
}

func (a *app) findPlug() *cobra.Command {
	return &cobra.Command{Use: "plug SEGMENT",
		Short: "Have the site use a segment: one of redstart find segments, an interface, or a virtual LAN on one (eth1.108)", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.Plug(ctx, args[0]); err != nil {
				return err
			}
			a.say("The site uses %s. Next: redstart find", args[0])
			return nil
		})}
}

func (a *app) findUnplug() *cobra.Command {
	return &cobra.Command{Use: "unplug SEGMENT", Short: "Have the service leave a segment", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.Unplug(ctx, args[0]); err != nil {
				return err
			}
			a.say("The service left %s.", args[0])
			return nil
		})}
}

// findSegments lists the segments that the service is on.
func (a *app) findSegments() *cobra.Command {
	return &cobra.Command{Use: "segments",
		Short: "List the segments that the service is on, with the sites that use each", Args: cobra.NoArgs,
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Segments(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, s := range list {
				state := "there"
				switch {
				case !s.Here:
					state = "gone; waited for"
				case s.Dark:
					state = "no link"
				}
				rows = append(rows, []any{s.Name, state, dash(strings.Join(s.Sites, ", "))})
			}
			next := "To have a site use one: redstart find plug SEGMENT --site KEY"
			if len(list) == 0 {
				next = "The service is on no segment: redstart find plug NAME, or redstart serve --interface NAME"
			}
			return a.list(list, []string{"Segment", "State", "Used by"}, rows, next)
		})}
}
