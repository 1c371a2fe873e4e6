package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
	"redstart/profiles"
)

func (a *app) profile() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the device profiles",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			profiles, err := c.Profiles(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, p := range profiles {
				factory, err := p.Factory.Address.MarshalText()
				if err != nil {
					return err
				}
				rows = append(rows, []any{p.ID, p.Kind, p.Maker, p.Model, string(factory), wrap(p.About, 60)})
			}
			broken, err := c.BrokenProfiles(ctx)
			if err != nil {
				return err
			}
			for _, b := range broken {
				fmt.Fprintf(a.err, "Left out: %s: %s\n", b.File, b.Reason)
			}
			return a.list(profiles, []string{"Profile", "Kind", "Maker", "Model", "Factory address", "About"}, rows, "")
		})}
	facts := &cobra.Command{Use: "facts",
		Short: "List what can be told of a device, and what profiles may go by; needs no service", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			var rows [][]any
			yes := func(is bool) string { return map[bool]string{true: "yes", false: "–"}[is] }
			for _, k := range fact.All {
				rows = append(rows, []any{k.Key, k.Meaning, k.Type, yes(k.Several), yes(k.Sign),
					yes(k.By&fact.Acts != 0)})
			}
			return a.list(fact.All, []string{"Fact", "Meaning", "Type", "Several", "A sign", "Acts take it"}, rows, "")
		}}
	check := &cobra.Command{Use: "check FILE.yaml", Short: "Check a profile document; needs no service",
		Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
			doc, err := readFile(args[0])
			if err != nil {
				return err
			}
			p, err := profiles.Parse(doc)
			if err != nil {
				return problem.New(problem.Usage, err.Error(), "see docs/profiles.md").About(args[0])
			}
			var order []string
			for _, s := range p.Order {
				order = append(order, string(s.Act))
			}
			a.say("%s is sound: %s %s, %s. %s", p.ID, p.Maker, p.Model, p.Kind,
				value.Count(len(p.Settings), "setting")+" declared.")
			switch {
			case p.Sets():
				a.say("Order: %s.", strings.Join(order, ", "))
			case p.Hangs():
				a.say("It hangs behind a %s: it is set and verified through that.", strings.Join(p.Behind, " or "))
			default:
				a.say("It does not say how to set the model: entries can be planned and found, not commissioned.")
			}
			if quotes := p.Quotes(); len(quotes) > 0 {
				a.say("What a shell reads is put in quotes; what a program asks for is not:")
				for _, q := range quotes {
					a.say("  %s", q)
				}
			}
			a.say("Next: put it into %s/profiles; a running service takes it up at once.", a.data)
			return nil
		}}
	settings := &cobra.Command{Use: "settings PROFILE", Short: "List the settings that a model takes",
		Args: cobra.ExactArgs(1), RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			profiles, err := c.Profiles(ctx)
			if err != nil {
				return err
			}
			for _, p := range profiles {
				if p.ID == args[0] {
					return a.printSettings(p)
				}
			}
			return problem.New(problem.Missing, "there is no such profile",
				"list them: redstart profile list").About(args[0])
		})}
	return group("profile", "What is known about device models", list, check, a.profileTry(), facts, settings)
}

func (a *app) printSettings(p *profile.Profile) error {
	var rows [][]any
	for _, s := range p.Settings {
		takes := s.Type
		switch s.Type {
		case profile.Number:
			takes = s.Range()
		case profile.Choice:
			takes = strings.Join(s.Choices, ", ")
		case profile.EntryRef, profile.SettingRef:
			takes = "tag of a " + strings.Join(s.Kinds, " or ")
			if len(s.Kinds) == 0 {
				takes = "tag of an entry"
			}
			if len(s.Of) > 0 {
				takes += ", /" + strings.Join(s.Of, " or /")
			}
		case profile.Computed:
			takes = "computed: " + s.From
		case profile.Listing:
			takes = "a line for each " + strings.Join(s.Kinds, ", ") + ": " + s.From
		case profile.EntryLogin:
			takes = "the login of the entry at " + s.From
		}
		needed := s.Default
		if s.Required {
			needed = "needed"
		}
		rows = append(rows, []any{s.Key, s.Label, wrap(takes, 50), dash(needed), dash(s.Unique), wrap(s.Help, 50)})
	}
	if len(rows) == 0 && a.output == "table" {
		a.say("A %s takes nothing besides name, address and login.", p.Model)
		return nil
	}
	return a.list(p.Settings, []string{"Setting", "Label", "Takes", "If not given", "Unique in", "Help"}, rows, "")
}
