package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

func (a *app) profile() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the device profiles", RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
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
		return a.list(profiles, []string{"Profile", "Kind", "Maker", "Model", "Factory address", "About"}, rows, "")
	})}
	check := &cobra.Command{Use: "check FILE.yaml", Short: "Check a profile document; needs no service", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		doc, err := readFile(args[0])
		if err != nil {
			return err
		}
		p, err := profile.Parse(doc)
		if err != nil {
			return problem.New(problem.Usage, err.Error(), "see docs/profiles.md").About(args[0])
		}
		var order []string
		for _, s := range p.Order {
			order = append(order, string(s.Act))
		}
		a.say("%s is sound: %s %s, a %s. Order: %s.", p.ID, p.Maker, p.Model, p.Kind, strings.Join(order, ", "))
		a.say("Next: put it into %s/profiles and start the service again.", a.data)
		return nil
	}}
	return group("profile", "What is known about device models", list, check)
}

func (a *app) vault() *cobra.Command {
	reveal := &cobra.Command{Use: "reveal TAG", Short: "Show the login of an entry's device; recorded in its history", Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
		user, password, err := c.Reveal(ctx, args[0])
		if err != nil {
			return err
		}
		return a.list(map[string]string{"user": user, "password": password}, []string{"User", "Password"}, [][]any{{user, password}}, fmt.Sprintf("Shown on purpose; the history of %s says so.", args[0]))
	})}
	return group("vault", "The stored passwords of devices", reveal)
}
