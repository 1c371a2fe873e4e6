package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
	"redstart/internal/sim/hands"
	"redstart/internal/sim/licence"
)

// supplier plays the supplier of licences for the simulated site.
func (a *app) supplier() *cobra.Command {
	return &cobra.Command{Use: "supplier COLLECTED.csv OUT.zip",
		Short: "Play the supplier: make licences for the host ids that were collected",
		Long:  "Reads what redstart plan licence collect wrote, and writes an archive of licences that the simulated devices take. As suppliers do, it names the files by numbers of its own.",
		Args:  cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return problem.Disk(err, "the file cannot be read", args[0])
			}
			lines, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
			if err != nil || len(lines) < 2 {
				return problem.New(problem.Usage, "it is no CSV with a header and lines",
					"make it with: redstart plan licence collect FILE.csv").About(args[0])
			}
			maker, host := slices.Index(lines[0], "maker"), slices.Index(lines[0], "host-id")
			if maker < 0 || host < 0 {
				return problem.New(problem.Usage, "it has no columns maker and host-id",
					"make it with: redstart plan licence collect FILE.csv").About(args[0])
			}
			var out bytes.Buffer
			w := zip.NewWriter(&out)
			for i, l := range lines[1:] {
				f, err := w.Create(fmt.Sprintf("order-7731/%04d.lic", 4711+37*i))
				if err == nil {
					_, err = f.Write([]byte(licence.Text(l[maker], l[host])))
				}
				if err != nil {
					return err
				}
			}
			if err := w.Close(); err != nil {
				return err
			}
			f, err := create(args[1])
			if err != nil {
				return err
			}
			if _, err := f.Write(out.Bytes()); errors.Join(err, f.Close()) != nil {
				return problem.Disk(err, "the file cannot be written", args[1])
			}
			a.say("%s written: %s. Take them back: redstart plan licence take %s", value.Count(len(lines)-1, "licence"), args[1],
				args[1])
			return nil
		}}
}

// simHands plays the person at a simulated site that runs in another process.
func (a *app) simHands() *cobra.Command {
	var by, name string
	c := &cobra.Command{Use: "hands SOCKET", Short: "Play the person who does by hand what a service asks for at the simulated site",
		Long: "Follows what the service asks for, and does it with the boxes of redstart sim --hands SOCKET: after a while, only what somebody takes, wrongly, or never.",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := personOf(by)
			if err != nil || p == nil {
				return err
			}
			p.Do, p.Accepts = hands.Over(args[0]), name
			a.say("At hand. Ctrl-C ends it.")
			a.atHand(ctx, c, *p, false)
			return nil
		})}
	c.Flags().StringVar(&by, "takes", "10s", "how long each thing takes; "+handsWords)
	c.Flags().StringVar(&name, "accepts", "", "accept terms in this name; without it they are left to others")
	return c
}
