package cli

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
)

// profileTry walks a profile through one box.
func (a *app) profileTry() *cobra.Command {
	var set []string
	c := &cobra.Command{Use: "try PROFILE|FILE.yaml MAC [ACT...]",
		Short: "Try acts of a profile with one box, and see each request and answer",
		Long: `Carries out acts of a profile with one found box, one after the other, and shows
each request and answer with secrets hidden. It stops at the first that fails.
Without acts: identify, sign-in and read, which change nothing; acts that set
something are tried when they are named, with the values of the entry that the
box is matched with and those of --set. A password that is set is made under the
profile's rules and kept in the vault. A file is read anew each time.`,
		Example: "  redstart profile try my-model.yaml 02:4b:37:00:12:9a\n" +
			"  redstart profile try my-model.yaml 02:4b:37:00:12:9a password name --set name=lamp-1",
		Args: cobra.MinimumNArgs(2),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			mac, err := address.ParseMAC(args[1])
			if err != nil {
				return problem.New(problem.Usage, err.Error(), "find lists them: redstart find --known").About(args[1])
			}
			in := api.Trial{Profile: args[0], Acts: args[2:], Values: map[string]string{}}
			if len(in.Acts) == 0 {
				in.Acts = []string{"identify", "sign-in", "read"}
			}
			for _, pair := range set {
				key, value, ok := strings.Cut(pair, "=")
				if !ok {
					return problem.New(problem.Usage, "this is not KEY=VALUE", "as in --set name=lamp-1").About(pair)
				}
				in.Values[key] = value
			}
			if _, err := os.Stat(args[0]); err == nil {
				doc, err := readFile(args[0])
				if err != nil {
					return err
				}
				in.Document = string(doc)
			}
			out, err := c.Try(ctx, mac, in)
			if err != nil {
				return err
			}
			return a.printTried(out)
		})}
	c.Flags().StringArrayVar(&set, "set", nil, "`KEY=VALUE` of a variable that acts send; may be given again")
	return c
}

func (a *app) printTried(out api.Tried) error {
	if a.output != "table" {
		return a.list(out, []string{"Act", "Move", "Sent", "Got"}, triedRows(out), "")
	}
	for _, x := range out.Exchanges {
		a.say("%s, move %d\n%s\n%s\n", x.Act, x.Move, indented("> ", x.Sent), indented("< ", x.Got))
	}
	var rows [][]any
	for _, key := range slices.Sorted(maps.Keys(out.Facts)) {
		rows = append(rows, []any{key, out.Facts[key]})
	}
	if len(rows) > 0 {
		if err := a.list(out, []string{"Taken", "Value"}, rows, ""); err != nil {
			return err
		}
	}
	if len(out.Samples) > 0 {
		a.say("Passwords under its rules look like %s.", strings.Join(out.Samples, ", "))
	}
	if out.Error != "" {
		return problem.New(problem.Device, strings.TrimRight(out.Error, "."), "mend the profile, and try again")
	}
	a.say("Went through: %s.", strings.Join(out.Done, ", "))
	return nil
}

func triedRows(out api.Tried) (rows [][]any) {
	for _, x := range out.Exchanges {
		rows = append(rows, []any{x.Act, x.Move, x.Sent, x.Got})
	}
	return rows
}

func indented(mark, text string) string {
	return mark + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n"+mark)
}
