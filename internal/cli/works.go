package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/state"
)

// works lists what goes on side by side in the service.
func (a *app) works() *cobra.Command {
	c := &cobra.Command{Use: "works", Short: "List what is under way in the service, and what ended lately",
		Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Works(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			under := 0
			for _, w := range list {
				left := dash("")
				if w.State == state.Running {
					under++
					left = cell{fmt.Sprint(w.Seconds), seconds(w.Seconds)}
				}
				rows = append(rows, []any{w.ID, w.Kind, w.Site, w.Who, w.State, clock(w.Began), wrap(w.Text, 50), left})
			}
			next := "Nothing is under way."
			if under > 0 {
				next = "To stop one: redstart works stop NUMBER"
			}
			return a.list(list, []string{"Number", "Work", "Site", "Begun by", "State", "Since", "", "Left"}, rows,
				next)
		})}
	c.AddCommand(&cobra.Command{Use: "stop NUMBER",
		Short: "Stop a work: what is in hand is finished, nothing more is begun", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id <= 0 {
				return &usageError{fmt.Errorf("%q is no number of a work; they are listed by: redstart works", args[0])}
			}
			if err := c.Stop(ctx, id); err != nil {
				return err
			}
			a.say("Work %d is being stopped.", id)
			return nil
		})})
	return c
}
