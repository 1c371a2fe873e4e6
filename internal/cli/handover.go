package cli

import (
	"context"

	"github.com/spf13/cobra"

	"redstart/internal/client"
)

// handover makes the documents of the hand-over.
func (a *app) handover() *cobra.Command {
	c := &cobra.Command{Use: "handover [NAME FILE]", Short: "Write a document of the hand-over, or list them",
		Long: "Without a name, lists the documents. Each says of every entry how far it was verified, and when. " +
			"- as the file writes to the terminal.",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			return cobra.ExactArgs(2)(c, args)
		},
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 0 {
				list, err := c.Documents(ctx)
				if err != nil {
					return err
				}
				var rows [][]any
				for _, d := range list {
					rows = append(rows, []any{d.Name, d.Says})
				}
				return a.list(list, []string{"DOCUMENT", "WHAT IT HOLDS"}, rows, "redstart handover NAME FILE")
			}
			content, err := c.Document(ctx, args[0])
			if err != nil {
				return err
			}
			return a.saveFile(args[1], content)
		})}
	return c
}
