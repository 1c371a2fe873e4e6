package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/segments"
	"redstart/internal/sim/hands"
	"redstart/internal/sim/skerry"
	"redstart/internal/site"
)

func (a *app) demo() *cobra.Command {
	var flags simFlags
	var listen, by string
	var walk, stay bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Try everything on a simulated site, with nothing plugged in",
		Long: `Starts the service and a simulated site in one process on loopback, with a
temporary data folder, and prints a link that signs in once. With
--walkthrough it does the whole job through the service's API instead, prints a
table per stage, and exits 0 only if every entry was verified; with --stay as
well it goes on, so that you can look at the finished site.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := flags.options()
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("data") {
				return &usageError{errors.New("the demo keeps nothing, and its data folder is one of its own: leave --data out")}
			}
			if stay && !walk {
				return &usageError{errors.New("--stay is for what comes after --walkthrough; the demo stays anyway")}
			}
			if walk && !stay && !cmd.Flags().Changed("listen") {
				listen = "127.0.0.1:0"
			}
			if walk && !cmd.Flags().Changed("hands") {
				by = "0s"
			}
			person, err := personOf(by)
			if err != nil {
				return err
			}
			if walk && person != nil {
				person.Accepts = "a person who is simulated"
			}
			return a.demonstrate(cmd.Context(), o, listen, walk, stay, person)
		},
	}
	flags.add(c)
	c.Flags().StringVar(&listen, "listen", usualAddress, "loopback `address` of console and API")
	c.Flags().StringVar(&by, "hands", "10s",
		"how long somebody takes for what is to be done by hand, such as 10s; "+handsWords+"; 0s with --walkthrough")
	c.Flags().BoolVar(&walk, "walkthrough", false, "do the whole job and exit")
	c.Flags().BoolVar(&stay, "stay", false, "do not exit after --walkthrough")
	return c
}

// handsWords are the words that may stand in place of a time.
const handsWords = "mine: only what somebody says to be at on the page By hand; wrong: says that it is done, and does nothing; never: nobody does it"

// personOf reads how somebody does what is asked; nil for nobody.
func personOf(text string) (*hands.Person, error) {
	switch text {
	case "never":
		return nil, nil
	case "mine":
		return &hands.Person{Takes: hands.OnlyTaken}, nil
	case "wrong":
		return &hands.Person{Wrong: true}, nil
	}
	takes, err := time.ParseDuration(text)
	if err != nil || takes < 0 {
		return nil, problem.New(problem.Usage, "this is neither a time like 10s nor mine, wrong or never",
			"say how long somebody takes").About("--hands " + text)
	}
	return &hands.Person{Takes: takes}, nil
}

// demonstrate runs service and simulated site together, with somebody who does what is to be
// done by hand; nil for nobody.
func (a *app) demonstrate(ctx context.Context, o skerry.Options, listen string, walk, stay bool,
	person *hands.Person) (err error) {
	l, _, _, err := listenAt(listen, "", "", "")
	if err != nil {
		return err
	}
	defer l.Close()
	if a.data, err = os.MkdirTemp("", "redstart-demo-"); err != nil {
		return problem.New(problem.Machine, "no temporary folder can be made", "free some space").Because(err)
	}
	defer os.RemoveAll(a.data)
	terminal := skerry.Start(o)
	defer terminal.Close()
	lines, err := terminal.PlugLines()
	if err != nil {
		return problem.New(problem.Machine, "no serial line can be simulated",
			"see that /dev/ptmx can be opened").Because(err)
	}
	var names []string
	for _, l := range lines {
		names = append(names, l.Name)
	}
	s, err := site.Open(ctx, site.Config{Data: a.data, Plugs: []segments.Plug{{Name: "simulated site",
		Port: terminal.Attach()}}, Lines: names, Log: a.log(true)})
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.AddSite(ctx, terminal.Data(), "demo"); err != nil {
		return err
	}
	records, err := s.At(ctx, skerry.Data().Key)
	if err == nil {
		err = records.Jobs.Watch(ctx, true) // one box talks at power-up only
	}
	if err != nil {
		return err
	}
	planFile := filepath.Join(a.data, "skerry-point.csv")
	if err := os.WriteFile(planFile, terminal.WholePlan(), 0o600); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var walked error
	var people sync.WaitGroup
	defer people.Wait()
	defer stop()
	served := a.run(ctx, s, l, "", func(url string) error {
		a.say("Skerry Point Ferry Terminal, a made-up site. Everything on its network is simulated")
		a.say("in this process: %s.", inventory(terminal))
		a.say("Service, API and console are the real ones, on loopback only.")
		for _, l := range lines {
			a.say("Serial line %s: the console of a %s.", l.Name, l.Device)
		}
		if person != nil {
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			person.Do = hands.With(terminal.All())
			people.Go(func() { a.atHand(ctx, c, *person, walk) })
		}
		if walk {
			if walked = a.walk(ctx, terminal, lines, stay); !stay {
				stop()
				return nil
			}
			if walked != nil {
				a.say("\n%v", walked)
			}
		}
		token, err := s.Accounts.OnceToken(ctx)
		if err != nil {
			return err
		}
		a.say("\nConsole   %s/#once=%s   (signs in once)", url, token)
		a.say("Plan      %s", planFile)
		a.say("Commands  export REDSTART_DATA=%s\n", a.data)
		if walk {
			a.say("Ctrl-C ends the demo and forgets everything.")
			return nil
		}
		a.say("Next: open the console and import the plan; or run, in another shell:")
		a.say("  redstart plan import %s", planFile)
		a.say("Ctrl-C ends the demo and forgets everything.")
		return nil
	})
	return errors.Join(walked, served)
}

// atHand plays the person at the simulated site.
func (a *app) atHand(ctx context.Context, c *client.Client, p hands.Person, quiet bool) {
	if !quiet {
		p.Say = func(tag, what string) { a.say("By hand, at %s: %s.", tag, what) }
	}
	if err := p.Serve(ctx, c); err != nil {
		a.say("Nobody is at hand any more: %v.", err)
	}
}
