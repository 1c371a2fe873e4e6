package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/problem"
)

// hands lists what devices wait for persons to do, in walking order.
func (a *app) hands() *cobra.Command {
	return &cobra.Command{Use: "hands", Short: "List what a person has to do at which device, in walking order",
		Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Hands(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			open, terms := 0, ""
			for _, h := range list.Tasks {
				do := h.Do
				if h.Terms != "" {
					do, terms = h.Do+", and accept them: "+h.Terms, h.Tag
				}
				if h.Open {
					open++
				}
				rows = append(rows, []any{h.Tag, dash(h.Area), dash(h.Floor), dash(h.Place), wrap(do, 40), wrap(h.Look, 26),
					dash(h.Who), timeLeft(h)})
			}
			next := "When you are at one: redstart commission take TAG. When it is done: redstart commission done TAG"
			switch {
			case terms != "":
				next = "Terms are accepted by name: redstart commission accept " + terms
			case open == 0:
				next = "Nothing waits for a hand."
			}
			return a.list(list, []string{"Entry", "Area", "Floor", "Place", "Do", "Then", "At it", "Time"}, rows, next)
		})}
}

// timeLeft says since when something waits, or how long is left for what follows it.
func timeLeft(h api.HandTask) string {
	left := time.Until(h.WindowEnds.Time).Round(time.Second)
	switch {
	case !h.Open && left > 0:
		return fmt.Sprintf("done; %s left for what follows", left)
	case h.Within > 0:
		return fmt.Sprintf("%s once it is done", time.Duration(h.Within)*time.Second)
	}
	return "waits since " + h.Since.Local().Format("15:04:05")
}

// eachRun calls with the given tags that wait for a hand, by run, and refuses others before.
func eachRun(ctx context.Context, c *client.Client, tags []string, call func(run int64, tags []string) error) error {
	list, err := c.Hands(ctx)
	if err != nil {
		return err
	}
	runs := map[int64][]string{}
	for _, tag := range tags {
		i := slices.IndexFunc(list.Tasks, func(h api.HandTask) bool { return h.Tag == tag && h.Open })
		if i < 0 {
			return problem.New(problem.Conflict, "it waits for nobody's hand",
				"those that do: redstart commission hands").About(tag)
		}
		run := list.Tasks[i].Run
		runs[run] = append(runs[run], tag)
	}
	for run, tags := range runs {
		if err := call(run, tags); err != nil {
			return err
		}
	}
	return nil
}

// takeHands says who is at what devices wait for.
func (a *app) takeHands() *cobra.Command {
	var drop bool
	c := &cobra.Command{Use: "take TAG...", Short: "Say that you are at what a device waits for, so that others see it",
		Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, tags []string) error {
			err := eachRun(ctx, c, tags, func(run int64, tags []string) error {
				return c.TakeHands(ctx, run, api.TakeHands{Tags: tags, Drop: drop})
			})
			if err == nil && drop {
				a.say("Nobody is at %s.", strings.Join(tags, ", "))
			} else if err == nil {
				a.say("You are at %s. When it is done: redstart commission done %s", strings.Join(tags, ", "), tags[0])
			}
			return err
		})}
	c.Flags().BoolVar(&drop, "drop", false, "you are not at it any more")
	return c
}

// did says that a person did what devices wait for.
func (a *app) did() *cobra.Command {
	var in api.Hands
	c := &cobra.Command{Use: "done TAG...", Short: "Say that what a device waits for was done by hand",
		Long: `Where the device can be asked it is looked at: if it tells otherwise, it is asked for again with
what was seen. --without goes on although it is not done; verification tells what is missing.`,
		Args: cobra.MinimumNArgs(1)}
	c.Flags().BoolVar(&in.Without, "without", false, "it cannot be done now: go on without it")
	c.RunE = func(cmd *cobra.Command, args []string) error { return a.handed(in)(cmd, args) }
	return c
}

// accept accepts, by name, the terms that devices wait for.
func (a *app) accept() *cobra.Command {
	in := api.Hands{Accept: true}
	c := &cobra.Command{Use: "accept TAG...",
		Short: "Accept the terms that a device waits for, in your name, once for the site and its model",
		Args:  cobra.MinimumNArgs(1)}
	c.Flags().StringVar(&in.Name, "name", "", "who accepts them, on the computer of the service: nobody signs in by name there")
	c.RunE = func(cmd *cobra.Command, args []string) error { return a.handed(in)(cmd, args) }
	return c
}

func (a *app) handed(in api.Hands) func(*cobra.Command, []string) error {
	return a.with(func(ctx context.Context, c *client.Client, tags []string) error {
		err := eachRun(ctx, c, tags, func(run int64, tags []string) error {
			in.Tags = tags
			return c.Did(ctx, run, in)
		})
		switch {
		case err != nil:
		case in.Without:
			a.say("Going on without it: %s. Follow it: redstart commission --watch", strings.Join(tags, " "))
		default:
			a.say("Noted of %s: a device that can be asked is looked at first. Follow it: redstart commission --watch",
				strings.Join(tags, " "))
		}
		return err
	})
}
