package cli

import (
	"context"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/problem"
)

func (a *app) planHistory() *cobra.Command {
	return &cobra.Command{Use: "history", Short: "List what was changed in plan, subnets and policies, latest first",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Revisions(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, r := range list {
				rows = append(rows, []any{r.ID, day(r.At.Time), r.Who, wrap(r.What, 70), r.Name})
			}
			return a.list(list, []string{"Revision", "At", "Who", "What", "Name"}, rows,
				"Compare two with: redstart plan compare REVISION [REVISION]")
		})}
}

func (a *app) planCompare() *cobra.Command {
	return &cobra.Command{Use: "compare REVISION [REVISION]",
		Short: "Compare the plans of two moments; the second is now if not given", Args: cobra.RangeArgs(1, 2),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
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
				rows = append(rows, []any{"(site)", x.Field, wrap(x.Before, 60), wrap(x.After, 60)})
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
	c := &cobra.Command{Use: "restore REVISION", Short: "Make the plan as it was right after a revision",
		Args: cobra.ExactArgs(1),
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
	return &cobra.Command{Use: "undo", Short: "Go one step back in what was changed",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			return a.step(ctx, c, "undo", c.Undo)
		})}
}

func (a *app) planRedo() *cobra.Command {
	return &cobra.Command{Use: "redo", Short: "Go one step forward again, after undo",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			return a.step(ctx, c, "redo", c.Redo)
		})}
}

// step goes one step back or forward.
func (a *app) step(ctx context.Context, c *client.Client, which string,
	do func(context.Context, string) (api.Edited, error)) error {
	list, err := c.Revisions(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		if r.May == which {
			out, err := do(ctx, plainNumber(r.ID))
			return a.printEdited(out, err, false)
		}
	}
	return problem.New(problem.Conflict, "there is nothing to "+which, "look at: redstart plan history")
}

func (a *app) planName() *cobra.Command {
	return &cobra.Command{Use: "name-revision REVISION NAME",
		Short: "Name a revision, like “issued for construction, rev C”", Args: cobra.ExactArgs(2),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.NameRevision(ctx, args[0], args[1]); err != nil {
				return err
			}
			a.say("Revision %s is named %q.", args[0], args[1])
			return nil
		})}
}
