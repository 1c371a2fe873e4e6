package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/value"
)

// knownLogins lists which devices are given the logins of others.
func (a *app) knownLogins() *cobra.Command {
	return &cobra.Command{Use: "known [TAG...]", Short: "Which devices are given whose login",
		Long: `Lists the logins that devices are given of others: a recorder those of its cameras, a
door station that of the camera it shows. When a login changes, commission who knows it: it is
given the new one. With TAG, only where that entry gives its login or is given one.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			list, err := c.KnownLogins(ctx)
			if err != nil {
				return err
			}
			list = slices.DeleteFunc(list, func(k api.KnownLogin) bool {
				return len(tags) > 0 && !slices.Contains(tags, k.Of) && !slices.Contains(tags, k.By)
			})
			earlier := 0
			var rows [][]any
			for _, k := range list {
				if k.State == api.LoginEarlier {
					earlier++
				}
				rows = append(rows, []any{k.Of, k.By, k.Setting, k.State})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("No device is given the login of another.")
				return nil
			}
			if err := a.list(list, []string{"Login of", "Known by", "Setting", "It has"}, rows, ""); err != nil {
				return err
			}
			return attentionUnless(earlier == 0, value.Count(earlier, "device")+" with an earlier login; commission again: redstart commission")
		})}
}
