package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/problem"
	"redstart/internal/service"
	"redstart/internal/survey"
)

func (a *app) find() *cobra.Command {
	var gentle, again bool
	c := &cobra.Command{Use: "find", Short: "Find the devices on the segment",
		Long: `Asks the segment who is there: every factory address and the planned subnet over
ARP, every station over DCP, and listens. Devices that share an address are
found one by one, by their MACs. Nothing is written to any device.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			pace := survey.Normal
			if gentle {
				pace = survey.Gentle
			}
			if !again {
				ended, err := a.follow(ctx, c, func() (service.Activity, error) { return c.Find(ctx, pace) })
				if err != nil {
					return err
				}
				if ended.State == "failed" {
					return problem.New(problem.Machine, ended.Text, "")
				}
			}
			return a.printDevices(ctx, c)
		})}
	c.Flags().BoolVar(&gentle, "gentle", false, fmt.Sprintf("at most %d frames per second, for a live plant", survey.Gentle))
	c.Flags().BoolVar(&again, "known", false, "send nothing; list what was found before")
	blink := &cobra.Command{Use: "blink MAC", Short: "Make a device show itself", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		mac, err := macArg(args[0])
		if err != nil {
			return err
		}
		c, err := a.client(cmd.Context())
		if err != nil {
			return err
		}
		if err := c.Blink(cmd.Context(), mac); err != nil {
			return err
		}
		a.say("%s blinks.", mac)
		return nil
	}}
	c.AddCommand(blink)
	return c
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

func (a *app) printDevices(ctx context.Context, c *client.Client) error {
	s, err := c.Devices(ctx)
	if err != nil {
		return err
	}
	if len(s.Devices) == 0 && a.output == "table" {
		a.say("Nothing was found. Check cable, power and interface; devices show up seconds after power-up.")
		return nil
	}
	var rows [][]any
	for _, d := range s.Devices {
		model := "unknown"
		if d.Profile != "" {
			model = fmt.Sprintf("%s (%d %%)", d.Profile, d.Sure)
		}
		rows = append(rows, []any{d.MAC, addr(d.Present), model, dash(d.Value(device.Serial)), dash(d.Value(device.Name)), protocols(d.Found), clock(d.Last), dash(d.Tag)})
	}
	if err := a.list(s, []string{"MAC", "Address", "Profile", "Serial", "Name", "Heard by", "Last", "Entry"}, rows, ""); err != nil || a.output != "table" {
		return err
	}
	a.say("\n%s.", plural(len(s.Devices), "device"))
	for _, f := range s.Findings {
		a.say("Note: %s.", f.Text)
	}
	if s.Dropped > 0 {
		a.say("Note: %d frames came faster than they could be taken; find again, or use --gentle.", s.Dropped)
	}
	a.say("Next: redstart match")
	return nil
}

// protocols lists how a device was heard.
func protocols(f *device.Found) string {
	var list []string
	for _, fact := range f.Facts {
		if !strings.Contains(strings.Join(list, ","), fact.Protocol) {
			list = append(list, fact.Protocol)
		}
	}
	if list == nil {
		return "traffic"
	}
	return strings.Join(list, ",")
}

func (a *app) match() *cobra.Command {
	var accept bool
	c := &cobra.Command{Use: "match [TAG...]", Short: "Propose which found device is which entry, and accept",
		Long: `Proposes matches with reasons: by MAC or serial where the plan gives one, else by
order within a profile where the counts agree. With --accept the proposals, or
those for the given tags, are taken.`,
		Args: cobra.ArbitraryArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if accept {
				accepted, err := c.Accept(ctx, tags)
				if err != nil {
					return err
				}
				left, err := c.Proposals(ctx)
				if err != nil {
					return err
				}
				left.Proposals = accepted
				return a.printProposals(left, fmt.Sprintf("%d matched. Next: redstart commission --rehearse", len(accepted)))
			}
			p, err := c.Proposals(ctx)
			if err != nil {
				return err
			}
			return a.printProposals(p, fmt.Sprintf("%d proposed. Next: redstart match --accept", len(p.Proposals)))
		})}
	c.Flags().BoolVar(&accept, "accept", false, "take the proposals")
	set := &cobra.Command{Use: "set TAG MAC", Short: "Match an entry by hand", Args: cobra.ExactArgs(2), RunE: func(cmd *cobra.Command, args []string) error {
		mac, err := macArg(args[1])
		if err != nil {
			return err
		}
		c, err := a.client(cmd.Context())
		if err != nil {
			return err
		}
		if err := c.Match(cmd.Context(), args[0], mac); err != nil {
			return err
		}
		a.say("%s is %s.", args[0], mac)
		return nil
	}}
	undo := &cobra.Command{Use: "undo TAG...", Short: "Undo matches", Args: cobra.MinimumNArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
		for _, tag := range tags {
			if err := c.Unmatch(ctx, tag); err != nil {
				return err
			}
			a.say("%s is matched with nothing.", tag)
		}
		return nil
	})}
	c.AddCommand(set, undo)
	return c
}

func (a *app) printProposals(p service.Proposals, next string) error {
	var rows [][]any
	for _, m := range p.Proposals {
		rows = append(rows, []any{m.Tag, m.MAC, dash(m.Serial), "by " + strings.Replace(m.By, "mac", "MAC", 1), fmt.Sprintf("%d %%", m.Sure), m.Why})
	}
	if len(rows) == 0 && a.output == "table" {
		next = "Nothing to match."
	}
	if len(rows) > 0 || a.output != "table" {
		if err := a.list(p, []string{"Entry", "MAC", "Serial", "Matched", "Sure", "Why"}, rows, ""); err != nil || a.output != "table" {
			return err
		}
		a.say("")
	}
	for _, o := range p.Open {
		a.say("Open: %s: %s.", strings.TrimSpace(o.Profile+" "+o.Tag), o.Why)
	}
	a.say("%s", next)
	return nil
}
