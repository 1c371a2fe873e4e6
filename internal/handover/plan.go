package handover

import (
	"io"

	"redstart/internal/core/planfile"
)

// planned is the plan itself: another Redstart takes it in, and knows each box by its MAC.
var planned = &Document{
	Name: "plan", Says: "Plan as another Redstart takes it in, without secrets: each entry with the MAC of its box",
	File: "plan.json", Kind: "application/json",
	Write: func(out io.Writer, r Record) error {
		content, err := planfile.Write(r.Plan, planfile.JSON)
		if err == nil {
			_, err = out.Write(content)
		}
		return err
	},
}
