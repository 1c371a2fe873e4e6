package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// What may hang on a port of a switch.
const (
	HangsSwitch  = "switch"
	HangsOne     = "one device"
	HangsMany    = "many devices"
	HangsNothing = "nothing"
)

// Hangs are all of them.
var Hangs = []string{HangsSwitch, HangsOne, HangsMany, HangsNothing}

// Columns of a table of ports (profile.PortsSetting), besides the first, which is the number.
// A column that a row leaves empty has the value of its role.
const (
	PortRoleColumn = "role"
	hangsColumn    = "hangs"
	untaggedColumn = "untagged"
	taggedColumn   = "tagged"
	onColumn       = "on"
	managedKey     = "management-vlan" // setting that says on which VLAN a switch is managed
	managedAtKey   = "management-ports"
)

// PortRole is a set of settings for many ports of switches at once, defined once for a site
// (VLANs: IEEE 802.1Q).
type PortRole struct {
	Name     string `json:"name"`
	Hangs    string `json:"hangs"`    // one of Hangs
	Untagged int    `json:"untagged"` // 1 to 4094
	Tagged   string `json:"tagged"`   // numbers and ranges: 408, 410-412
	Off      bool   `json:"off"`      // ports of this role are switched off
}

func (r PortRole) check() error {
	tagged, err := value.Numbers(r.Tagged)
	switch {
	case strings.TrimSpace(r.Name) == "" || len(r.Name) > 40:
		return fmt.Errorf("a role of ports needs a name of at most 40 characters")
	case !slices.Contains(Hangs, r.Hangs):
		return fmt.Errorf("role %q: what hangs there is one of %s", r.Name, strings.Join(Hangs, ", "))
	case r.Untagged < 1 || r.Untagged > maxVLAN:
		return fmt.Errorf("role %q: the untagged VLAN is 1 to %d", r.Name, maxVLAN)
	case err != nil:
		return fmt.Errorf("role %q: its tagged VLANs: it %w", r.Name, err)
	case slices.ContainsFunc(tagged, func(n int) bool { return n < 1 || n > maxVLAN }):
		return fmt.Errorf("role %q: a tagged VLAN is 1 to %d", r.Name, maxVLAN)
	case slices.Contains(tagged, r.Untagged):
		return fmt.Errorf("role %q: VLAN %d is tagged and untagged", r.Name, r.Untagged)
	}
	return nil
}

const maxVLAN = 4094

// checkRoles says what is wrong with the roles of ports.
func (s Site) checkRoles() error {
	if len(s.Roles) > 50 {
		return fmt.Errorf("a site has at most 50 roles of ports")
	}
	names := map[string]bool{}
	for _, r := range s.Roles {
		if err := r.check(); err != nil {
			return err
		}
		if names[strings.ToLower(r.Name)] {
			return fmt.Errorf("two roles of ports are named %q", r.Name)
		}
		names[strings.ToLower(r.Name)] = true
	}
	return nil
}

// Role finds a role by its name.
func (s Site) Role(name string) (PortRole, bool) {
	i := slices.IndexFunc(s.Roles, func(r PortRole) bool { return strings.EqualFold(r.Name, name) })
	if i < 0 {
		return PortRole{}, false
	}
	return s.Roles[i], true
}

// withRoles gives the rows of a table of ports with what their roles say.
func (s Site) withRoles(rows []profile.Row) []profile.Row {
	out := make([]profile.Row, len(rows))
	for i, row := range rows {
		out[i] = row
		r, ok := s.Role(row[PortRoleColumn])
		if !ok {
			continue
		}
		out[i] = profile.Row{hangsColumn: r.Hangs, untaggedColumn: strconv.Itoa(r.Untagged), onColumn: "yes"}
		if r.Off {
			out[i][onColumn] = "no"
		}
		if r.Tagged != "" {
			out[i][taggedColumn] = r.Tagged
		}
		maps.Copy(out[i], row)
	}
	return out
}

// GiveRole gives ports of a table a role: their rows hold nothing else then. Rows of other
// ports stay.
func GiveRole(table, column, role string, ports []int) (string, error) {
	rows, err := profile.ParseRows(table)
	if err != nil {
		return "", err
	}
	given := map[string]bool{}
	for _, n := range ports {
		given[strconv.Itoa(n)] = true
	}
	rows = slices.DeleteFunc(rows, func(r profile.Row) bool { return given[r[column]] })
	for _, n := range ports {
		rows = append(rows, profile.Row{column: strconv.Itoa(n), PortRoleColumn: role})
	}
	slices.SortStableFunc(rows, func(a, b profile.Row) int {
		x, _ := strconv.Atoi(a[column]) // one that is no number was found already
		y, _ := strconv.Atoi(b[column])
		return x - y
	})
	return profile.RowsText(rows), nil
}

// portRoles checks the ports of all switches against each other: links between switches have
// one untagged VLAN and carry the one on which switches are managed, and what the plan hangs
// on a port is what its role is for.
func (c *checker) portRoles() {
	links := map[string]string{} // untagged VLAN of a link, and who has it
	for _, e := range c.Entries {
		rows, column := c.portsOf(e)
		for _, row := range rows {
			at := fmt.Sprintf("port %s", row[column])
			tagged, _ := value.Numbers(row[taggedColumn]) // its form was checked before
			if name := row[PortRoleColumn]; name != "" {
				if _, ok := c.Site.Role(name); !ok {
					c.find("port-role", e.Tag, profile.PortsSetting, fmt.Sprintf("%s: the site has no role of ports %q", at, name), nil)
					continue
				}
			}
			if row[hangsColumn] == "" || row[untaggedColumn] == "" {
				c.find("port-role", e.Tag, profile.PortsSetting, at+" has neither a role nor all of what a role says", nil)
				continue
			}
			if row[hangsColumn] != HangsSwitch {
				continue
			}
			links[row[untaggedColumn]] = cmp.Or(links[row[untaggedColumn]], e.Tag+", "+at)
			if m := e.Settings[managedKey]; m != "" && m != row[untaggedColumn] && !slices.ContainsFunc(tagged, func(n int) bool {
				return strconv.Itoa(n) == m
			}) {
				c.find("port-management", e.Tag, profile.PortsSetting,
					fmt.Sprintf("%s leads to a switch and does not carry VLAN %s, on which switches are managed", at, m), nil)
			}
			if managed, _ := value.Numbers(e.Settings[managedAtKey]); slices.ContainsFunc(managed, func(n int) bool {
				return strconv.Itoa(n) == row[column]
			}) {
				c.find("port-management", e.Tag, managedAtKey, at+" leads to another switch: it is never managed there", nil)
			}
		}
	}
	if vlans := slices.Sorted(maps.Keys(links)); len(vlans) > 1 {
		var where []string
		for _, v := range vlans {
			where = append(where, v+" at "+links[v])
		}
		tag, _, _ := strings.Cut(links[vlans[1]], ", ")
		c.find("port-links", tag, profile.PortsSetting,
			"links between switches have different untagged VLANs: "+strings.Join(where, "; "), nil)
	}
	for _, e := range c.Entries {
		c.hangsRightly(e)
	}
}

// portsOf gives the ports of a switch with what their roles say, and the column that numbers
// them.
func (c *checker) portsOf(e Entry) (rows []profile.Row, column string) {
	p := c.Profiles[e.Profile]
	if p == nil || p.Setting(profile.PortsSetting) == nil || e.Settings[profile.PortsSetting] == "" {
		return nil, ""
	}
	rows, err := profile.ParseRows(e.Settings[profile.PortsSetting])
	if err != nil {
		return nil, "" // it was found already
	}
	return c.Site.withRoles(rows), p.Setting(profile.PortsSetting).Columns[0].Key
}

// hangsRightly compares where an entry is plugged in with the role of that port.
func (c *checker) hangsRightly(e Entry) {
	tag, port, ok := strings.Cut(e.SwitchPort, "/")
	at, found := c.byTag[tag]
	if !ok || !found {
		return
	}
	rows, column := c.portsOf(c.Entries[at])
	i := slices.IndexFunc(rows, func(r profile.Row) bool { return r[column] == profile.PortNumber(port) })
	if i < 0 {
		return
	}
	hangs := rows[i][hangsColumn]
	why := ""
	switch {
	case rows[i][onColumn] == "no":
		why = "that port is switched off"
	case hangs == HangsNothing:
		why = "nothing hangs there by its role"
	case e.Kind == "switch" && hangs != HangsSwitch:
		why = "that port is for " + hangs + ", and this is a switch"
	case e.Kind != "switch" && hangs == HangsSwitch:
		why = "that port leads to a switch by its role"
	}
	if why != "" {
		c.find("port-hangs", e.Tag, "switch-port", e.SwitchPort+": "+why, nil)
	}
}
