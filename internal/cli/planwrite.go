package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// assignments takes apart arguments: those with "=" set a field, the others are tags.
func assignments(args []string) (tags []string, set map[string]string, err error) {
	set = map[string]string{}
	for _, arg := range args {
		field, value, assigns := strings.Cut(arg, "=")
		if !assigns {
			tags = append(tags, arg)
			continue
		}
		set[strings.ToLower(strings.TrimSpace(field))] = value
	}
	if len(tags) == 0 || len(set) == 0 {
		err = &usageError{fmt.Errorf("give tags and field=value; the fields are %s, and the settings of the profile",
			strings.Join(fieldKeys(), ", "))}
	}
	return tags, set, err
}

func fieldKeys() []string {
	var keys []string
	for _, f := range plan.Fields {
		keys = append(keys, f.Key)
	}
	return keys
}

func (a *app) planAdd() *cobra.Command {
	var preview bool
	c := &cobra.Command{Use: "add TAG... profile=PROFILE [FIELD=VALUE...]", Short: "Add entries",
		Args:    cobra.MinimumNArgs(2),
		Example: `  redstart plan add HALL-CAM-07 profile=ovalis-c20 area=HALL place="Ticket hall"`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			tags, set, err := assignments(args)
			if err != nil {
				return err
			}
			var patches []plan.Patch
			for _, tag := range tags {
				one := map[string]string{"tag": tag}
				for k, v := range set {
					one[k] = v
				}
				patches = append(patches, plan.Patch{Set: one})
			}
			return a.edit(ctx, c, api.Edits{Patches: patches}, preview)
		})}
	c.Flags().BoolVar(&preview, "preview", false, "only show what would change")
	return c
}

func (a *app) planSet() *cobra.Command {
	var preview bool
	c := &cobra.Command{Use: "set TAG... FIELD=VALUE...", Short: "Change fields or settings of entries",
		Args: cobra.MinimumNArgs(2),
		Long: `Changes fields or settings of entries. An empty value takes it away; "next" as
address and "auto" as name are made. A new tag renames; references follow.`,
		Example: `  redstart plan set HALL-DOOR-01 rings-at=HALL-MON-01 room=207`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			tags, set, err := assignments(args)
			if err != nil {
				return err
			}
			var patches []plan.Patch
			for _, tag := range tags {
				patches = append(patches, plan.Patch{Tag: tag, Set: set})
			}
			return a.edit(ctx, c, api.Edits{Patches: patches}, preview)
		})}
	c.Flags().BoolVar(&preview, "preview", false, "only show what would change")
	return c
}

func (a *app) planRemove() *cobra.Command {
	var preview, configured bool
	c := &cobra.Command{Use: "remove TAG...", Short: "Take entries out of the plan", Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			var patches []plan.Patch
			for _, tag := range tags {
				patches = append(patches, plan.Patch{Tag: tag, Remove: true})
			}
			return a.edit(ctx, c, api.Edits{Patches: patches, Configured: configured}, preview)
		})}
	c.Flags().BoolVar(&preview, "preview", false, "only show what would change")
	c.Flags().BoolVar(&configured, "also-configured", false, "remove entries whose devices are configured too")
	return c
}

func (a *app) planGenerate() *cobra.Command {
	var q plan.Quantity
	var set []string
	var preview bool
	c := &cobra.Command{Use: "generate --profile PROFILE --count N --pattern PATTERN",
		Short:   "Add entries from a quantity",
		Example: `  redstart plan generate --profile ovalis-c20 --count 4 --pattern "{area}-CAM-{n:02}" --areas HALL,YARD --address 10.40.9.20`,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			for _, s := range set {
				field, value, ok := strings.Cut(s, "=")
				if !ok {
					return &usageError{fmt.Errorf("--set needs FIELD=VALUE")}
				}
				if q.Set == nil {
					q.Set = map[string]string{}
				}
				q.Set[field] = value
			}
			out, err := c.Generate(ctx, []plan.Quantity{q}, preview)
			return a.printEdited(out, err, preview)
		})}
	f := c.Flags()
	f.StringVar(&q.Profile, "profile", "", "`profile` of the entries")
	f.IntVar(&q.Count, "count", 1, "how many, in each area")
	f.StringVar(&q.Pattern, "pattern", "{area}-{n:02}",
		"`pattern` of tags, with {site}, {area}, {floor}, {kind} and {n} or {n:02}")
	f.IntVar(&q.First, "first", 0, "number of the first; the first free one if not given")
	f.StringSliceVar(&q.Areas, "areas", nil, "`areas`, divided by commas; each gets the count")
	f.StringVar(&q.Floor, "floor", "", "floor")
	f.StringVar(&q.Place, "place", "", "place, in words")
	f.StringVar(&q.Subnet, "subnet", "", "`name` of the subnet to take addresses from")
	f.StringVar(&q.Address, "address", "", "first `address`, or a range; the next free ones if not given")
	f.StringArrayVar(&set, "set", nil, "further `FIELD=VALUE`, the same for all; may be given again")
	f.BoolVar(&preview, "preview", false, "only show what would be added")
	return c
}

func (a *app) planAddresses() *cobra.Command {
	var in api.Allocation
	var preview bool
	c := &cobra.Command{Use: "addresses missing|compact|spread|move [TAG...]", Short: "Give out addresses",
		Args: cobra.MinimumNArgs(1),
		Long: `Gives out addresses to the given entries, or to all:
  missing  only to those that have none; what is set stays
  compact  anew, ascending, without gaps
  spread   anew, ascending, every --step addresses
  move     into --subnet, keeping host numbers
Entries whose devices are configured keep theirs.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			in.Way, in.Tags, in.All = args[0], args[1:], len(args) == 1
			out, err := c.Allocate(ctx, in, preview)
			return a.printEdited(out, err, preview)
		})}
	f := c.Flags()
	f.StringVar(&in.From, "from", "", "first `address`")
	f.IntVar(&in.Step, "step", 10, "spread: from one address to the next")
	f.StringVar(&in.Subnet, "subnet", "", "move: `name` of the subnet")
	f.StringVar(&in.Order, "order", "", "tag or kind; else as given, or as in the plan")
	f.BoolVar(&preview, "preview", false, "only show what would change")
	return c
}

func (a *app) planReserve() *cobra.Command {
	return &cobra.Command{Use: "reserve RANGE REASON", Short: "Keep a range of addresses free",
		Args: cobra.ExactArgs(2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := address.ParseRange(args[0])
			if err != nil {
				return problem.New(problem.Usage, err.Error(), "write it like 10.40.8.2-10.40.8.19")
			}
			s, err := c.Site(ctx)
			if err != nil {
				return err
			}
			if s, err = s.Reserve(r, args[1]); err != nil {
				return err
			}
			if err := c.SetSite(ctx, s); err != nil {
				return err
			}
			a.say("%s is kept free: %s.", r, args[1])
			return nil
		})}
}

// edit makes a change and prints what it did.
func (a *app) edit(ctx context.Context, c *client.Client, in api.Edits, preview bool) error {
	out, err := c.Edit(ctx, in, preview)
	return a.printEdited(out, err, preview)
}

func (a *app) printEdited(out api.Edited, err error, preview bool) error {
	if err != nil {
		return err
	}
	for _, x := range out.Complaints {
		a.say("  %s %q: %s", x.Field, x.Value, x.Reason)
	}
	rows := comparisonRows(out.Comparison)
	if len(rows) == 0 && len(out.Changes) == 0 && a.output == "table" {
		a.say("Nothing changes.")
	} else if err := a.list(out, []string{"Tag", "What", "Before", "After"}, rows, ""); err != nil {
		return err
	}
	if a.output != "table" {
		return attentionUnless(len(out.Complaints) == 0, "the change would be refused")
	}
	a.sayKept(out.Kept)
	a.sayFindings(out)
	switch {
	case preview:
		a.say("\nNothing was changed; leave --preview out to do it.")
	case out.Revision > 0:
		a.say("\nRevision %d: %s. Next: redstart plan check", out.Revision, comparisonText(out.Comparison))
	}
	return attentionUnless(len(out.Complaints) == 0, "the change would be refused")
}

// sayFindings says what would be wrong after a change that is not wrong now.
func (a *app) sayFindings(out api.Edited) {
	for _, f := range out.New {
		a.say("  %s: %s %s", f.Level, f.Tag, f.Reason)
	}
}

func (a *app) sayKept(tags []string) {
	if len(tags) > 0 {
		a.say("\nLeft as they are, because their devices are configured: %s", strings.Join(tags, ", "))
	}
}

func comparisonRows(c plan.Comparison) [][]any {
	var rows [][]any
	for _, e := range c.Added {
		rows = append(rows, []any{e.Tag, "added", "", strings.TrimSpace(e.Profile + "  " + e.Get("address") + "  " +
			e.Name)})
	}
	for _, x := range c.Changed {
		rows = append(rows, []any{x.Tag, fieldLabel(x.Field), dash(secretDots(x.Before)), dash(secretDots(x.After))})
	}
	for _, e := range c.Removed {
		rows = append(rows, []any{e.Tag, "removed", strings.TrimSpace(e.Profile + "  " + e.Get("address")), ""})
	}
	return rows
}

func comparisonText(c plan.Comparison) string {
	var parts []string
	for _, x := range []struct {
		n    int
		what string
	}{{len(c.Added), "added"}, {c.Entries(), "changed"}, {len(c.Removed), "removed"}} {
		if x.n > 0 {
			parts = append(parts, value.Count(x.n, "entry")+" "+x.what)
		}
	}
	if parts == nil {
		return "nothing changes in the entries"
	}
	return strings.Join(parts, ", ")
}

// marks of the address map, by what an address is.
var marks = map[string]rune{plan.Free: '·', plan.KeptCell: '×', plan.Planned: 'o', plan.Found: '●', plan.Conflict: '!'}

const mapWidth = 64

func (a *app) planMap() *cobra.Command {
	var asList bool
	c := &cobra.Command{Use: "map [SUBNET]", Short: "Draw the addresses of a subnet", Args: cobra.MaximumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.Map(ctx, strings.Join(args, ""))
			if err != nil {
				return err
			}
			if asList || a.output != "table" {
				var rows [][]any
				for _, x := range m.Cells {
					rows = append(rows, []any{x.Address, x.Is, dash(x.Tag), x.Text})
				}
				return a.list(m, []string{"Address", "Is", "Entry", "In words"}, rows,
					fmt.Sprintf("%d of %d addresses are free.", m.Free, m.Hosts))
			}
			a.say("%s  %s, mask %s: %d of %d addresses are free.\n", m.Name, m.Prefix, m.Mask, m.Free, m.Hosts)
			cells := map[uint32]rune{}
			for _, x := range m.Cells {
				cells[address.Number(x.Address)] = marks[x.Is]
			}
			first, last := address.Number(m.Network), address.Number(m.Last)
			skipped := false
			for at := first &^ (mapWidth - 1); at <= last; at += mapWidth {
				row := make([]rune, 0, mapWidth)
				for n := at; n < at+mapWidth; n++ {
					mark, there := cells[n]
					switch {
					case n < first || n > last:
						mark = ' '
					case !there:
						mark = marks[plan.Free]
					}
					row = append(row, mark)
				}
				// Large subnets are mostly empty.
				if !slices.ContainsFunc(row, func(r rune) bool { return r != marks[plan.Free] }) {
					if !skipped {
						a.say("%-15s  (free)", "…")
					}
					skipped = true
					continue
				}
				skipped = false
				a.say("%-15s  %s", address.FromNumber(at), string(row))
			}
			a.say("\n· free   × kept   o planned   ● found   ! conflict      --list names each")
			return nil
		})}
	c.Flags().BoolVar(&asList, "list", false, "list the addresses in words")
	return c
}
