package cli

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/chain"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
	"redstart/internal/handover"
)

// handover makes the documents of the hand-over.
func (a *app) handover() *cobra.Command {
	var to string
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
			return a.make(ctx, c, args[1], api.ToMake{Document: args[0]}, to)
		})}
	c.Flags().StringVar(&to, "to", "", "`name` of who takes it, and whom they are from: it is kept that they have it, and what changes from then on is told")
	c.AddCommand(a.handCredentials(), a.labels(), a.sheets(), a.given(), a.changes(), a.checkRecord(), a.packets(), a.lookout(), a.logins())
	return c
}

// make has the service make a document, for somebody if to says for whom, shows how far that is,
// and saves it.
func (a *app) make(ctx context.Context, c *client.Client, path string, what api.ToMake, to string) error {
	// What cannot be saved is not handed over.
	if info, err := os.Stat(filepath.Dir(path)); err != nil {
		return problem.Disk(err, "the file cannot be written", path)
	} else if !info.IsDir() {
		return problem.Disk(syscall.ENOTDIR, "the file cannot be written", path)
	}
	work, err := a.follow(ctx, c, func() (api.Work, error) {
		if to != "" {
			return c.HandOver(ctx, api.ForTaker{ToMake: what, To: to})
		}
		return c.Make(ctx, what)
	})
	if err != nil && !broke(work) {
		return err
	}
	// Why it was not made is told when the document is asked for.
	var content bytes.Buffer
	if err := c.Made(ctx, work.ID, &content); err != nil {
		return err
	}
	return a.saveFile(path, content.Bytes())
}

// given lists what was handed over.
func (a *app) given() *cobra.Command {
	return &cobra.Command{Use: "given", Short: "List what was handed over, when, by whom and to whom", Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Handovers(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, h := range list {
				rows = append(rows, []any{h.ID, day(h.At), h.What, h.To, h.Who, h.SHA256})
			}
			return a.list(list, []string{"Number", "When", "What", "To", "By", "SHA-256"}, rows, "redstart handover changes [NUMBER]")
		})}
}

// packets hands over the packets of runs and verifications that kept them, or lists them.
func (a *app) packets() *cobra.Command {
	var to sealFlags
	var forget bool
	c := &cobra.Command{Use: "packets [NUMBER [FILE [TAG...]]]", Short: "Write kept packets, a pcapng file for each device, sealed; or list them",
		Long: `Runs and verifications keep their packets with --capture. They hold what was said to the devices,
passwords too, so they are sealed (age-encryption.org/v1) wherever they lie: here by the vault, and
in FILE, a ZIP archive inside, to public keys or with a passphrase. The history of every entry
says for whom. Without a number, lists what is kept.`,
		Args: cobra.ArbitraryArgs, RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 0 {
				list, err := c.Captures(ctx)
				if err != nil {
					return err
				}
				var rows [][]any
				for _, k := range list {
					rows = append(rows, []any{k.ID, day(k.At), k.What, k.Who})
				}
				return a.list(list, []string{"Number", "When", "Of", "By"}, rows, "redstart handover packets NUMBER FILE --recipient KEY")
			}
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return &usageError{errors.New("the number of kept packets is one of redstart handover packets")}
			}
			if forget {
				if err := c.ForgetCapture(ctx, id); err != nil {
					return err
				}
				a.say("Forgotten.")
				return nil
			}
			if len(args) < 2 {
				return &usageError{errors.New("it is not said to which file they are written")}
			}
			in := api.PacketsFor{Tags: args[2:]}
			if in.SealTo, err = to.ask(a); err != nil {
				return err
			}
			content, err := c.HandPackets(ctx, id, in)
			if err != nil {
				return err
			}
			return a.saveFile(args[1], content)
		})}
	to.add(c)
	c.Flags().BoolVar(&forget, "forget", false, "forget them")
	return c
}

// sealFlags say for whom something is sealed.
type sealFlags struct {
	recipients []string
	passphrase bool
}

func (f *sealFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.recipients, "recipient", nil, "public `key` of who may open it (age1…); may be given again")
	c.Flags().BoolVar(&f.passphrase, "passphrase", false, "ask for a passphrase that opens it")
	c.MarkFlagsMutuallyExclusive("recipient", "passphrase")
}

// ask gives what was said, and asks for the passphrase where one is wanted.
func (f *sealFlags) ask(a *app) (to api.SealTo, err error) {
	to.Recipients = f.recipients
	if f.passphrase {
		to.Passphrase, err = a.askNew("passphrase")
	}
	return to, err
}

// changes lists what is not as it was handed over.
func (a *app) changes() *cobra.Command {
	return &cobra.Command{Use: "changes [NUMBER]", Short: "List what is not as it was when something was handed over, the last time without a number",
		Args: cobra.MaximumNArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			var id int64
			if len(args) > 0 {
				var err error
				if id, err = strconv.ParseInt(args[0], 10, 64); err != nil || id < 1 {
					return &usageError{errors.New("the number of a hand-over is one of redstart handover given")}
				}
			}
			since, err := c.Since(ctx, id)
			if err != nil {
				return err
			}
			a.say("Handed over to %s, %s, by %s: %s.", since.Handover.To, since.Handover.At.Local().Format("2 Jan 2006 15:04"), since.Handover.Who, since.Handover.What)
			if len(since.Differences) == 0 && a.output == "table" {
				a.say("Nothing changed since.")
				return nil
			}
			var rows [][]any
			for _, d := range since.Differences {
				rows = append(rows, []any{d.Tag, d.Column, dash(d.Was), dash(d.Is)})
			}
			return a.list(since, []string{"Tag", "What", "Was", "Is"}, rows, "")
		})}
}

// checkRecord verifies a record or a package, without the service.
func (a *app) checkRecord() *cobra.Command {
	var key string
	c := &cobra.Command{Use: "check FILE", Short: "Verify a record, or a whole package, without the service",
		Long: `Verifies that nothing in a record was changed, left out or put in since it was signed, and of a
package that its documents are those that were signed. The key says who signed: compare it with
the one in the printed report, or give it with --key.`,
		Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error { return a.checkRecordFile(args[0], key) }}
	c.Flags().StringVar(&key, "key", "", "public `key` that must have signed it")
	return c
}

// checkRecordFile verifies a record or a package, signed with a key if one is given.
func (a *app) checkRecordFile(path, key string) error {
	file, err := os.Open(path)
	if err != nil {
		return problem.Disk(err, "the file cannot be read", path)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return problem.Disk(err, "the file cannot be read", path)
	}
	got, err := handover.Check(file, info.Size())
	if err != nil {
		return err
	}
	signer := chain.KeyText(got.Key)
	if key != "" && key != signer {
		return problem.New(problem.Conflict, "it is signed with another key than the one given: "+signer,
			"do not rely on it, unless you know that key").About(path)
	}
	a.say("%s, as of %s.", got.Site, got.AsOf.UTC().Format("2 Jan 2006 15:04 UTC"))
	a.say("As it was signed: %s, %s, %s.", value.Count(got.Count["run"], "run"), value.Count(got.Count["step"], "step"), value.Count(got.Count["check"], "check"))
	if len(got.Files) > 0 {
		for line := range strings.Lines(text.WrapSoft("So are: "+strings.Join(got.Files, ", ")+".", 110)) {
			a.say("%s", strings.TrimSpace(line)) // it fills lines up
		}
	}
	if key == "" {
		a.say("Signed with the key %s. Compare it with the one in the printed report, or give that with --key.", signer)
	} else {
		a.say("Signed with the key that was given.")
	}
	return nil
}

// sheets writes commissioning sheets.
func (a *app) sheets() *cobra.Command {
	return &cobra.Command{Use: "sheets FILE.pdf TAG...", Short: "Write a commissioning sheet for each entry: what it is and every check",
		Args: cobra.MinimumNArgs(2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			return a.make(ctx, c, args[0], api.ToMake{Document: api.SheetsDocument, Tags: args[1:]}, "")
		})}
}

// logins writes a sheet of paper with logins.
func (a *app) logins() *cobra.Command {
	var to string
	c := &cobra.Command{Use: "logins FILE.pdf TAG...", Short: "Write a sheet of paper with what opens the named entries, and record for whom",
		Args: cobra.MinimumNArgs(2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			content, err := c.LoginSheet(ctx, api.LoginsFor{Tags: args[1:], To: to})
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	c.Flags().StringVar(&to, "to", "", "`name` of who takes it, and whom they are from")
	return c
}

// labels prints labels.
func (a *app) labels() *cobra.Command {
	var o api.LabelOptions
	var start int
	var loginFor string
	c := &cobra.Command{Use: "labels FILE [TAG...]", Short: "Write labels as PDF, or with a name that ends in .zip as SVG drawings",
		Long: `Prints a label for each entry, or those named, in walking order: by area, floor, place and tag.
Each has a code that a phone shows and that Redstart's own scanner takes. Fields are columns of
the register; the first one stands large.`,
		Example: "  redstart handover labels labels.pdf --size 63.5x38.1 --gap 2.5x0 --start 5\n" +
			"  redstart handover labels roll.pdf --size 62x29 --page roll --fields tag,address",
		Args: cobra.MinimumNArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if o.Tags = strings.Join(args[1:], ","); strings.HasSuffix(args[0], ".zip") {
				o.Format = "svg"
			}
			o.Start = strconv.Itoa(start)
			if loginFor == "" {
				return a.make(ctx, c, args[0], api.ToMake{Document: api.LabelsDocument, Labels: &o}, "")
			}
			content, err := c.LoginLabels(ctx, api.LoginLabels{LabelOptions: o, To: loginFor})
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	c.Flags().StringVar(&loginFor, "login-for", "", "print the login too, of the entries that are named, for somebody of this `name`; recorded")
	c.Flags().StringVar(&o.Size, "size", "70x37", "`width x height` of a label in mm")
	c.Flags().StringVar(&o.Gap, "gap", "", "between labels, `across x down`, in mm")
	c.Flags().StringVar(&o.Page, "page", "A4", "what they are on: A4, letter or roll")
	c.Flags().IntVar(&start, "start", 1, "`number` of the label to begin with on a used sheet, from the top left, row by row")
	c.Flags().StringVar(&o.Fields, "fields", "tag,name,address,mac,serial", "`columns` of the register that stand on it")
	return c
}

// handCredentials hands over what opens the devices.
func (a *app) handCredentials() *cobra.Command {
	var seal sealFlags
	c := &cobra.Command{Use: "credentials FILE", Short: "Write all logins and secrets, sealed, and record who has them",
		Long: `Seals the current and the superseded logins of all devices, with what opens each, and the
secret settings (age-encryption.org/v1). With public keys, whoever has one of the keys opens it:
age -d -i key.txt FILE; with a passphrase, age -d FILE. Another Redstart takes it with
redstart vault learn FILE. The history of every entry says for whom it was sealed.`,
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			to, err := seal.ask(a)
			if err != nil {
				return err
			}
			content, err := c.HandCredentials(ctx, to)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	seal.add(c)
	return c
}

// lookout has the service look by itself whether the site is as it was.
func (a *app) lookout() *cobra.Command {
	var in api.Lookout
	var off, now bool
	c := &cobra.Command{Use: "lookout", Short: "Have the service look by itself whether the site is as it was, or see what it found",
		Long: `Finds and verifies gently at a time of day, changes nothing and restarts nothing, and says what is not
as it was handed over: devices that left or came, addresses, names, firmware, keys, factory logins
that open again. Where nothing was handed over, it is compared with what was seen at first. A hook
gets what changed as JSON, signed (RFC 9421) with the key in the printed report.`,
		Example: "  redstart handover lookout --at 02:30\n  redstart handover lookout --at 04:00 --days sun --hook https://alarms.example/redstart",
		Args:    cobra.NoArgs}
	c.RunE = a.with(func(ctx context.Context, k *client.Client, _ []string) error {
		if off {
			if err := k.EndLookout(ctx); err != nil {
				return err
			}
			a.say("The service looks at this site by itself no more.")
			return nil
		}
		v, err := api.LookoutView{}, error(nil)
		switch {
		case c.Flags().Changed("at"):
			v, err = k.SetLookout(ctx, in)
		case c.Flags().Changed("days") || c.Flags().Changed("tag") || c.Flags().Changed("hook"):
			return &usageError{errors.New("it is not said at what time of day: --at 02:30")}
		default:
			v, err = k.Lookout(ctx)
		}
		if err == nil && now {
			v, err = k.LookNow(ctx)
		}
		if err != nil {
			return err
		}
		return a.printLookout(v)
	})
	c.Flags().StringVar(&in.At, "at", "", "`time` of day at the site, such as 02:30")
	c.Flags().StringSliceVar(&in.Days, "days", nil, "`days` on which it looks, such as mon,thu; every day without")
	c.Flags().StringSliceVar(&in.Tags, "tag", nil, "`entries` that it looks at; all that are set without")
	c.Flags().StringVar(&in.Hook, "hook", "", "`address` that is told what changed")
	c.Flags().IntVar(&in.Pace, "pace", 0, "`frames` per second that ask who is there; 50 without")
	c.Flags().BoolVar(&off, "off", false, "look no more")
	c.Flags().BoolVar(&now, "now", false, "look now as well, and wait for what it finds")
	return c
}

func (a *app) printLookout(v api.LookoutView) error {
	if a.output == "table" {
		if !v.On {
			a.say("The service does not look at this site by itself. Say when: redstart handover lookout --at 02:30")
			return nil
		}
		a.say("Looks at %s, next %s; compared with %s.", v.At, v.Next.Format("2 Jan 2006 15:04 -07:00"), v.Against)
		if v.Wrong != "" {
			a.say("The last time that did not go: %s", v.Wrong)
		}
		switch {
		case v.LookedAt.IsZero() && v.Looking:
			a.say("It is looking for the first time.")
			return nil
		case v.LookedAt.IsZero():
			a.say("It has not looked yet.")
			return nil
		case v.Looking:
			a.say("It is looking now.")
		}
		a.say("Looked %s.", v.LookedAt.Local().Format("2 Jan 2006 15:04:05"))
		if len(v.Changed) == 0 {
			a.say("Everything is as it was.")
			return nil
		}
	}
	var rows [][]any
	for _, d := range v.Changed {
		rows = append(rows, []any{d.Tag, d.Column, dash(d.Was), dash(d.Is)})
	}
	return a.list(v, []string{"Tag", "What", "Was", "Is"}, rows, "")
}
