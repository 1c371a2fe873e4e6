package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/match"
	"redstart/internal/core/value"
)

func (a *app) match() *cobra.Command {
	var accept, yes bool
	var in api.Acceptance
	c := &cobra.Command{Use: "match [TAG...]", Short: "Propose which found device is which entry, and accept",
		Long: `Proposes matches with reasons, as one assignment that is the best over all: by MAC
or serial where the plan gives one, by the switch port that it plans, by a name or
address that is right already, else by order within a profile where the counts
agree. With --accept the proposals are taken: all that are certain, those for the
given tags, or those of a kind. What rests on the order alone among identical boxes
is a guess, and is taken only with --by order, --yes, or a yes to the question. What is not certain stays open and says what would decide it.`,
		Example: `  redstart match                            # what is proposed, and why
  redstart match --accept --by mac --by serial --by port
  redstart match --accept HALL-CAM-01
  redstart match --accept --part tolvern-d1  # by order, although the counts do not agree
  redstart match scan                       # labels, with a hand-held scanner`,
		Args: cobra.ArbitraryArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if !accept {
				if len(tags)+len(in.Reasons)+len(in.Profiles) > 0 {
					return &usageError{fmt.Errorf("tags, --by and --part choose what to --accept")}
				}
				p, err := c.Proposals(ctx)
				if err != nil {
					return err
				}
				return a.printProposals(p, fmt.Sprintf("%d proposed. Next: redstart match --accept", len(p.Proposals)))
			}
			in.Tags = tags
			if in.All = len(tags)+len(in.Reasons)+len(in.Profiles) == 0; in.All {
				guesses, err := a.guesses(ctx, c)
				if err != nil {
					return err
				}
				if guesses > 0 &&
					(yes || a.sure(fmt.Sprintf("%s by order alone, among identical boxes. Take these guesses too?",
						value.Count(guesses, "match")), false) == nil) {
					in.All, in.Reasons = false, match.Reasons
				}
			}
			accepted, err := c.Accept(ctx, in)
			if err != nil {
				return err
			}
			left, err := c.Proposals(ctx)
			if err != nil {
				return err
			}
			left.Proposals = accepted
			return a.printProposals(left, fmt.Sprintf("%d matched. Next: redstart commission --rehearse",
				len(accepted)))
		})}
	c.Flags().BoolVar(&accept, "accept", false, "take the proposals")
	c.Flags().BoolVar(&yes, "yes", false, "with --accept: also those by order alone, without asking")
	c.Flags().StringArrayVar(&in.Reasons, "by", nil, "only those by this `REASON`: "+strings.Join(match.Reasons, ", ")+
		"; may be given again")
	c.Flags().StringArrayVar(&in.Profiles, "part", nil,
		"take what order proposes for this `PROFILE`, although the counts do not agree; may be given again")
	c.AddCommand(a.matchSet(), a.matchReplace(), a.matchUndo(),
		a.matchLock("lock", "Keep matches from being changed", true),
		a.matchLock("unlock", "Let matches be changed again", false), a.matchScan(), a.matchCards(), a.matchAdopt())
	return c
}

// guesses counts the proposals that rest on the order alone.
func (a *app) guesses(ctx context.Context, c *client.Client) (n int, err error) {
	p, err := c.Proposals(ctx)
	for _, m := range p.Proposals {
		if m.Guess && !m.Part {
			n++
		}
	}
	return n, err
}

// matchReplace puts a new box in the place of a dead one.
func (a *app) matchReplace() *cobra.Command {
	var later bool
	c := &cobra.Command{Use: "replace TAG [MAC]", Short: "Put a new box in the place of an entry's, and commission it",
		Args: cobra.RangeArgs(1, 2),
		Long: `Takes the box of an entry out and puts a new one in its place: the one with the
given MAC, or the only fresh one of its model that no entry has. The entry keeps its
plan and its history. The new box is then commissioned.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			var in api.Replacement
			if len(args) == 2 {
				var err error
				if in.MAC, err = macArg(args[1]); err != nil {
					return err
				}
			}
			out, err := c.Replace(ctx, args[0], in)
			if err != nil {
				return err
			}
			a.say("%s is %s now, in the place of %s.", out.Tag, out.New, out.Old)
			if later {
				return nil
			}
			return a.commissionAll(ctx, c, api.RunOptions{Chosen: api.Chosen{Tags: []string{out.Tag}}})
		})}
	c.Flags().BoolVar(&later, "later", false, "do not commission it yet")
	return c
}

func (a *app) matchSet() *cobra.Command {
	return &cobra.Command{Use: "set TAG MAC", Short: "Match an entry by hand", Args: cobra.ExactArgs(2),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			mac, err := macArg(args[1])
			if err != nil {
				return err
			}
			if err := c.Match(ctx, args[0], api.MatchWith{MAC: mac}); err != nil {
				return err
			}
			a.say("%s is %s.", args[0], mac)
			return nil
		})}
}

func (a *app) matchUndo() *cobra.Command {
	var by []string
	var configured bool
	c := &cobra.Command{Use: "undo [TAG...]", Short: "Undo matches: of entries, or all that were made for a reason",
		Args: cobra.ArbitraryArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if (len(tags) == 0) == (len(by) == 0) {
				return &usageError{fmt.Errorf("give tags, or --by REASON")}
			}
			undone, err := c.UndoMatches(ctx, api.Undo{Tags: tags, Reasons: by, Configured: configured})
			if err != nil {
				return err
			}
			a.say("Matches undone: %d (%s).", len(undone), dash(strings.Join(undone, " ")))
			return nil
		})}
	c.Flags().StringArrayVar(&by, "by", nil, "all that were made by this `REASON`; may be given again")
	c.Flags().BoolVar(&configured, "also-configured", false, "undo it also where the device was set")
	return c
}

func (a *app) matchLock(use, short string, on bool) *cobra.Command {
	return &cobra.Command{Use: use + " TAG...", Short: short, Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if err := c.Lock(ctx, api.Locking{Tags: tags, Locked: on}); err != nil {
				return err
			}
			a.say("The match of %s is %sed.", strings.Join(tags, ", "), use)
			return nil
		})}
}

// matchScan takes labels line by line, as a hand-held scanner types them.
func (a *app) matchScan() *cobra.Command {
	return &cobra.Command{Use: "scan [TAG]",
		Short: "Match by scanned labels, line by line: first the entry's tag, then its box",
		Long: `Reads what a hand-held scanner types, line by line, until the end of the input.
The tag of an entry chooses it; the label of a box then says that the box is that
entry. Labels may hold a MAC in any spelling, a serial, keys with values, or a
LoRaWAN device identification code.`, Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			tag := strings.Join(args, "")
			lines := bufio.NewScanner(cmd.InOrStdin())
			refused := 0
			for lines.Scan() {
				if strings.TrimSpace(lines.Text()) == "" {
					continue
				}
				out, err := c.Scan(ctx, api.Scan{Text: lines.Text(), Tag: tag})
				if err != nil {
					refused++
					a.say("Not taken: %v", err)
					continue
				}
				a.say("%s.", out.Text)
				switch out.Outcome {
				case api.ScanEntry:
					tag = out.Tag
				case api.ScanMatched, api.ScanNoted:
					tag = ""
				case api.ScanUnknown:
					refused++
				}
			}
			if err := lines.Err(); err != nil {
				return err
			}
			return attentionUnless(refused == 0, fmt.Sprintf("%d labels were not taken", refused))
		}}
}

func (a *app) matchAdopt() *cobra.Command {
	var in api.Adoption
	var preview, all bool
	c := &cobra.Command{Use: "adopt [MAC...]", Short: "Take found devices into the plan as new entries",
		Args: cobra.ArbitraryArgs,
		Long: `Makes an entry of each device: what is set already is planned as it is, a fresh
device gets the next free address. With --all, everything that was found and that
a profile fits becomes the as-found plan.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if (len(args) == 0) == !all {
				return &usageError{fmt.Errorf("give MACs, or --all")}
			}
			var err error
			if in.MACs, err = macArgs(args); err != nil {
				return err
			}
			in.All = all
			out, err := c.Adopt(ctx, in, preview)
			return a.printEdited(out, err, preview)
		})}
	c.Flags().BoolVar(&all, "all", false, "every device that a profile fits and no entry is matched with")
	c.Flags().StringVar(&in.Tag, "tag", "", "the tag of a single one; made if not given")
	c.Flags().StringVar(&in.Area, "area", "", "the area of the new entries")
	c.Flags().BoolVar(&preview, "preview", false, "only show what would be added")
	return c
}

func (a *app) printProposals(p match.Result, next string) error {
	var rows [][]any
	for _, m := range p.Proposals {
		by := "by " + strings.Replace(m.By, "mac", "MAC", 1)
		if m.Part {
			by += ", in part"
		}
		rows = append(rows, []any{m.Tag, m.MAC, dash(m.Serial), by, fmt.Sprintf("%d %%", m.Sure), wrap(m.Why, 60)})
	}
	if len(rows) == 0 && a.output == "table" {
		next = "Nothing to match."
	}
	if len(rows) > 0 || a.output != "table" {
		if err := a.list(p, []string{"Entry", "MAC", "Serial", "Matched", "Sure", "Why"}, rows, ""); err != nil ||
			a.output != "table" {
			return err
		}
		a.say("")
	}
	for _, o := range p.Open {
		decide := ""
		if o.Decide != "" {
			decide = "; " + o.Decide
		}
		a.say("Open: %s: %s%s.", strings.TrimSpace(o.Profile+" "+o.Tag), o.Why, decide)
	}
	if len(p.Missing) > 0 {
		a.say("Without a box: %s.", strings.Join(p.Missing, " "))
	}
	if len(p.Spare) > 0 {
		var macs []string
		for _, mac := range p.Spare {
			macs = append(macs, mac.String())
		}
		a.say("Without an entry: %s. Take one into the plan with: redstart match adopt MAC", strings.Join(macs, " "))
	}
	a.say("%s", next)
	return nil
}
