package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
	"redstart/internal/lan"
	"redstart/internal/lan/adapter"
	"redstart/internal/lan/segment"
	"redstart/internal/lan/vxlan"
	"redstart/internal/sim/box"
	"redstart/internal/sim/hands"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

// simFlags are the options of the simulated site.
type simFlags struct {
	skerry.Options
	fault []string
	given func(flag string) bool
}

func (f *simFlags) add(c *cobra.Command) {
	f.given = c.Flags().Changed
	c.Flags().IntVar(&f.Devices, "devices", 0,
		"only so many devices that are set by a run; without it, the whole terminal with everything else")
	c.Flags().Uint64Var(&f.Seed, "seed", 1, "what serials, MACs and boot times are made from")
	c.Flags().Float64Var(&f.Pace, "restarts", 1, "multiply the devices' restart times by this")
	c.Flags().Float64Var(&f.Faults.Loss, "loss", 0, "part of the frames that are lost, 0 to 1")
	c.Flags().Float64Var(&f.Faults.Duplicate, "double", 0, "part of the frames that arrive twice, 0 to 1")
	c.Flags().DurationVar(&f.Faults.Delay, "delay", 0, "frames are late by up to this")
	c.Flags().StringArrayVar(&f.fault, "fault", nil,
		"`N=WHAT`: device N never-returns, comes back at its old-address, refuses-password, is mute when it restarts, takes its address at-once and forgets it, only pretends to restart, skips-unchanged, or came with old-firmware; may be given again")
}

// options checks the flags.
func (f *simFlags) options() (skerry.Options, error) {
	o := f.Options
	if !f.given("devices") {
		o.Devices, o.Whole = skerry.Devices, true
	}
	wrong := func(cause string) (skerry.Options, error) {
		return o, problem.New(problem.Usage, cause, "see: redstart sim --help")
	}
	switch {
	case f.given("devices") && (o.Devices < 1 || o.Devices > 2000):
		return wrong("--devices must be 1 to 2000")
	case o.Faults.Loss < 0 || o.Faults.Loss > 0.9 || o.Faults.Duplicate < 0 || o.Faults.Duplicate > 1:
		return wrong("--loss must be 0 to 0.9 and --double 0 to 1")
	case o.Faults.Delay < 0 || o.Faults.Delay > time.Second:
		return wrong("--delay must be at most 1s")
	case o.Pace <= 0 || o.Pace > 100:
		return wrong("--restarts must be above 0 and at most 100")
	}
	o.Broken = map[int]box.Faults{}
	for _, text := range f.fault {
		number, what, _ := strings.Cut(text, "=")
		var n int
		if _, err := fmt.Sscanf(number, "%d", &n); err != nil || n < 1 || n > o.Devices {
			return wrong(fmt.Sprintf("--fault %s: the device must be 1 to %d", text, o.Devices))
		}
		b := o.Broken[n-1]
		switch what {
		case "never-returns":
			b.NeverReturns = true
		case "old-address":
			b.OldAddress = true
		case "refuses-password":
			b.RefusesPassword = true
		case "mute":
			b.Mute = true
		case "at-once":
			b.AppliesAtOnce = true
		case "pretends":
			b.Pretends = true
		case "skips-unchanged":
			b.SkipsUnchanged = true
		case "old-firmware":
			b.OldFirmware = true
		default:
			return wrong(fmt.Sprintf("--fault %s: there are never-returns, old-address, refuses-password, mute, at-once, pretends, skips-unchanged and old-firmware", text))
		}
		o.Broken[n-1] = b
	}
	return o, nil
}

func (a *app) sim() *cobra.Command {
	var flags simFlags
	var iface, tunnel, planFile, cards, socket string
	c := &cobra.Command{
		Use:   "sim",
		Short: "Run the simulated site on a network interface or a tunnel",
		Long: `Runs Skerry Point, a made-up site of factory-fresh devices, as real TCP/IP hosts
with their own MACs: on a network interface (needs CAP_NET_RAW; use one that
leads nowhere else), or in a VXLAN tunnel on loopback for a service on the same
computer. Everything about the devices is simulated.`,
		Example: "  redstart sim --vxlan 127.0.0.1:4789 --plan skerry-point.csv\n  redstart serve --vxlan 127.0.0.1:4789",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := flags.options()
			if err != nil {
				return err
			}
			var out lan.Port
			where := ""
			switch {
			case iface != "":
				p, err := adapter.Open(iface, true)
				if err != nil {
					return err
				}
				out, where = p, "interface "+iface
			case tunnel != "":
				p, err := vxlan.Listen(tunnel, ourMAC)
				if err != nil {
					return err
				}
				out, where = p, "VXLAN at "+p.Addr().String()
			case planFile != "" || cards != "":
				// Only files are wanted.
			default:
				return problem.New(problem.Usage, "say where the simulated site should be",
					"give --interface NAME or --vxlan 127.0.0.1:4789; or run: redstart demo")
			}
			site := skerry.Start(o)
			defer site.Close()
			if planFile != "" {
				if err := a.writePlan(site, planFile); err != nil {
					return err
				}
			}
			if cards != "" {
				if err := a.writeCards(cards); err != nil {
					return err
				}
			}
			if out == nil {
				return nil
			}
			lines, err := site.PlugLines()
			if err != nil {
				return problem.New(problem.Machine, "no serial line can be simulated",
					"see that /dev/ptmx can be opened").Because(err)
			}
			a.say("Simulated site on %s: %s.", where, inventory(site))
			for _, l := range lines {
				a.say("Serial line %s: the console of a %s.", l.Name, l.Device)
			}
			var offering sync.WaitGroup
			defer offering.Wait()
			offered, stop := context.WithCancel(cmd.Context())
			defer stop()
			if socket != "" {
				offering.Go(func() {
					if err := hands.Offer(offered, socket, hands.With(site.All())); err != nil {
						a.say("Nobody can lend a hand here: %v.", err)
					}
				})
				a.say("What is to be done by hand: redstart sim hands %s", socket)
			}
			a.say("Ctrl-C cuts its power.")
			unhook := context.AfterFunc(cmd.Context(), func() { out.Close() })
			defer unhook()
			segment.Bridge(site.Attach(), out)
			return nil
		},
	}
	flags.add(c)
	c.Flags().StringVarP(&iface, "interface", "i", "", "network interface to put the site on")
	c.Flags().StringVar(&tunnel, "vxlan", "", "loopback `address` to offer the site at")
	c.Flags().StringVar(&planFile, "plan", "",
		"write the plan that fits the site to this `file` (csv, xlsx or json); alone, only do that")
	c.Flags().StringVar(&cards, "cards", "",
		"write the cards that came with the sensors to this `file`: codes to scan (html), or their texts (txt); alone, only do that")
	c.Flags().StringVar(&socket, "hands", "",
		"let redstart sim hands do what is to be done by hand, over a Unix socket at this `path`")
	c.MarkFlagsMutuallyExclusive("interface", "vxlan")
	c.AddCommand(a.supplier(), a.simHands())
	return c
}

// writePlan writes the plan that fits a simulated site; its name's ending says
// the format.
func (a *app) writePlan(site *skerry.Site, path string) error {
	content := site.WholePlan()
	if format := strings.TrimPrefix(filepath.Ext(path), "."); format != planfile.CSV {
		set, _, err := profiles.Load("")
		if err != nil {
			return err
		}
		p := plan.Plan{Site: site.Data(), Profiles: set}
		r, err := planfile.Read(context.Background(), content, p, nil, planfile.Options{})
		if err != nil {
			return err
		}
		p.Entries = r.Entries
		if content, err = planfile.Write(p, format); err != nil {
			return err
		}
	}
	return a.saveFile(path, content)
}

// inventory says what a simulated site consists of.
func inventory(s *skerry.Site) string {
	count := map[string]int{}
	for _, b := range s.All() {
		if b.Model.Maker == "?" {
			count["of others"]++
			continue
		}
		count[b.Model.Maker+" "+b.Model.Name]++
	}
	var parts []string
	for name, n := range count {
		parts = append(parts, fmt.Sprintf("%d %s", n, name))
	}
	sort.Strings(parts)
	return value.Count(len(s.All()), "simulated device") + " (" + strings.Join(parts, ", ") + ")"
}
