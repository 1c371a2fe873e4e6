package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

func (a *app) site() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the sites",
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, _ []string) error {
			sites, err := c.Sites(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, s := range sites {
				rows = append(rows, []any{s.Key, s.Name, value.Count(len(s.Subnets), "subnet"), value.Count(s.Entries, "entry"),
					s.States["verified"]})
			}
			if len(rows) == 0 && a.output == "table" {
				return errNoSite
			}
			return a.list(sites, []string{"Key", "Site", "Subnets", "Entries", "Verified"}, rows, "")
		})}
	show := &cobra.Command{Use: "show", Short: "Show the site's data",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			return a.printSite(ctx, c)
		})}
	var yes bool
	remove := &cobra.Command{Use: "remove KEY",
		Short: "Forget a site with its plan, devices, runs and history, for good", Args: cobra.ExactArgs(1),
		RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			keys, err := c.Keys(ctx)
			if err == nil && !slices.Contains(keys, args[0]) {
				err = problem.New(problem.Missing, "there is no such site",
					"list them: redstart site list").About(args[0])
			}
			if err == nil {
				err = a.sure(fmt.Sprintf("The site %s is forgotten with its plan, devices, runs and history, for good.",
					args[0]), yes)
			}
			if err != nil {
				return err
			}
			if err := c.At(args[0]).RemoveSite(ctx); err != nil {
				return err
			}
			a.say("The site %s is forgotten. Credentials of its boxes stay in the vault.", args[0])
			return nil
		})}
	remove.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return group("site", "The sites: their data and subnets", list, show, a.siteSet("set"), a.siteSet("add"), remove,
		a.siteSubnet(), a.siteReckon(), a.siteExport(), a.siteImport())
}

// siteSet is "site set", which also makes the first site, and "site add",
// which makes a further one.
func (a *app) siteSet(use string) *cobra.Command {
	var in plan.Site
	c := &cobra.Command{Use: use,
		Short: map[string]string{"set": "Set the site's data; what is not given stays. Makes the first site",
			"add": "Make a further site"}[use],
		Example: fmt.Sprintf("  redstart site %s --name \"Skerry Point\" --subnet 10.40.8.0/22 --gateway 10.40.8.1 --keep-free \"10.40.8.2-10.40.8.19 servers\"", use)}
	f := c.Flags()
	f.StringVar(&in.Name, "name", "", "name of the site")
	f.StringVar(&in.Key, "key", "", "short `key`; made from the name if not given")
	f.StringVar(&in.Contact, "contact", "", "who is asked when something is unclear")
	f.StringVar(&in.Notes, "notes", "", "what whoever works there should know")
	f.StringVar(&in.Zone, "zone", "", "time zone, like Europe/Oslo")
	f.StringVar(&in.Language, "language", "", "language of documents, like en")
	f.StringVar(&in.Naming, "naming", "",
		"`pattern` of device names, like {site}-{area}-{kind}-{n:02}; {tag} if not given")
	f.StringSliceVar(&in.Register, "register", nil,
		"`columns` of the register that is handed over, such as tag,place,address,name; an empty text takes the usual ones")
	f.StringSliceVar(&in.Package, "package", nil,
		"`documents` in the package that is handed over, such as report,register,zones; an empty text takes all of them")
	subnet := subnetFlags(f, "subnet")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx := cmd.Context()
		c, s, err := a.siteToSet(ctx, use)
		if err != nil {
			return err
		}
		for flag, set := range map[string]func(){
			"name": func() {
				s.Name = in.Name
			}, "key": func() {
				s.Key = in.Key
			}, "contact": func() { s.Contact = in.Contact }, "notes": func() { s.Notes = in.Notes },
			"zone": func() {
				s.Zone = in.Zone
			}, "language": func() { s.Language = in.Language }, "naming": func() { s.Naming = in.Naming },
			"register": func() { s.Register = slices.DeleteFunc(in.Register, func(key string) bool { return key == "" }) },
			"package":  func() { s.Package = slices.DeleteFunc(in.Package, func(name string) bool { return name == "" }) },
		} {
			if f.Changed(flag) {
				set()
			}
		}
		if subnet.given(f) {
			if len(s.Subnets) == 0 {
				s.Subnets = []plan.Subnet{{Name: "main"}}
			}
			if err := subnet.into(f, &s.Subnets[0]); err != nil {
				return err
			}
		}
		if c.Key() == "" {
			if s, err = c.AddSite(ctx, s); err == nil {
				c = c.At(s.Key)
			}
		} else if err = c.SetSite(ctx, s); err == nil && s.Key != "" {
			c = c.At(s.Key)
		}
		if err != nil {
			return err
		}
		return a.printSite(ctx, c)
	}
	return c
}

// siteToSet gives the site to change; a client without a site means a new one.
func (a *app) siteToSet(ctx context.Context, use string) (*client.Client, plan.Site, error) {
	if use == "set" {
		c, err := a.client(ctx)
		if err == nil {
			s, err := c.Site(ctx)
			return c, s, err
		}
		if !errors.Is(err, errNoSite) {
			return nil, plan.Site{}, err
		}
	}
	c, err := a.service(ctx)
	return c, plan.Site{}, err
}

// subnetValues are the flags that describe a subnet.
type subnetValues struct {
	prefixFlag              string
	prefix, gateway, domain string
	vlan                    int
	dns, ntp, log, snmp     []string
	keep, ranges            []string
}

func subnetFlags(f *pflag.FlagSet, prefixFlag string) *subnetValues {
	v := &subnetValues{prefixFlag: prefixFlag}
	f.StringVar(&v.prefix, prefixFlag, "", "planned `prefix`, like 10.40.8.0/22")
	f.StringVar(&v.gateway, "gateway", "", "`address` of the gateway")
	f.IntVar(&v.vlan, "vlan", 0, "VLAN `id`, 1 to 4094")
	f.StringSliceVar(&v.dns, "dns", nil, "`addresses` of DNS servers, divided by commas")
	f.StringSliceVar(&v.ntp, "ntp", nil, "`addresses` of time servers")
	f.StringVar(&v.domain, "domain", "", "domain `name`")
	f.StringSliceVar(&v.log, "log", nil, "`addresses` that devices send their messages to")
	f.StringSliceVar(&v.snmp, "snmp", nil, "`addresses` that devices send SNMP notifications to")
	f.StringArrayVar(&v.keep, "keep-free", nil,
		"`range` that no entry may use, with a reason behind a space; may be given again")
	f.StringArrayVar(&v.ranges, "range", nil, "`KIND=RANGE`: where devices of a kind get addresses; may be given again")
	return v
}

func (v *subnetValues) given(f *pflag.FlagSet) bool {
	return slices.ContainsFunc([]string{v.prefixFlag, "gateway", "vlan", "dns", "ntp", "domain", "log", "snmp",
		"keep-free", "range"}, f.Changed)
}

// into puts what was given into a subnet.
func (v *subnetValues) into(f *pflag.FlagSet, n *plan.Subnet) (err error) {
	wrong := func(flag string, err error) error {
		return problem.New(problem.Usage, err.Error(), "").About("--" + flag)
	}
	if f.Changed(v.prefixFlag) {
		if n.Prefix, err = netip.ParsePrefix(v.prefix); err != nil {
			return wrong(v.prefixFlag, fmt.Errorf("%q is not a prefix like 10.40.8.0/22", v.prefix))
		}
	}
	if f.Changed("vlan") {
		n.VLAN = v.vlan
	}
	if f.Changed("domain") {
		n.Domain = v.domain
	}
	if f.Changed("gateway") {
		if n.Gateway = (netip.Addr{}); v.gateway != "" {
			if n.Gateway, err = address.ParseIPv4(v.gateway); err != nil {
				return wrong("gateway", err)
			}
		}
	}
	for _, l := range []struct {
		flag  string
		texts []string
		to    *[]netip.Addr
	}{{"dns", v.dns, &n.DNS}, {"ntp", v.ntp, &n.NTP}, {"log", v.log, &n.Log}, {"snmp", v.snmp, &n.Traps}} {
		if !f.Changed(l.flag) {
			continue
		}
		*l.to = nil
		for _, text := range l.texts {
			if text == "" {
				continue
			}
			at, err := address.ParseIPv4(text)
			if err != nil {
				return wrong(l.flag, err)
			}
			*l.to = append(*l.to, at)
		}
	}
	if f.Changed("keep-free") {
		n.KeptFree = nil
		for _, text := range v.keep {
			r, reason, _ := strings.Cut(text, " ")
			k := plan.Kept{Reason: reason}
			if k.Range, err = address.ParseRange(r); err != nil {
				return wrong("keep-free", err)
			}
			n.KeptFree = append(n.KeptFree, k)
		}
	}
	if f.Changed("range") {
		n.Ranges = nil
		for _, text := range v.ranges {
			kind, r, _ := strings.Cut(text, "=")
			k := plan.KindRange{Kind: kind}
			if k.Range, err = address.ParseRange(r); err != nil {
				return wrong("range", err)
			}
			n.Ranges = append(n.Ranges, k)
		}
	}
	return nil
}

func (a *app) siteSubnet() *cobra.Command {
	var remove bool
	c := &cobra.Command{Use: "subnet NAME", Short: "Make or change a subnet of the site; what is not given stays",
		Args:    cobra.ExactArgs(1),
		Example: "  redstart site subnet telephones --prefix 10.41.0.0/24 --vlan 41 --gateway 10.41.0.1"}
	v := subnetFlags(c.Flags(), "prefix")
	c.Flags().BoolVar(&remove, "remove", false, "take the subnet out of the plan")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		c, err := a.client(ctx)
		if err != nil {
			return err
		}
		s, err := c.Site(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(s.Subnets, func(n plan.Subnet) bool { return n.Name == args[0] })
		switch {
		case remove && i < 0:
			return problem.New(problem.Missing, "the site has no such subnet", "").About(args[0])
		case remove:
			s.Subnets = slices.Delete(s.Subnets, i, i+1)
		case i < 0:
			i = len(s.Subnets)
			s.Subnets = append(s.Subnets, plan.Subnet{Name: args[0]})
			fallthrough
		default:
			if err := v.into(cmd.Flags(), &s.Subnets[i]); err != nil {
				return err
			}
		}
		if err := c.SetSite(ctx, s); err != nil {
			return err
		}
		return a.printSite(ctx, c)
	}
	return c
}

func (a *app) siteReckon() *cobra.Command {
	return &cobra.Command{Use: "reckon PREFIX|ADDRESS",
		Short: "Reckon a subnet: network, broadcast, hosts, how many are left", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if errors.Is(err, errNoSite) {
				c, err = a.service(ctx)
			}
			if err != nil {
				return err
			}
			r, err := c.Reckon(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			rows := [][]any{{"Prefix", r.Prefix}, {"Mask", r.Mask}, {"Network", r.Network}, {"First host", r.First},
				{"Last host", r.Last}, {"Broadcast", r.Broadcast}, {"Usable hosts", r.Hosts}}
			if r.Subnet != "" {
				rows = append(rows, []any{"Subnet of the site", r.Subnet}, []any{"Left", r.Left},
					[]any{"This address is", strings.TrimSpace(r.Is + "  " + r.Text)})
			}
			return a.list(r, []string{args[0], ""}, rows, "")
		}}
}

func addrs(list []netip.Addr) cell {
	var parts []string
	for _, at := range list {
		parts = append(parts, at.String())
	}
	return dash(strings.Join(parts, " "))
}

func (a *app) printSite(ctx context.Context, c *client.Client) error {
	s, err := c.Site(ctx)
	if err != nil {
		return err
	}
	rows := [][]any{{"Name", s.Name}, {"Key", s.Key}, {"Contact", dash(s.Contact)}, {"Notes", wrap(s.Notes, 70)},
		{"Time zone", dash(s.Zone)}, {"Language", dash(s.Language)}, {"Device names", dash(s.Naming)}}
	for _, n := range s.Subnets {
		hosts := address.Hosts(n.Prefix)
		rows = append(rows, []any{"", ""}, []any{"Subnet " + n.Name, n.Prefix}, []any{"  Mask", address.Mask(n.Prefix)},
			[]any{"  Usable", fmt.Sprintf("%s, %d addresses", hosts, hosts.Size())})
		if n.VLAN > 0 {
			rows = append(rows, []any{"  VLAN", n.VLAN})
		}
		rows = append(rows, []any{"  Gateway", addr(n.Gateway)}, []any{"  DNS", addrs(n.DNS)},
			[]any{"  Time servers", addrs(n.NTP)})
		if n.Domain != "" {
			rows = append(rows, []any{"  Domain", n.Domain})
		}
		if len(n.Log)+len(n.Traps) > 0 {
			rows = append(rows, []any{"  Messages to", addrs(n.Log)}, []any{"  SNMP to", addrs(n.Traps)})
		}
		for _, k := range n.KeptFree {
			rows = append(rows, []any{"  Kept free", strings.TrimSpace(k.Range.String() + " " + k.Reason)})
		}
		for _, r := range n.Ranges {
			rows = append(rows, []any{"  For a " + r.Kind, r.Range})
		}
	}
	for _, p := range s.Policies {
		rows = append(rows, []any{"Logins", p.Words()})
	}
	next := "Next: redstart plan import FILE"
	if len(s.Subnets) == 0 {
		next = "Next: redstart site set --subnet PREFIX --gateway ADDRESS"
	}
	return a.list(s, []string{"Site", ""}, rows, next)
}
