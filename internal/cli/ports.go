package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// planPorts defines roles of switches' ports, and gives them to many ports at once.
func (a *app) planPorts() *cobra.Command {
	roles := &cobra.Command{Use: "roles", Short: "List the roles of ports that the site defines", Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			site, err := c.Site(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, r := range site.Roles {
				on := "on"
				if r.Off {
					on = "off"
				}
				rows = append(rows, []any{r.Name, r.Hangs, r.Untagged, dash(r.Tagged), on})
			}
			return a.list(site.Roles, []string{"Role", "What hangs there", "Untagged VLAN", "Tagged VLANs", "Port"}, rows,
				"Define one: redstart plan ports role NAME --hangs switch --untagged 1 --tagged 408,410")
		})}
	var in plan.PortRole
	var remove bool
	role := &cobra.Command{Use: "role NAME", Short: "Define a role of ports, or change it for all that have it",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			site, err := c.Site(ctx)
			if err != nil {
				return err
			}
			in.Name = args[0]
			at := slices.IndexFunc(site.Roles, func(r plan.PortRole) bool { return strings.EqualFold(r.Name, in.Name) })
			switch {
			case remove && at < 0:
				return problem.New(problem.Missing, "the site has no role of ports of that name",
					"list them: redstart plan ports roles").About(in.Name)
			case remove:
				site.Roles = slices.Delete(site.Roles, at, at+1)
			case at < 0:
				site.Roles = append(site.Roles, in)
			default:
				site.Roles[at] = in
			}
			if err := c.SetSite(ctx, site); err != nil {
				return err
			}
			if remove {
				a.say("%s is a role no more. See what lacks it: redstart plan check", in.Name)
				return nil
			}
			a.say("%s: %s, untagged %d, tagged %s. Give it: redstart plan ports give %q 1-8 TAG", in.Name, in.Hangs, in.Untagged,
				cmp.Or(in.Tagged, "none"), in.Name)
			return nil
		})}
	role.Flags().StringVar(&in.Hangs, "hangs", plan.HangsOne, "what hangs there: "+strings.Join(plan.Hangs, ", "))
	role.Flags().IntVar(&in.Untagged, "untagged", 1, "untagged VLAN, 1 to 4094")
	role.Flags().StringVar(&in.Tagged, "tagged", "", "tagged VLANs, like 408,410-412")
	role.Flags().BoolVar(&in.Off, "off", false, "ports of this role are switched off")
	role.Flags().BoolVar(&remove, "remove", false, "the site has this role no more")

	give := &cobra.Command{Use: "give ROLE PORTS TAG...", Short: "Give ranges of ports of many switches a role in one act",
		Long: "PORTS are numbers and ranges: 1-8,24. What was said of these ports before gives way to the role; other ports stay as they are. " +
			"The port that the computer hangs on is set last by a run, and proven.",
		Args: cobra.MinimumNArgs(3),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			in := api.RoleGiven{Role: args[0], Ports: args[1], Tags: args[2:]}
			if _, err := c.GiveRole(ctx, in, false); err != nil {
				return err
			}
			numbers, err := value.Numbers(in.Ports)
			if err != nil {
				return err
			}
			a.say("%s of %s: %s. Next: redstart plan check", value.Count(len(numbers), "port"), value.Count(len(in.Tags), "entry"), in.Role)
			return nil
		})}
	return group("ports", "Roles of switches' ports: defined once, given to many ports at once", roles, role, give)
}
