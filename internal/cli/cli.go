// Package cli is the command line: commands that speak of the work, most of
// them on a running service's API.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// Exit codes.
const (
	ExitDone      = 0
	ExitAttention = 1 // something needs attention
	ExitUsage     = 2 // wrong use
)

// attention ends a command after whose work something needs attention.
type attention struct{ what string }

func (a attention) Error() string { return a.what }

// attentionUnless says what needs attention, unless nothing does.
func attentionUnless(ok bool, what string) error {
	if ok {
		return nil
	}
	return attention{what}
}

// World is what a command sees of the computer besides its disk and network.
type World struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(key string) string
}

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	env      func(string) string
	data     string // the data folder
	output   string // table, json or csv
	siteKey  string // "" for the only site

	printed bool     // the one document is out
	said    []string // in words, where no document is
}

// mostCells are printed of what is wrong with a file.
const mostCells = 50

// Main runs one command and gives its exit code.
func Main(ctx context.Context, args []string, w World) int {
	a := &app{in: w.In, out: w.Out, err: w.Err, env: w.Env}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(w.In)
	root.SetOut(w.Out)
	root.SetErr(w.Err)
	c, err := root.ExecuteContextC(ctx)
	if err == nil || errors.As(err, new(attention)) {
		err = errors.Join(err, a.finish())
	}
	if err == nil {
		return ExitDone
	}
	return a.complain(c, err)
}

// complain says what went wrong, and gives the exit code.
func (a *app) complain(c *cobra.Command, err error) int {
	var p *problem.Error
	var attends attention
	var wrong *usageError
	switch {
	case errors.As(err, &p):
		fmt.Fprintln(a.err, "redstart:", value.PrintableLines(p.Error()))
		for _, c := range p.Cells[:min(len(p.Cells), mostCells)] {
			fmt.Fprintln(a.err, "  "+value.Printable(c.String()))
		}
		if n := len(p.Cells) - mostCells; n > 0 {
			fmt.Fprintf(a.err, "  and %d more like these; %d in all.\n", n, len(p.Cells))
		}
		if p.Kind == problem.Usage {
			return ExitUsage
		}
	case errors.As(err, &attends):
		fmt.Fprintln(a.err, "redstart: needs attention:", value.PrintableLines(attends.what))
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.err, "redstart: stopped")
	// cobra has no types for these
	case errors.As(err, &wrong), strings.HasPrefix(err.Error(), "unknown command"),
		strings.HasPrefix(err.Error(), "if any flags in the group"):
		fmt.Fprintf(a.err, "redstart: %s. Try: %s --help\n", strings.TrimSpace(err.Error()), c.CommandPath())
		return ExitUsage
	default:
		fmt.Fprintln(a.err, "redstart:", value.PrintableLines(err.Error()))
	}
	return ExitAttention
}

// usageError is a command line that cannot be understood.
type usageError struct{ error }

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "redstart",
		Short: "Set up field devices in bulk and prove the result",
		Long: `Redstart finds factory-fresh devices on a flat Ethernet network, matches each to
a line of the site's plan, sets the planned address, name and password, and
verifies the result. The order of work is:

  plan, find, match, commission, verify, handover`,
		SilenceUsage: true, SilenceErrors: true, Version: api.Version,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if !slices.Contains([]string{"table", "json", "csv"}, a.output) {
				return &usageError{fmt.Errorf("--output is table, json or csv")}
			}
			return nil
		},
	}
	root.PersistentFlags().StringVar(&a.data, "data", a.defaultData(),
		"data `folder` of the service (or set REDSTART_DATA)")
	root.PersistentFlags().StringVar(&a.siteKey, "site", a.env("REDSTART_SITE"),
		"`key` of the site, if there are several (or set REDSTART_SITE)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "how to print: table, json or csv")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{plainFlag(err)} })
	root.CompletionOptions.DisableDefaultCmd = true
	root.AddCommand(a.serve(), a.demo(), a.sim(), a.site(), a.plan(), a.find(), a.match(), a.commission(), a.verify(),
		a.handover(),
		a.works(), a.profile(), a.vault(), a.user(), a.backup(), a.restore())
	for _, c := range root.Commands() {
		wrapArgs(c)
	}
	return root
}

// wrapArgs makes wrong arguments count as wrong use, and gives commands that
// only hold others a sentence for unknown words.
func wrapArgs(c *cobra.Command) {
	check := c.Args
	if check == nil {
		check = cobra.NoArgs
	}
	c.Args = func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			if len(args) > 0 && !cmd.Runnable() {
				return &usageError{err}
			}
			return &usageError{fmt.Errorf("%s; it is used as: %s", given(len(args)), cmd.UseLine())}
		}
		return nil
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// given says how many words came behind a command.
func given(n int) string {
	switch n {
	case 0:
		return "something is missing"
	case 1:
		return "one word does not fit here"
	}
	return fmt.Sprintf("%d words do not fit here", n)
}

// plainFlag puts what the flag parser says into plain words.
func plainFlag(err error) error {
	wrong, ok := errors.AsType[*pflag.InvalidValueError](err)
	if !ok {
		return err
	}
	what := "a value that it takes"
	switch wrong.GetFlag().Value.Type() {
	case "int", "int64", "uint64":
		what = "a whole number"
	case "float64":
		what = "a number"
	case "bool":
		what = "true or false"
	case "duration":
		what = "a time like 30s or 2m"
	}
	return fmt.Errorf("--%s cannot be %q; give %s", wrong.GetFlag().Name, wrong.GetValue(), what)
}

// group is a command that only holds others.
func group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(*cobra.Command, []string) error {
		return &usageError{fmt.Errorf("%q needs a further word", use)}
	}}
	c.AddCommand(subs...)
	return c
}

func (a *app) defaultData() string {
	if dir := a.env("REDSTART_DATA"); dir != "" {
		return dir
	}
	if dir := a.env("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "redstart")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "redstart-data"
	}
	return filepath.Join(home, ".local", "share", "redstart")
}

// service reaches the running service: the one that the environment names, or
// the one on the data folder.
func (a *app) service(ctx context.Context) (*client.Client, error) {
	if url := a.env("REDSTART_URL"); url != "" {
		return client.New(client.Handle{URL: strings.TrimRight(url, "/"), Token: a.env("REDSTART_TOKEN"),
			Pin: a.env("REDSTART_PIN")}), nil
	}
	return client.Open(ctx, a.data)
}

var errNoSite = problem.New(problem.Conflict, "there is no site yet",
	"make one: redstart site set --name NAME --subnet 10.40.8.0/22 --gateway 10.40.8.1")

// client reaches the running service, about the site that is meant.
func (a *app) client(ctx context.Context) (*client.Client, error) {
	c, err := a.service(ctx)
	if err != nil {
		return nil, err
	}
	if a.siteKey != "" {
		return c.At(a.siteKey), nil
	}
	keys, err := c.Keys(ctx)
	switch {
	case err != nil:
		return nil, err
	case len(keys) == 0:
		return nil, errNoSite
	case len(keys) > 1:
		return nil, problem.New(problem.Usage, "there are several sites: "+strings.Join(keys, ", "),
			"say which with --site KEY, or set REDSTART_SITE")
	}
	return c.At(keys[0]), nil
}

// clientOrNewSite is client, but makes a site when there is none: one may look
// around before anything is planned.
func (a *app) clientOrNewSite(ctx context.Context) (*client.Client, error) {
	c, err := a.client(ctx)
	if !errors.Is(err, errNoSite) {
		return c, err
	}
	if c, err = a.service(ctx); err != nil {
		return nil, err
	}
	s, err := c.AddSite(ctx, plan.Site{Key: "new", Name: "New site"})
	if err != nil {
		return nil, err
	}
	fmt.Fprintln(a.err,
		"There was no site yet, so one was made for what is found. Name it with: redstart site set --name NAME")
	return c.At(s.Key), nil
}

// with is a command about a site of the running service.
func (a *app) with(do func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client(cmd.Context())
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, args)
	}
}

// anywhere is a command about the running service, whatever the site.
func (a *app) anywhere(do func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.service(cmd.Context())
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, args)
	}
}

func (a *app) log(quiet bool) *slog.Logger {
	level := slog.LevelInfo
	if quiet {
		level = slog.LevelWarn
	}
	return slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
}

// say tells a person something: beside the one document that programs read, where
// one is asked for.
func (a *app) say(format string, args ...any) {
	// What boxes, files and other people said of themselves is in it.
	text := value.PrintableLines(fmt.Sprintf(format, args...))
	if a.output == "table" {
		fmt.Fprintln(a.out, text)
		return
	}
	a.said = append(a.said, strings.TrimSpace(text))
	fmt.Fprintln(a.err, text)
}
