package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
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
			return a.giveRole(ctx, c, args[0], args[1], args[2:])
		})}
	return group("ports", "Roles of switches' ports: defined once, given to many ports at once", roles, role, give)
}

func (a *app) giveRole(ctx context.Context, c *client.Client, role, ports string, tags []string) error {
	site, err := c.Site(ctx)
	if err != nil {
		return err
	}
	if _, ok := site.Role(role); !ok {
		return problem.New(problem.Missing, "the site has no role of ports of that name",
			"define it: redstart plan ports role NAME").About(role)
	}
	numbers, err := value.Numbers(ports)
	if err != nil || len(numbers) == 0 {
		return problem.New(problem.Usage, "these are no ports", "write numbers and ranges, like 1-8,24").About(ports)
	}
	profiles, err := c.Profiles(ctx)
	if err != nil {
		return err
	}
	var patches []plan.Patch
	for _, tag := range tags {
		d, err := c.Entry(ctx, tag)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(profiles, func(p *profile.Profile) bool { return p.ID == d.Entry.Profile })
		if i < 0 || profiles[i].Setting(profile.PortsSetting) == nil {
			return problem.New(problem.Conflict, "this model has no roles of ports", "").About(tag)
		}
		table, err := plan.GiveRole(d.Entry.Settings[profile.PortsSetting],
			profiles[i].Setting(profile.PortsSetting).Columns[0].Key, role, numbers)
		if err != nil {
			return problem.New(problem.Conflict, err.Error(), "mend it in the plan").About(tag)
		}
		patches = append(patches, plan.Patch{Tag: tag, Set: map[string]string{profile.PortsSetting: table}})
	}
	_, err = c.Edit(ctx, api.Edits{What: fmt.Sprintf("ports %s are %s", value.NumbersText(numbers), role), Patches: patches,
		Configured: true}, false)
	if err != nil {
		return err
	}
	a.say("%s of %s: %s. Next: redstart plan check", value.Count(len(numbers), "port"), value.Count(len(tags), "entry"), role)
	return nil
}
