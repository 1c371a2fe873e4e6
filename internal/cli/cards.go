package cli

import (
	"bufio"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/core/label"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/sheet"
)

// matchCards takes a stack of sensors' cards in, one after another.
func (a *app) matchCards() *cobra.Command {
	var behind string
	c := &cobra.Command{Use: "cards [TAG]", Short: "Read the cards of sensors, one after another",
		Long: `Reads the codes on sensors' cards (LoRa Alliance TR005), one a line, as a hand-held
scanner types them. Each is that of the next planned sensor that has none yet, in walking
order; with TAG, of that one. The key on a card goes into the vault. A card that was read
before changes nothing.`,
		Example: "  redstart match cards                      # then scan the stack\n  redstart match cards --behind YARD-RAD-01 < cards.txt",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			lines := bufio.NewScanner(cmd.InOrStdin())
			refused := 0
			for lines.Scan() {
				text := strings.TrimSpace(lines.Text())
				if text == "" {
					continue
				}
				if label.Parse(text).LoRaWAN == nil {
					refused++
					a.say("Not taken: this is no code of a sensor's card; it begins with LW:D0:.")
					continue
				}
				out, err := c.Scan(ctx, api.Scan{Text: text, Tag: strings.Join(args, ""), Cards: true, Behind: behind})
				if err != nil {
					refused++
					a.say("Not taken: %v", err)
					continue
				}
				a.say("%s.", out.Text)
			}
			if err := lines.Err(); err != nil {
				return err
			}
			return attentionUnless(refused == 0, fmt.Sprintf("%d cards were not taken", refused))
		}}
	c.Flags().StringVar(&behind, "behind", "", "only for sensors that hang behind this `ENTRY`")
	return c
}

// writeCards writes the cards of the simulated sensors: as a page with their codes, or as
// their texts, one a line.
func (a *app) writeCards(path string) error {
	var texts []string
	for n := 1; n <= w1.Cards; n++ {
		texts = append(texts, w1.Card(n))
	}
	content := []byte(strings.Join(texts, "\n") + "\n")
	if strings.HasSuffix(path, ".html") {
		var err error
		if content, err = sheet.Of("Cards of the sensors at Skerry Point", texts); err != nil {
			return err
		}
	}
	return a.saveFile(path, content)
}
