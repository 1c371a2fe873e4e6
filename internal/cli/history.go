package cli

import (
	"context"

	"github.com/spf13/cobra"

	"redstart/internal/client"
)

func (a *app) planHistory() *cobra.Command {
	return &cobra.Command{Use: "history", Short: "List what was changed in plan, subnets and policies, latest first", RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
		list, err := c.Revisions(ctx)
		if err != nil {
			return err
		}
		var rows [][]any
		for _, r := range list {
			rows = append(rows, []any{r.ID, dayClock(r.At.Time), r.Who, wrap(r.What, 70), r.Name})
		}
		return a.list(list, []string{"Revision", "At", "Who", "What", "Name"}, rows, "Compare two with: redstart plan compare REVISION [REVISION]")
	})}
}

func (a *app) planCompare() *cobra.Command {
	return &cobra.Command{Use: "compare REVISION [REVISION]", Short: "Compare the plans of two moments; the second is now if not given", Args: cobra.RangeArgs(1, 2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
		to := ""
		if len(args) == 2 {
			to = args[1]
		}
		m, err := c.Compare(ctx, args[0], to)
		if err != nil {
			return err
		}
		var rows [][]any
		for _, x := range m.Site {
			rows = append(rows, []any{"(site)", x.Field, wrap(dash(x.Before), 60), wrap(dash(x.After), 60)})
		}
		rows = append(rows, comparisonRows(m.Comparison)...)
		if len(rows) == 0 && a.output == "table" {
			a.say("The plans are the same.")
			return nil
		}
		return a.list(m, []string{"Tag", "What", "Before", "After"}, rows, "")
	})}
}

func (a *app) planRestore() *cobra.Command {
	var preview bool
	c := &cobra.Command{Use: "restore REVISION", Short: "Make the plan as it was right after a revision", Args: cobra.ExactArgs(1),
		Long: `Makes plan, subnets and policies as they were right after a revision. Nothing is
lost: restoring is a revision too. Entries whose devices are configured stay.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			out, err := c.Restore(ctx, args[0], preview)
			return a.printEdited(out, err, preview)
		})}
	c.Flags().BoolVar(&preview, "preview", false, "only show what would change")
	return c
}

func (a *app) planUndo() *cobra.Command {
	return &cobra.Command{Use: "undo", Short: "Take the latest revision back", RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
		list, err := c.Revisions(ctx)
		if err != nil || len(list) == 0 {
			return err
		}
		out, err := c.Undo(ctx, plainNumber(list[0].ID))
		return a.printEdited(out, err, false)
	})}
}

func (a *app) planName() *cobra.Command {
	return &cobra.Command{Use: "name-revision REVISION NAME", Short: "Name a revision, like “issued for construction, rev C”", Args: cobra.ExactArgs(2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
		if err := c.NameRevision(ctx, args[0], args[1]); err != nil {
			return err
		}
		a.say("Revision %s is named %q.", args[0], args[1])
		return nil
	})}
}
