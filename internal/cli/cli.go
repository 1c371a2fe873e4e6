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

	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/service"
)

// Exit codes.
const (
	ExitDone      = 0
	ExitAttention = 1 // something needs attention
	ExitUsage     = 2 // wrong use
)

// errAttention ends a command that said everything already.
var errAttention = errors.New("something needs attention")

// app is what all commands share.
type app struct {
	out, err io.Writer
	data     string // the data folder
	output   string // table, json or csv
	siteKey  string // "" for the only site
}

// Main runs one command and gives its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	a := &app{out: out, err: errs}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ExitDone
	}
	var p *problem.Error
	switch {
	case errors.Is(err, errAttention):
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(errs, "stopped")
	case errors.As(err, &p):
		fmt.Fprintln(errs, "redstart:", p.Error())
		for _, c := range p.Cells {
			fmt.Fprintln(errs, "  "+c.String())
		}
		if p.Kind == problem.Usage {
			return ExitUsage
		}
	case errors.As(err, new(*usageError)), strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "if any flags in the group"): // cobra has no types for these
		fmt.Fprintf(errs, "redstart: %s. Try: redstart --help\n", strings.TrimSpace(err.Error()))
		return ExitUsage
	default:
		fmt.Fprintln(errs, "redstart:", err)
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

  plan, find, match, commission, verify`,
		SilenceUsage: true, SilenceErrors: true, Version: service.Version,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if !slices.Contains([]string{"table", "json", "csv"}, a.output) {
				return &usageError{fmt.Errorf("--output is table, json or csv")}
			}
			return nil
		},
	}
	root.PersistentFlags().StringVar(&a.data, "data", defaultData(), "data `folder` of the service (or set REDSTART_DATA)")
	root.PersistentFlags().StringVar(&a.siteKey, "site", os.Getenv("REDSTART_SITE"), "`key` of the site, if there are several (or set REDSTART_SITE)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "how to print lists: table, json or csv")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	root.CompletionOptions.DisableDefaultCmd = true
	root.AddCommand(a.serve(), a.demo(), a.sim(), a.site(), a.plan(), a.find(), a.match(), a.commission(), a.verify(), a.profile(), a.vault(), a.user())
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
			return &usageError{err}
		}
		return nil
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// group is a command that only holds others.
func group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(*cobra.Command, []string) error {
		return &usageError{fmt.Errorf("%q needs a further word", use)}
	}}
	c.AddCommand(subs...)
	return c
}

func defaultData() string {
	if dir := os.Getenv("REDSTART_DATA"); dir != "" {
		return dir
	}
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
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
func (a *app) service() (*client.Client, error) {
	if url := os.Getenv("REDSTART_URL"); url != "" {
		return client.New(client.Handle{URL: strings.TrimRight(url, "/"), Token: os.Getenv("REDSTART_TOKEN"), Pin: os.Getenv("REDSTART_PIN")}), nil
	}
	return client.Open(a.data)
}

var errNoSite = problem.New(problem.Conflict, "there is no site yet", "make one: redstart site set --name NAME --subnet 10.40.8.0/22 --gateway 10.40.8.1")

// client reaches the running service, about the site that is meant.
func (a *app) client(ctx context.Context) (*client.Client, error) {
	c, err := a.service()
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
		return nil, problem.New(problem.Usage, "there are several sites: "+strings.Join(keys, ", "), "say which with --site KEY, or set REDSTART_SITE")
	}
	return c.At(keys[0]), nil
}

// with is a command about a site of the running service.
func (a *app) with(do func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client(cmd.Context())
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, args)
	}
}

// anywhere is a command about the running service, whatever the site.
func (a *app) anywhere(do func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.service()
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

func (a *app) say(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }
