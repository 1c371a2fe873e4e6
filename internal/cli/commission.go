package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/check"
	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
)

func (a *app) commission() *cobra.Command {
	var rehearse, stop, giveUp, watch, capture bool
	var run int64
	var lines, beside []string
	c := &cobra.Command{Use: "commission [TAG...]", Short: "Set matched devices to their planned values, side by side",
		Long: `Starts a run over the given entries, or over all that are matched and not yet
configured, and follows it. A run that was cut off goes on where it was, by
looking at each device. --rehearse shows what would be done and sends nothing,
and --watch shows how far a run is that was started elsewhere.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, tags []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			switch {
			case stop:
				if err := a.stop(ctx, c, api.Commissioning, run); err != nil {
					return err
				}
				a.say("The devices in hand are finished; no more are begun.")
				return nil
			case giveUp:
				return a.giveUp(ctx, c, run)
			case watch:
				return a.watchRun(ctx, c, run)
			}
			at, err := linesOf(lines)
			if err != nil {
				return err
			}
			others, err := addrArgs(beside)
			if err != nil {
				return err
			}
			in := api.RunOptions{Chosen: chosen(tags), Lines: at, OtherServers: others, Capture: capture}
			if rehearse {
				return a.rehearse(ctx, c, in)
			}
			if err := a.commissionAll(ctx, c, in); err != nil {
				return err
			}
			a.say("Next: redstart verify")
			return nil
		}}
	c.Flags().StringArrayVar(&lines, "line", nil,
		"`TAG=LINE`: the entry's console hangs on this serial line; may be given again")
	c.Flags().StringArrayVar(&beside, "other-server", nil,
		"`address` of another DHCP server that may go on while devices are given their addresses; may be given again")
	c.Flags().BoolVar(&capture, "capture", false, captureHelp)
	c.Flags().BoolVar(&rehearse, "rehearse", false, "only show what would be done")
	c.Flags().BoolVar(&stop, "stop", false, "stop the run under way: finish the devices in hand, begin no more")
	c.Flags().BoolVar(&giveUp, "give-up", false, "give up a run that was cut off")
	c.Flags().BoolVar(&watch, "watch", false, "follow the run that is under way; nothing is started")
	c.Flags().Int64Var(&run, "run", 0,
		"`number` of the run that --stop, --watch or --give-up means, where there are several")
	c.MarkFlagsMutuallyExclusive("rehearse", "stop", "give-up", "watch")
	c.AddCommand(a.handOut(), a.askers(), a.setByHand(), a.hands(), a.takeHands(), a.did(), a.accept())
	return c
}

// linesOf reads which console hangs on which serial line.
func linesOf(args []string) (map[string]string, error) {
	lines := map[string]string{}
	for _, arg := range args {
		tag, line, ok := strings.Cut(arg, "=")
		if !ok || tag == "" || line == "" {
			return nil, &usageError{fmt.Errorf("--line %q: write it like TAG=/dev/ttyUSB0", arg)}
		}
		lines[tag] = line
	}
	return lines, nil
}

// chosen are the entries that a command names; none named means all.
func chosen(tags []string) api.Chosen { return api.Chosen{Tags: tags, All: len(tags) == 0} }

// setByHand marks entries as set by hand.
func (a *app) setByHand() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "by-hand [TAG...]",
		Short: "Mark matched entries as set by hand, where no run can set their model", Args: cobra.ArbitraryArgs,
		Long: `Says that a person has set the devices of these entries as planned; the history
keeps who and when. Verification then looks at all that can be looked at, and names
the rest.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if (len(tags) == 0) == !all {
				return &usageError{fmt.Errorf("give tags, or --all")}
			}
			done, err := c.SetByHand(ctx, api.Chosen{Tags: tags, All: all})
			if err != nil {
				return err
			}
			a.say("Marked as set by hand: %s. Next: redstart verify", strings.Join(done, " "))
			return nil
		})}
	c.Flags().BoolVar(&all, "all", false, "every matched entry whose model no run can set")
	return c
}

// watchRun follows what is under way, from any terminal.
func (a *app) watchRun(ctx context.Context, c *client.Client, run int64) error {
	now, err := underWay(ctx, c, api.Commissioning, run)
	if err != nil {
		return err
	}
	return a.followRun(ctx, c.At(now.Site), func() (api.Work, error) {
		list, err := c.Works(ctx) // it may have gone on, or ended
		if i := slices.IndexFunc(list, func(w api.Work) bool { return w.ID == now.ID }); i >= 0 {
			now = list[i]
		}
		return now, err
	})
}

// underWay gives the one work of a kind that is under way, or that of a run.
func underWay(ctx context.Context, c *client.Client, kind string, run int64) (api.Work, error) {
	list, err := c.Works(ctx)
	if err != nil {
		return api.Work{}, err
	}
	var runs []string
	list = slices.DeleteFunc(list, func(w api.Work) bool {
		return w.State != state.Running || w.Kind != kind || run != 0 && w.Run != run
	})
	for _, w := range list {
		runs = append(runs, fmt.Sprint(w.Run))
	}
	switch {
	case len(list) == 0 && kind == api.Commissioning:
		return api.Work{}, problem.New(problem.Conflict, "no run is under way", "start one: redstart commission")
	case len(list) == 0:
		return api.Work{}, problem.New(problem.Conflict, "nothing is under way", "")
	case len(list) > 1:
		return api.Work{}, problem.New(problem.Conflict, fmt.Sprintf("runs %s are under way",
			strings.Join(runs, " and ")), "say which: --run "+runs[0])
	}
	return list[0], nil
}

// stop stops the one work of a kind that is under way, or that of a run.
func (a *app) stop(ctx context.Context, c *client.Client, kind string, run int64) error {
	w, err := underWay(ctx, c, kind, run)
	if err != nil {
		return err
	}
	return c.Stop(ctx, w.ID)
}

// handOut gives planned addresses over DHCP.
func (a *app) handOut() *cobra.Command {
	var beside []string
	var wait time.Duration
	c := &cobra.Command{Use: "hand-out [TAG...]",
		Short: "Give planned addresses over DHCP to matched boxes that wait for one", Args: cobra.ArbitraryArgs,
		Long: `Answers exactly the boxes of the given entries over DHCP, or of all matched
entries whose boxes wait for an address, and nobody else. It refuses to begin
while another DHCP server answers, unless that one is named with --other-server, and
ends when every box has its address or the time is over.`,
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			others, err := addrArgs(beside)
			if err != nil {
				return err
			}
			ended, err := a.follow(ctx, c, func() (api.Work, error) {
				return c.HandOut(ctx, api.HandOut{Chosen: chosen(tags), OtherServers: others, Seconds: int(wait.Seconds())})
			})
			if err != nil {
				return err
			}
			a.say("%s.", strings.TrimSuffix(ended.Text, "."))
			return attentionUnless(ended.State == state.Done && ended.Failed == 0, "not every box has its address")
		})}
	c.Flags().StringArrayVar(&beside, "other-server", nil,
		"`address` of another DHCP server that may go on; may be given again")
	c.Flags().DurationVar(&wait, "wait", 3*time.Minute, "how long to wait for boxes to ask")
	return c
}

// askers lists the boxes that wait for an address.
func (a *app) askers() *cobra.Command {
	return &cobra.Command{Use: "askers", Short: "List the boxes that wait for an address over DHCP", Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Askers(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, x := range list {
				rows = append(rows, []any{x.MAC, dash(x.Profile), dash(x.Class), dash(x.Host), clock(x.Last),
					dash(x.Tag)})
			}
			next := "Next: redstart commission hand-out"
			if slices.ContainsFunc(list, func(x api.Asker) bool { return x.Tag == "" }) {
				next = "Those without an entry get nothing: match them first, with redstart match."
			}
			return a.list(list, []string{"MAC", "Profile", "Asks as", "Host name", "Last", "Entry"}, rows, next)
		})}
}

// commissionAll runs, or goes on with a run that was cut off, and prints how
// each device ended. Something needs attention unless all were configured.
func (a *app) commissionAll(ctx context.Context, c *client.Client, in api.RunOptions) error {
	start := func() (api.Work, error) { return c.Commission(ctx, in) }
	runs, err := c.OpenRuns(ctx)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(runs, func(r api.Run) bool { return r.State == state.Interrupted }); i >= 0 && in.All {
		id := runs[i].ID
		if in.Fresh {
			return problem.New(problem.Conflict, fmt.Sprintf("run %d was cut off", id),
				"go on with it first: redstart commission; or give it up: redstart commission --give-up")
		}
		fmt.Fprintf(a.err, "Run %d was cut off; going on with it.\n", id)
		start = func() (api.Work, error) { return c.Resume(ctx, id) }
	}
	if !in.All { // who named them hears which are not taken
		if r, err := c.Rehearse(ctx, in); err == nil && len(r.Devices) > 0 {
			for _, text := range leftOut(r.Left) {
				fmt.Fprintln(a.err, text)
			}
		}
	}
	return a.followRun(ctx, c, start)
}

// followRun follows a run and prints how its devices ended, also when it was cut off.
func (a *app) followRun(ctx context.Context, c *client.Client, start func() (api.Work, error)) error {
	ended, err := a.follow(ctx, c, start)
	if err != nil && !broke(ended) {
		return err
	}
	if shown := a.printRun(ctx, c, ended.Run); err == nil || ended.State == state.Interrupted {
		return shown
	}
	return err
}

// printRun prints how each device of a run ended.
func (a *app) printRun(ctx context.Context, c *client.Client, id int64) error {
	run, err := c.Run(ctx, id)
	if err != nil {
		return err
	}
	var rows [][]any
	count := map[string]int{}
	for _, d := range run.Devices {
		count[d.State]++
		took := dash("")
		if !d.EndedAt.IsZero() {
			s := fmt.Sprintf("%.1f", d.EndedAt.Sub(d.StartedAt.Time).Seconds())
			took = cell{s, s + " s"}
		}
		rows = append(rows, []any{d.Tag, d.Profile, d.MAC, d.Given.Address, d.Given.Name, d.State, took})
	}
	if err := a.list(run, []string{"Entry", "Profile", "MAC", "Address", "Name", "State", "Took"}, rows,
		""); err != nil {
		return err
	}
	a.say("\n%d of %d configured.", count[state.Done], len(run.Devices))
	for _, d := range run.Devices {
		if d.Error != "" {
			a.say("  %s: %s", d.Tag, d.Error)
		}
	}
	if run.Cause != "" {
		a.say("The run was cut off: %s", run.Cause)
	}
	return attentionUnless(count[state.Done] == len(run.Devices),
		fmt.Sprintf("%d of %d are not configured", len(run.Devices)-count[state.Done], len(run.Devices)))
}

func (a *app) giveUp(ctx context.Context, c *client.Client, id int64) error {
	runs, err := c.OpenRuns(ctx)
	if err != nil {
		return err
	}
	runs = slices.DeleteFunc(runs, func(r api.Run) bool {
		return r.State != state.Interrupted || id != 0 && r.ID != id
	})
	switch {
	case len(runs) == 0:
		return problem.New(problem.Conflict, "no run was cut off", "")
	case len(runs) > 1:
		return problem.New(problem.Conflict, fmt.Sprintf("%d runs were cut off", len(runs)),
			fmt.Sprintf("say which: --run %d", runs[0].ID))
	}
	run := runs[0]
	if err := c.GiveUp(ctx, run.ID); err != nil {
		return err
	}
	a.say("Run %d is given up. Its unfinished devices need attention.", run.ID)
	return nil
}

// leftOut says which entries a run leaves out, and why: what is left out for one reason is
// said once.
func leftOut(left []api.LeftOut) (lines []string) {
	tags := map[string][]string{}
	var reasons []string
	for _, l := range left {
		if tags[l.Why] == nil {
			reasons = append(reasons, l.Why)
		}
		tags[l.Why] = append(tags[l.Why], l.Tag)
	}
	for _, why := range reasons {
		lines = append(lines, fmt.Sprintf("Left out, because %s: %s.", why, strings.Join(tags[why], ", ")))
	}
	return lines
}

func (a *app) rehearse(ctx context.Context, c *client.Client, in api.RunOptions) error {
	r, err := c.Rehearse(ctx, in)
	if err != nil {
		return err
	}
	var rows [][]any
	for _, d := range r.Devices {
		for i, s := range d.Steps {
			tag, profile := d.Tag, d.Profile
			if i > 0 && a.output == "table" {
				tag, profile = "", ""
			}
			rows = append(rows, []any{tag, profile, i + 1, s.Name, s.Text})
		}
	}
	if err := a.list(r, []string{"Entry", "Profile", "Step", "", "What"}, rows, ""); err != nil {
		return err
	}
	a.say("")
	for _, d := range r.Devices {
		if len(d.After) > 0 {
			are := "are"
			if len(d.After) == 1 {
				are = "is"
			}
			a.say("%s is begun when %s %s set.", d.Tag, strings.Join(d.After, " and "), are)
		}
		if len(d.NotSent) > 0 {
			a.say("Planned for %s, but to be set by hand: %s.", d.Tag, strings.Join(d.NotSent, ", "))
		}
	}
	for _, text := range leftOut(r.Left) {
		a.say("%s", text)
	}
	a.say("%s, about %s side by side. Nothing was sent. Next: redstart commission", value.Count(len(r.Devices), "device"),
		seconds(r.Seconds))
	return nil
}

const captureHelp = "keep the packets, sealed; hand them over with: redstart handover packets"

func (a *app) verify() *cobra.Command {
	var restart string
	var capture bool
	c := &cobra.Command{Use: "verify [TAG...]",
		Short: "Look at configured devices afresh and compare them with the plan",
		Long: `Opens a fresh conversation with each device and checks who holds the address,
echo, ports, the new login, that the factory login is refused, name, address,
mask and gateway, and that all of it was read after a restart that followed the
last change. What could not be looked at is named: only an entry of which every
check passed is verified. With one entry the checks are printed.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, tags []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			if _, err := a.follow(ctx, c, func() (api.Work, error) {
				return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(tags), Restart: restart, Capture: capture})
			}); err != nil {
				return err
			}
			verdict := a.printEntries(ctx, c, tags)
			if len(tags) != 1 || verdict != nil && !errors.As(verdict, new(attention)) {
				return verdict
			}
			d, err := c.Entry(ctx, tags[0])
			if err != nil {
				return err
			}
			return errors.Join(a.printChecks(d.Checks), verdict)
		}}
	c.AddCommand(a.verifySay())
	c.Flags().BoolVar(&capture, "capture", false, captureHelp)
	c.Flags().StringVar(&restart, "restart", check.Needed,
		"restart devices to show that settings survive: needed (when none was seen since the last change), always or never")
	return c
}

func (a *app) verifySay() *cobra.Command {
	var in api.Word
	c := &cobra.Command{Use: "say TAG CHECK",
		Short: "Say by name that something is so which nothing can look at, such as a keypad's code",
		Long: `Some things no device tells: that a keypad takes its code, or what a person set on
a page that its profile does not know. Whoever tried it says so by name; it counts as
said, with the time and the note, and stands so in every document. Where the device
can be asked, its answer stands above a word. A new run forgets what was said.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			in.Check = args[1]
			if err := c.Say(ctx, args[0], in); err != nil {
				return err
			}
			d, err := c.Entry(ctx, args[0])
			if err != nil {
				return err
			}
			return errors.Join(a.printChecks(d.Checks), a.printEntries(ctx, c, args[:1]))
		}}
	c.Flags().StringVar(&in.Note, "note", "", "how that was found out")
	c.Flags().StringVar(&in.Name, "name", "", "who says it, where nobody signed in by name")
	c.Flags().BoolVar(&in.Not, "not", false, "take back what was said")
	return c
}
