package planning

import (
	"context"
	"fmt"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// mostPorts are given a role at once; no switch has more.
const mostPorts = 256

// GiveRole gives ports of switches a role, all or none. What was said of these ports before gives
// way to it; other ports stay as they are.
func (s *Site) GiveRole(ctx context.Context, in api.RoleGiven, preview bool, who string) (api.Edited, error) {
	numbers, err := value.Numbers(in.Ports)
	if err == nil && len(numbers) > mostPorts {
		return Edited(), problem.New(problem.Usage, fmt.Sprintf("%d ports are more than a switch has", len(numbers)),
			fmt.Sprintf("give at most %d", mostPorts)).About(in.Ports)
	}
	if err != nil || len(numbers) == 0 {
		return Edited(), problem.New(problem.Usage, "these are no ports", "write numbers and ranges, like 1-8,24").About(in.Ports)
	}
	if len(in.Tags) == 0 {
		return Edited(), problem.New(problem.Usage, "it is not said for which entries", "give their tags")
	}
	what := fmt.Sprintf("ports %s are %s", value.NumbersText(numbers), in.Role)
	return s.edit(ctx, api.Edits{What: what, Configured: true}, nil, preview, who, func(p plan.Plan) ([]plan.Patch, api.Edited, error) {
		if _, ok := p.Site.Role(in.Role); !ok {
			return nil, Edited(), problem.New(problem.Missing, "the site has no role of ports of that name",
				"define it: redstart plan ports role NAME").About(in.Role)
		}
		chosen := map[string]plan.Entry{}
		for _, e := range p.Entries {
			chosen[e.Tag] = e
		}
		var patches []plan.Patch
		once := map[string]bool{}
		for _, tag := range in.Tags {
			if once[tag] {
				continue
			}
			once[tag] = true
			e, ok := chosen[tag]
			if !ok {
				return nil, Edited(), problem.New(problem.Missing, "there is no such entry in the plan",
					"list the entries with: redstart plan list").About(tag)
			}
			q := p.Profiles[e.Profile]
			if q == nil || q.Setting(profile.PortsSetting) == nil {
				return nil, Edited(), problem.New(problem.Conflict, "this model has no roles of ports", "").About(tag)
			}
			table, err := plan.GiveRole(e.Settings[profile.PortsSetting], q.Setting(profile.PortsSetting).Columns[0].Key, in.Role, numbers)
			if err != nil {
				return nil, Edited(), problem.New(problem.Conflict, err.Error(), "mend it in the plan").About(tag)
			}
			patches = append(patches, plan.Patch{Tag: tag, Set: map[string]string{profile.PortsSetting: table}})
		}
		return patches, Edited(), nil
	})
}
