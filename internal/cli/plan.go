package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/vault"
)

func (a *app) plan() *cobra.Command {
	list := &cobra.Command{Use: "list [TAG...]", Short: "List the plan with what is known of each box",
		Args: cobra.ArbitraryArgs, RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			if err := a.printEntries(ctx, c, tags); !errors.As(err, new(attention)) {
				return err
			}
			return nil // a plan that is not finished is no failure of listing it
		})}
	show := &cobra.Command{Use: "show TAG", Short: "Show everything known of one entry", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			return a.printDetail(ctx, c, args[0])
		})}
	return group("plan", "The list of devices that should exist", a.planImport(), a.planExport(), a.planTemplate(),
		list, show, a.planCheck(),
		a.planAdd(), a.planSet(), a.planRemove(), a.planGenerate(), a.planAddresses(), a.planReserve(), a.planMap(),
		a.planHistory(), a.planCompare(), a.planRestore(), a.planUndo(), a.planRedo(), a.planName(), a.planFiles(), a.planLicences(), a.planPorts())
}

// openFile opens a file that a person names. A folder is none, and a pipe could
// make a command wait for ever.
func openFile(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err == nil && !info.Mode().IsRegular() {
		return nil, problem.New(problem.Usage, "it is no file, but "+
			map[bool]string{true: "a folder", false: "a pipe or device"}[info.IsDir()], "give a file").About(path)
	}
	var f *os.File
	if err == nil {
		f, err = os.Open(path)
	}
	if err != nil {
		return nil, problem.New(problem.Usage, "the file cannot be read",
			"check its name and rights").About(path).Because(errors.Unwrap(err))
	}
	return f, nil
}

func readFile(path string) ([]byte, error) {
	f, err := openFile(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	// One byte more than is allowed, so that the service says that it is too large.
	file, err := io.ReadAll(io.LimitReader(f, planfile.MaxFile+1))
	if err != nil {
		return nil, problem.New(problem.Usage, "the file cannot be read",
			"check the disk").About(path).Because(errors.Unwrap(err))
	}
	return file, nil
}

// saveFile writes what was asked for; - is the terminal.
func (a *app) saveFile(path string, content []byte) error {
	if path == "-" {
		_, err := a.out.Write(content)
		return err
	}
	f, err := create(path)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Close()); err != nil {
		_ = os.Remove(path) // nothing half made is left
		return problem.Disk(err, "the file cannot be written", path)
	}
	a.say("Written: %s", path)
	return nil
}

// create makes a file for a person, readable by its owner alone, also where it was there
// before: plans, packets and records hold more than everybody on a computer should see.
func create(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err == nil {
		if info, stat := f.Stat(); stat == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 {
			err = errors.Join(f.Chmod(0o600), err)
		}
	}
	if err != nil {
		return nil, problem.Disk(err, "the file cannot be written", path)
	}
	return f, nil
}

func countPlanned(entries []plan.Entry) map[string]int {
	count := map[string]int{}
	for _, e := range entries {
		count[e.Profile]++
	}
	return count
}

// printEntries prints the plan, or the chosen part of it. Something needs attention
// when not everything is verified.
func (a *app) printEntries(ctx context.Context, c *client.Client, tags []string) error {
	all, err := c.Entries(ctx)
	if err != nil {
		return err
	}
	entries := all
	if len(tags) > 0 {
		entries = slices.DeleteFunc(slices.Clone(all), func(e api.EntryView) bool {
			return !slices.Contains(tags, e.Tag)
		})
	}
	var rows [][]any
	count := map[string]int{}
	for _, e := range entries {
		switch {
		case e.Unwired:
			count[notWired]++
		case len(e.Differs) > 0:
			count[differing]++
		case e.ByHand && e.State == state.Matched:
			count[byHand]++
		case e.State == state.Configured && len(e.Unseen) > 0:
			count[inPart]++
		default:
			count[e.State]++
		}
		rows = append(rows, []any{e.Tag, stateText(e), e.Kind, e.Place, dash(e.Get("address")), presentText(e),
			dash(e.Device.String()), clock(e.CheckedAt.Time)})
	}
	if len(entries) == 0 && a.output == "table" {
		a.say("The plan is empty. Next: redstart plan import FILE")
		return nil
	}
	if err := a.list(entries, []string{"Tag", "State", "Kind", "Place", "Planned", "Present", "MAC", "Checked"}, rows,
		""); err != nil {
		return err
	}
	var parts []string
	for _, s := range []string{state.Planned, state.Matched, state.Configuring, state.Configured, state.Verified,
		state.Attention, inPart, differing, byHand, notWired} {
		if count[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[s], s))
		}
	}
	a.say("\n%s: %s. %s", value.Count(len(entries), "entry"), strings.Join(parts, ", "), nextStep(count))
	for _, e := range entries {
		if e.State == state.Attention {
			a.say("  %s: %s", e.Tag, e.Reason)
		}
		if len(e.Differs) > 0 {
			a.say("  %s differs: %s", e.Tag, strings.Join(e.Differs, "; "))
		}
		if e.State == state.Configured && len(e.Unseen) > 0 {
			a.say("  %s, not looked at: %s", e.Tag, strings.Join(e.Unseen, ", "))
		}
	}
	return attentionUnless(allVerified(entries), "not everything is verified: "+strings.Join(parts, ", "))
}

// What is counted besides states.
const (
	notWired  = "not wired yet"
	differing = "differing from the plan"
	byHand    = "matched and to be set by hand"
	inPart    = "configured and verified in part"
)

func stateText(e api.EntryView) string {
	switch {
	case e.Unwired:
		return notWired
	case len(e.Differs) > 0:
		return e.State + ", differs"
	case e.ByHand && e.State == state.Matched:
		return "matched, by hand"
	case e.State == state.Configured && len(e.Unseen) > 0:
		return fmt.Sprintf("configured, %d not looked at", len(e.Unseen))
	}
	return e.State
}

// presentText tells where an entry's box is now, or where it was last and when.
func presentText(e api.EntryView) cell {
	switch {
	case e.Now.IsValid():
		return cell{e.Now.String(), e.Now.String()}
	case e.HangsAs != "":
		return cell{"", "behind " + e.Behind}
	case e.Device.IsZero() || e.Seen.IsZero():
		return dash("")
	case !e.Here:
		return cell{"", "away since " + e.Seen.Local().Format("15:04")}
	case e.Was.IsValid():
		return cell{"", "was " + e.Was.String()}
	}
	return cell{"", "no address"}
}

// nextStep says what to do next, by the least finished entries.
func nextStep(count map[string]int) string {
	switch {
	case count[state.Attention] > 0:
		return "These need attention:"
	case count[state.Planned] > 0:
		return "Next: redstart find, then redstart match"
	case count[state.Matched] > 0:
		return "Next: redstart commission"
	case count[byHand] > 0:
		return "Next: set these by hand, then: redstart commission by-hand"
	case count[state.Configuring] > 0:
		return "A run is under way or was cut off. Next: redstart commission"
	case count[differing] > 0:
		return "Next: redstart commission, which sets what differs"
	case count[state.Configured] > 0:
		return "Next: redstart verify"
	case count[inPart] > 0:
		return "All that could be looked at is as planned; not everything could:"
	}
	return "All done."
}

func (a *app) printDetail(ctx context.Context, c *client.Client, tag string) error {
	d, err := c.Entry(ctx, tag)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.list(d, nil, nil, "")
	}
	e := d.Entry
	rows := [][]any{{"Tag", e.Tag}, {"State", strings.TrimSpace(stateText(e) + "  " + e.Reason)}, {"Kind", e.Kind},
		{"Profile", e.Profile}}
	for _, d := range e.Differs {
		rows = append(rows, []any{"Differs", d})
	}
	for _, field := range []string{"area", "floor", "place", "label", "description", "note", "after"} {
		if v := e.Get(field); v != "" {
			rows = append(rows, []any{fieldLabel(field), v})
		}
	}
	rows = append(rows, [][]any{{"Device name", e.Name}, {"Planned address", addr(e.Address)},
		{"Present address", presentText(e)}, {"Last heard", day(e.Seen.Time)}, {"MAC", dash(e.Device.String())},
		{"Serial", dash(e.BoxID)},
		{"Matched", dash(e.MatchedWhy)}, {"Login", loginText(d.Login)}}...)
	if e.HandBy != "" {
		rows = append(rows, []any{"Set by hand", e.HandBy + ", " + day(e.HandAt.Time).shown})
	}
	for _, v := range d.Settings {
		if v.Value != "" {
			rows = append(rows, []any{v.Label, secretDots(v.Value) + "  (from " + v.From + ")"})
		}
	}
	if err := a.list(d, []string{"Entry", ""}, rows, ""); err != nil {
		return err
	}
	return errors.Join(a.printChecks(d.Checks), a.printHistory(d.History))
}

func loginText(c *api.Credential) cell {
	if c == nil {
		return dash("")
	}
	return dash(fmt.Sprintf("%s, %s since %s", c.User, c.State, day(c.At.Time)))
}

func fieldLabel(key string) string {
	for _, f := range plan.Fields {
		if f.Key == key {
			return f.Label
		}
	}
	return key
}

// secretDots hides what stands for a secret.
func secretDots(v string) string {
	if strings.HasPrefix(v, vault.Prefix) {
		return "••• in the vault"
	}
	return v
}

func (a *app) printChecks(checks []result.Check) error {
	if len(checks) == 0 {
		return nil
	}
	a.say("")
	var rows [][]any
	for _, c := range checks {
		rows = append(rows, []any{c.Name, c.Expected, wrap(c.Observed, 50), c.Verdict, wrap(c.By, 40), clock(c.At)})
	}
	return a.list(checks, []string{"Check", "Expected", "Observed", "Result", "Rests on", "At"}, rows, "")
}

func (a *app) printHistory(notes []api.Note) error {
	if len(notes) == 0 {
		return nil
	}
	a.say("")
	var rows [][]any
	for _, n := range notes {
		rows = append(rows, []any{clock(n.At.Time), n.Who, wrap(n.What, 90)})
	}
	return a.list(notes, []string{"At", "Who", "What"}, rows, "")
}
