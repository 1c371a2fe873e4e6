package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/service"
	"redstart/internal/store"
)

func (a *app) site() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "Show the site's data", RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
		return a.printSite(ctx, c)
	})}
	var name, zone, subnet, gateway, ntp string
	var keep []string
	set := &cobra.Command{Use: "set", Short: "Set the site's data; what is not given stays",
		Example: "  redstart site set --name \"Skerry Point\" --subnet 10.40.8.0/22 --gateway 10.40.8.1 --keep-free \"10.40.8.2-10.40.8.19 servers\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := c.Site(cmd.Context())
			if err != nil {
				return err
			}
			given := cmd.Flags().Changed
			if given("name") {
				s.Name = name
			}
			if given("zone") {
				s.Zone = zone
			}
			wrong := func(flag string, err error) error {
				return problem.New(problem.Usage, err.Error(), "").About("--" + flag)
			}
			if given("subnet") {
				if s.Subnet.Prefix, err = netip.ParsePrefix(subnet); err != nil {
					return wrong("subnet", fmt.Errorf("%q is not a prefix like 10.40.8.0/22", subnet))
				}
			}
			for flag, into := range map[string]*netip.Addr{"gateway": &s.Subnet.Gateway, "ntp": &s.Subnet.NTP} {
				text := map[string]string{"gateway": gateway, "ntp": ntp}[flag]
				if !given(flag) {
					continue
				}
				*into = netip.Addr{}
				if text == "" {
					continue
				}
				if *into, err = address.ParseIPv4(text); err != nil {
					return wrong(flag, err)
				}
			}
			if given("keep-free") {
				s.Subnet.KeptFree = nil
				for _, text := range keep {
					r, reason, _ := strings.Cut(text, " ")
					k := plan.Kept{Reason: reason}
					if k.Range, err = address.ParseRange(r); err != nil {
						return wrong("keep-free", err)
					}
					s.Subnet.KeptFree = append(s.Subnet.KeptFree, k)
				}
			}
			if err := c.SetSite(cmd.Context(), s); err != nil {
				return err
			}
			return a.printSite(cmd.Context(), c)
		}}
	set.Flags().StringVar(&name, "name", "", "name of the site")
	set.Flags().StringVar(&zone, "zone", "", "time zone, like Europe/Oslo")
	set.Flags().StringVar(&subnet, "subnet", "", "planned `prefix`, like 10.40.8.0/22")
	set.Flags().StringVar(&gateway, "gateway", "", "`address` of the gateway")
	set.Flags().StringVar(&ntp, "ntp", "", "`address` of the time server")
	set.Flags().StringArrayVar(&keep, "keep-free", nil, "`range` that no entry may use, with a reason behind a space; may be given again")
	return group("site", "The site: its name and its subnet", show, set)
}

func (a *app) printSite(ctx context.Context, c *client.Client) error {
	s, err := c.Site(ctx)
	if err != nil {
		return err
	}
	if !s.Subnet.Prefix.IsValid() {
		a.say("The site has no data yet. Next: redstart site set --name NAME --subnet PREFIX --gateway ADDRESS")
		return nil
	}
	hosts := address.Hosts(s.Subnet.Prefix)
	rows := [][]any{{"Name", s.Name}, {"Time zone", dash(s.Zone)}, {"Subnet", s.Subnet.Prefix}, {"Mask", address.Mask(s.Subnet.Prefix)},
		{"Usable", fmt.Sprintf("%s, %d addresses", hosts, hosts.Size())}, {"Gateway", addr(s.Subnet.Gateway)}, {"Time server", addr(s.Subnet.NTP)}}
	for _, k := range s.Subnet.KeptFree {
		rows = append(rows, []any{"Kept free", strings.TrimSpace(k.Range.String() + " " + k.Reason)})
	}
	return a.list(s, []string{"Site", ""}, rows, "Next: redstart plan import FILE.csv")
}

func (a *app) plan() *cobra.Command {
	var replace, preview bool
	imp := &cobra.Command{Use: "import FILE.csv", Short: "Add the entries of a CSV file to the plan, all or none", Args: cobra.ExactArgs(1),
		Long: "Columns, in any order: " + strings.Join(plan.Columns, ", ") + `.
An address may be "next" (the next free one), a name "auto" (made from the tag).
MAC and serial may be left out. A file with any mistake is refused whole.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := readFile(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			entries, err := c.Import(cmd.Context(), file, replace, preview)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, e := range entries {
				rows = append(rows, []any{e.Tag, e.Kind, e.Profile, e.Place, e.Address, e.Name, dash(e.MAC.String()), dash(e.Serial)})
			}
			next := plural(len(entries), "entry") + " added. Next: redstart find"
			if preview {
				next = plural(len(entries), "entry") + " would be added; nothing was changed."
			}
			return a.list(entries, []string{"Tag", "Kind", "Profile", "Place", "Address", "Name", "MAC", "Serial"}, rows, next)
		}}
	imp.Flags().BoolVar(&replace, "replace", false, "make the file the whole plan, if nothing was commissioned yet")
	imp.Flags().BoolVar(&preview, "preview", false, "only show what would be added")
	list := &cobra.Command{Use: "list [TAG...]", Short: "List the plan with what is known of each box", Args: cobra.ArbitraryArgs, RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
		if err := a.printEntries(ctx, c, tags); !errors.Is(err, errAttention) {
			return err
		}
		return nil // a plan that is not finished is no failure of listing it
	})}
	show := &cobra.Command{Use: "show TAG", Short: "Show everything known of one entry", Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
		return a.printDetail(ctx, c, args[0])
	})}
	checkCmd := &cobra.Command{Use: "check", Short: "Check the plan as a whole", RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
		findings, err := c.Findings(ctx)
		if err != nil {
			return err
		}
		var rows [][]any
		for _, f := range findings {
			rows = append(rows, []any{f.Tag, f.Field, f.Level, f.Reason})
		}
		if len(findings) == 0 && a.output == "table" {
			a.say("Nothing is wrong with the plan.")
			return nil
		}
		if err := a.list(findings, []string{"Tag", "Field", "Level", "Reason"}, rows, plural(len(findings), "finding")+"."); err != nil || len(findings) == 0 {
			return err
		}
		return errAttention
	})}
	return group("plan", "The list of devices that should exist", imp, list, show, checkCmd)
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, problem.New(problem.Usage, "the file cannot be read", "check its name and rights").About(path).Because(errors.Unwrap(err))
	}
	defer f.Close()
	// One byte more than is allowed, so that the service says that it is too large.
	file, err := io.ReadAll(io.LimitReader(f, plan.MaxFile+1))
	if err != nil {
		return nil, problem.New(problem.Usage, "the file cannot be read", "give a file, not a folder").About(path).Because(errors.Unwrap(err))
	}
	return file, nil
}

func countPlanned(entries []plan.Entry) map[string]int {
	count := map[string]int{}
	for _, e := range entries {
		count[e.Profile]++
	}
	return count
}

// printEntries prints the plan, or the chosen part of it. It returns
// errAttention when not everything is verified.
func (a *app) printEntries(ctx context.Context, c *client.Client, tags []string) error {
	all, err := c.Entries(ctx)
	if err != nil {
		return err
	}
	entries := all
	if len(tags) > 0 {
		entries = slices.DeleteFunc(slices.Clone(all), func(e service.EntryView) bool { return !slices.Contains(tags, e.Tag) })
	}
	var rows [][]any
	count := map[string]int{}
	for _, e := range entries {
		count[e.State]++
		rows = append(rows, []any{e.Tag, e.State, e.Kind, e.Place, e.Address, addr(e.Present), dash(e.Device.String()), clock(e.CheckedAt.Time)})
	}
	if len(entries) == 0 && a.output == "table" {
		a.say("The plan is empty. Next: redstart plan import FILE.csv")
		return nil
	}
	if err := a.list(entries, []string{"Tag", "State", "Kind", "Place", "Planned", "Present", "MAC", "Checked"}, rows, ""); err != nil {
		return err
	}
	if a.output != "table" {
		return attentionUnless(allVerified(entries))
	}
	var parts []string
	for _, s := range []string{store.Planned, store.Matched, store.Configuring, store.Configured, store.Verified, store.Attention} {
		if count[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[s], s))
		}
	}
	a.say("\n%s: %s. %s", plural(len(entries), "entry"), strings.Join(parts, ", "), nextStep(count))
	for _, e := range entries {
		if e.State == store.Attention {
			a.say("  %s: %s", e.Tag, e.Reason)
		}
	}
	return attentionUnless(allVerified(entries))
}

func attentionUnless(ok bool) error {
	if ok {
		return nil
	}
	return errAttention
}

// nextStep says what to do next, by the least finished entries.
func nextStep(count map[string]int) string {
	switch {
	case count[store.Attention] > 0:
		return "These need attention:"
	case count[store.Planned] > 0:
		return "Next: redstart find, then redstart match"
	case count[store.Matched] > 0:
		return "Next: redstart commission"
	case count[store.Configuring] > 0:
		return "A run is under way or was cut off. Next: redstart commission"
	case count[store.Configured] > 0:
		return "Next: redstart verify"
	}
	return "All done."
}

func (a *app) printDetail(ctx context.Context, c *client.Client, tag string) error {
	d, err := c.Entry(ctx, tag)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.list(d, nil, nil, "")
	}
	e := d.Entry
	rows := [][]any{{"Tag", e.Tag}, {"State", strings.TrimSpace(e.State + "  " + e.Reason)}, {"Kind", e.Kind}, {"Profile", e.Profile}, {"Place", dash(e.Place)},
		{"Name", e.Name}, {"Planned address", addr(e.Address)}, {"Present address", addr(e.Present)}, {"MAC", dash(e.Device.String())}, {"Serial", dash(e.BoxID)},
		{"Matched", dash(e.MatchedWhy)}, {"Login", dash(d.Login)}}
	if err := a.list(d, []string{"Entry", ""}, rows, ""); err != nil {
		return err
	}
	return errors.Join(a.printChecks(d.Checks), a.printHistory(d.History))
}

func (a *app) printChecks(checks []check.Check) error {
	if len(checks) == 0 {
		return nil
	}
	a.say("")
	var rows [][]any
	for _, c := range checks {
		rows = append(rows, []any{c.Name, c.Expected, c.Observed, c.Verdict, clock(c.At)})
	}
	return a.list(checks, []string{"Check", "Expected", "Observed", "Verdict", "At"}, rows, "")
}

func (a *app) printHistory(notes []store.Note) error {
	if len(notes) == 0 {
		return nil
	}
	a.say("")
	var rows [][]any
	for _, n := range notes {
		rows = append(rows, []any{clock(n.At.Time), n.Who, wrap(n.What, 90)})
	}
	return a.list(notes, []string{"At", "Who", "What"}, rows, "")
}
