package cli

import (
	"context"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
)

// handover makes the documents of the hand-over.
func (a *app) handover() *cobra.Command {
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
			content, err := c.Document(ctx, args[0])
			if err != nil {
				return err
			}
			return a.saveFile(args[1], content)
		})}
	c.AddCommand(a.handCredentials(), a.labels(), a.sheets())
	return c
}

// sheets writes commissioning sheets.
func (a *app) sheets() *cobra.Command {
	return &cobra.Command{Use: "sheets FILE.pdf TAG...", Short: "Write a commissioning sheet for each entry: what it is and every check",
		Args: cobra.MinimumNArgs(2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			content, err := c.Sheets(ctx, args[1:])
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
}

// labels prints labels.
func (a *app) labels() *cobra.Command {
	var o api.LabelOptions
	var start int
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
			content, err := c.Labels(ctx, o)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	c.Flags().StringVar(&o.Size, "size", "70x37", "`width x height` of a label in mm")
	c.Flags().StringVar(&o.Gap, "gap", "", "between labels, `across x down`, in mm")
	c.Flags().StringVar(&o.Page, "page", "A4", "what they are on: A4, letter or roll")
	c.Flags().IntVar(&start, "start", 1, "`number` of the label to begin with on a used sheet, from the top left, row by row")
	c.Flags().StringVar(&o.Fields, "fields", "tag,name,address,mac,serial", "`columns` of the register that stand on it")
	return c
}

// handCredentials hands over what opens the devices.
func (a *app) handCredentials() *cobra.Command {
	var to api.SealTo
	var passphrase bool
	c := &cobra.Command{Use: "credentials FILE", Short: "Write all logins and secrets, sealed, and record who has them",
		Long: `Seals the current and the superseded logins of all devices, with what opens each, and the
secret settings (age-encryption.org/v1). With public keys, whoever has one of the keys opens it:
age -d -i key.txt FILE; with a passphrase, age -d FILE. Another Redstart takes it with
redstart vault learn FILE. The history of every entry says for whom it was sealed.`,
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if passphrase {
				var err error
				if to.Passphrase, err = a.askNew("passphrase"); err != nil {
					return err
				}
			}
			content, err := c.HandCredentials(ctx, to)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	c.Flags().StringArrayVar(&to.Recipients, "recipient", nil, "public `key` of who may open it (age1…); may be given again")
	c.Flags().BoolVar(&passphrase, "passphrase", false, "ask for a passphrase that opens it")
	c.MarkFlagsMutuallyExclusive("recipient", "passphrase")
	return c
}
