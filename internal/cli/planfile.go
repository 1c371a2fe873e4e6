package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

func (a *app) planImport() *cobra.Command {
	var o api.ImportOptions
	var columns []string
	c := &cobra.Command{Use: "import FILE", Short: "Take a plan file in (CSV, XLSX or JSON), all or nothing",
		Args: cobra.ExactArgs(1),
		Long: `Takes the entries of a CSV, XLSX or JSON file into the plan. What each column is
is told from its header, or said with --column; the site remembers it. New tags
are added; what a newer revision changes or removes is shown, and done with
--apply. Entries whose devices are configured are left alone.

An address may be "next" (the next free one), a name "auto" (made from the tag).
A file in which anything cannot be understood is refused whole.`,
		Example: `  redstart plan import plan.xlsx --preview
  redstart plan import rev-c.xlsx --whole --apply --column "Dev. ID=tag"`,
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			file, err := readFile(args[0])
			if err != nil {
				return err
			}
			shown := o
			shown.Preview = true
			if len(columns) > 0 {
				first, err := c.Import(ctx, file, shown)
				if err != nil {
					return err
				}
				if shown.Mapping, err = remap(first, columns); err != nil {
					return err
				}
				o.Mapping = shown.Mapping
			}
			r, err := c.Import(ctx, file, shown)
			if err != nil {
				return err
			}
			if o.Preview {
				return a.printPreview(r)
			}
			if err := r.Refusal(); err != nil {
				return err
			}
			if n := len(r.Comparison.Changed) + len(r.Comparison.Removed); n > 0 && !o.Apply {
				if err := a.printPreview(r); err != nil {
					return err
				}
				a.say("Nothing was changed. To change and remove what is in the plan already: --apply")
				return attention{"the file changes what is in the plan already"}
			}
			if r, err = c.Import(ctx, file, o); err != nil {
				return err
			}
			if a.output == "table" && r.Comparison.Empty() && r.Site == nil {
				a.sayUntouched(r)
				if len(r.Untouched) > 0 {
					return attention{"entries whose devices are configured were left alone"}
				}
				a.say("The plan is already as the file says.")
				return nil
			}
			if err := a.list(r.Comparison, []string{"Tag", "What", "Before", "After"}, comparisonRows(r.Comparison),
				""); err != nil || a.output != "table" {
				return err
			}
			a.sayUntouched(r)
			stops := slices.ContainsFunc(r.Findings, func(f plan.Finding) bool { return f.Level == plan.Stops })
			next := "redstart find"
			if stops {
				next = "redstart plan check, which has something to say"
			}
			a.say("\n%s. Next: %s", comparisonText(r.Comparison), next)
			return nil
		})}
	f := c.Flags()
	f.BoolVar(&o.Preview, "preview", false, "only show how the file is understood and what it would change")
	f.BoolVar(&o.Apply, "apply", false, "change and remove entries that are in the plan already")
	f.BoolVar(&o.Whole, "whole", false, "the file is the whole plan: remove entries that it does not have")
	f.BoolVar(&o.Configured, "also-configured", false, "change entries whose devices are configured too")
	f.StringVar(&o.Rows, "rows", "",
		"the file holds the tables of this `setting`, one line for each row, with the entry's tag")
	f.StringVar(&o.Sheet, "sheet", "", "`name` of the sheet, if the workbook has several")
	f.StringArrayVar(&columns, "column", nil,
		"`HEADER=FIELD`: what a column is; HEADER= leaves it out; may be given again")
	return c
}

// remap changes a proposed mapping as a person says.
func remap(r planfile.Result, columns []string) (planfile.Mapping, error) {
	m := r.Mapping
	for _, c := range columns {
		i := strings.LastIndex(c, "=")
		if i < 0 {
			return nil, &usageError{fmt.Errorf("--column needs HEADER=FIELD")}
		}
		header, field := c[:i], c[i+1:]
		if !slices.Contains(r.Header, header) {
			return nil, problem.New(problem.Usage, fmt.Sprintf("the file has no column %q; it has %s", header,
				strings.Join(r.Header, ", ")), "")
		}
		for h, f := range m {
			if f == field {
				m[h] = "" // what was proposed before gives way
			}
		}
		m[header] = field
	}
	return m, nil
}

func (a *app) printPreview(r planfile.Result) error {
	if a.output != "table" {
		return a.list(r, []string{"Tag", "What", "Before", "After"}, comparisonRows(r.Comparison), "")
	}
	sheet := ""
	if r.Sheet != "" {
		sheet = fmt.Sprintf(", sheet %q of %s", r.Sheet, strings.Join(r.Sheets, ", "))
	}
	if r.Encoding != "" {
		sheet += ", read as " + r.Encoding
	}
	a.say("%s file%s, %s.\n", strings.ToUpper(r.Format), sheet, value.Count(r.Rows, "row"))
	for _, t := range r.Titles {
		if t != "" {
			a.say("Above the header: %s", t)
		}
	}
	var rows [][]any
	for _, h := range r.Header {
		row := []any{h, dash(r.Mapping[h])}
		for i := range 3 {
			text := ""
			if i < len(r.Samples) {
				text = r.Samples[i].Fields[r.Mapping[h]]
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	if err := a.list(r, []string{"Column", "is", "first row", "second", "third"}, rows, ""); err != nil {
		return err
	}
	a.say("")
	if rows = comparisonRows(r.Comparison); len(rows) > 0 {
		if err := a.list(r, []string{"Tag", "What", "Before", "After"}, rows, ""); err != nil {
			return err
		}
	}
	a.sayUntouched(r)
	for _, c := range r.Cells[:min(len(r.Cells), mostCells)] {
		a.say("  %s", c)
	}
	if n := len(r.Cells) - mostCells; n > 0 {
		a.say("  and %d more like these", n)
	}
	if len(r.Cells) > 0 {
		a.say("\nThe file would be refused whole: %s cannot be understood.", value.Count(len(r.Cells), "cell"))
		return attention{"the file would be refused"}
	}
	a.say("\n%s; %s in the plan as it would be.", comparisonText(r.Comparison), value.Count(len(r.Findings), "finding"))
	return nil
}

func (a *app) sayUntouched(r planfile.Result) {
	if len(r.LeftOut) > 0 {
		a.say("\nColumns left out, since nothing of a plan has such a name: %s. Say what they are with --column.",
			strings.Join(r.LeftOut, ", "))
	}
	if len(r.Untouched) == 0 {
		return
	}
	a.say("\nLeft alone, because their devices are configured (--also-configured changes them):")
	for _, c := range r.Untouched {
		a.say("  %s: %s", c.Tag, c)
	}
}

func (a *app) planExport() *cobra.Command {
	var format, rows string
	c := &cobra.Command{Use: "export FILE", Short: "Write the plan as CSV, XLSX or JSON", Args: cobra.ExactArgs(1),
		Long: "Writes the plan to a file; its ending says the format. - writes to the terminal, with --format.",
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if format == "" {
				format = strings.TrimPrefix(strings.ToLower(filepath.Ext(args[0])), ".")
			}
			content, err := c.Export(ctx, format, rows)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	c.Flags().StringVar(&format, "format", "", "csv, xlsx or json")
	c.Flags().StringVar(&rows, "rows", "", "write the tables of this `setting` alone, one line for each row, as CSV")
	return c
}

func (a *app) planTemplate() *cobra.Command {
	return &cobra.Command{Use: "template FILE.xlsx", Short: "Write an empty workbook with drop-downs",
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			content, err := c.Template(ctx)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
}

func (a *app) planCheck() *cobra.Command {
	var mend, preview bool
	c := &cobra.Command{Use: "check [FILE]", Short: "Check the plan as a whole, or a file before it is imported",
		Args: cobra.MaximumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 1 {
				return a.checkFile(ctx, c, args[0])
			}
			if mend {
				out, err := c.Mend(ctx, chosen(nil), preview)
				if err != nil {
					return err
				}
				if err := a.printMends(out, preview); err != nil || preview {
					return err
				}
			}
			findings, err := c.Findings(ctx)
			if err != nil {
				return err
			}
			return a.printFindings(findings, findings, nil)
		})}
	c.Flags().BoolVar(&mend, "mend", false, "apply all safe mends first, and list what they change")
	c.Flags().BoolVar(&preview, "preview", false, "with --mend: only show what would change")
	return c
}

func (a *app) printMends(out api.Edited, preview bool) error {
	if a.output != "table" {
		return a.list(out, []string{"Tag", "What", "Before", "After"}, comparisonRows(out.Comparison), "")
	}
	if len(out.Changes) == 0 {
		a.say("There is nothing that can be mended safely.\n")
		return nil
	}
	var rows [][]any
	for _, x := range out.Changes {
		rows = append(rows, []any{x.Tag, fieldLabel(x.Field), dash(x.Before), dash(x.After), wrap(x.Why, 60)})
	}
	if err := a.list(out, []string{"Tag", "Field", "Before", "After", "Because"}, rows, ""); err != nil {
		return err
	}
	if preview {
		a.say("\n%s; nothing was changed.", value.Count(len(out.Changes), "safe mend"))
		return nil
	}
	a.say("\n%s, revision %d.\n", value.Count(len(out.Changes), "safe mend"), out.Revision)
	return nil
}

func (a *app) checkFile(ctx context.Context, c *client.Client, path string) error {
	file, err := readFile(path)
	if err != nil {
		return err
	}
	r, err := c.CheckFile(ctx, file)
	if err != nil {
		return err
	}
	if a.output == "table" {
		if len(r.LeftOut) > 0 {
			a.say("  Columns that are nothing of a plan: %s", strings.Join(r.LeftOut, ", "))
		}
		for _, cell := range r.Cells[:min(len(r.Cells), mostCells)] {
			a.say("  %s", cell)
		}
		if n := len(r.Cells) - mostCells; n > 0 {
			a.say("  and %d more like these", n)
		}
		if len(r.Cells) > 0 {
			a.say("\n%s cannot be understood; an import would be refused.\n", value.Count(len(r.Cells), "cell"))
		}
	}
	err = a.printFindings(r, r.Findings, r.RowOf)
	if err == nil {
		err = attentionUnless(len(r.Cells) == 0, "the file cannot be understood")
	}
	return err
}

// findingsText counts findings by what they mean.
func findingsText(findings []plan.Finding) string {
	if len(findings) == 0 {
		return "Nothing is wrong with the plan"
	}
	count := map[plan.Level]int{}
	for _, f := range findings {
		count[f.Level]++
	}
	return fmt.Sprintf("%s: %d stop commissioning, %s, %s", value.Count(len(findings), "finding"), count[plan.Stops],
		value.Count(count[plan.Warning], "warning"), value.Count(count[plan.Hint], "hint"))
}

// printFindings prints findings; with rows, the row of the file too.
func (a *app) printFindings(as any, findings []plan.Finding, rowOf map[string]int) error {
	var rows [][]any
	count := map[plan.Level]int{}
	for _, f := range findings {
		count[f.Level]++
		who := f.Tag
		if who == "" {
			who = "(site)"
		}
		if f.Profile != "" {
			who = "(" + f.Profile + ")"
		}
		if rowOf[f.Tag] > 0 {
			who = fmt.Sprintf("%s, row %d", who, rowOf[f.Tag])
		}
		mend := ""
		if f.Mend != nil {
			mend = f.Mend.Field + " = " + dash(f.Mend.Value).shown
			if f.Mend.Safe {
				mend += " (safe)"
			}
		}
		rows = append(rows, []any{f.Level, cell{f.Code, f.Name()}, who, f.Field, wrap(f.Reason, 60), mend})
	}
	if len(findings) == 0 && a.output == "table" {
		a.say("Nothing is wrong with the plan.")
		return nil
	}
	if err := a.list(as, []string{"Level", "Finding", "Entry", "Field", "Reason", "Mend"}, rows, ""); err != nil {
		return err
	}
	if a.output == "table" {
		a.say("\n%s.", findingsText(findings))
		if slices.ContainsFunc(findings, func(f plan.Finding) bool {
			return f.Mend != nil && f.Mend.Safe
		}) && rowOf == nil {
			a.say("Next: redstart plan check --mend applies the safe mends.")
		}
	}
	return attentionUnless(count[plan.Stops]+count[plan.Warning] == 0, findingsText(findings))
}

func (a *app) planFiles() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the site's files",
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			files, err := c.Files(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			for _, f := range files {
				rows = append(rows, []any{f.Name, cell{fmt.Sprint(f.Size), fmt.Sprintf("%d bytes", f.Size)},
					cell{f.SHA256, f.SHA256[:16] + "…"}, dash(strings.TrimSpace(f.Profile + " " + f.Firmware)), day(f.At.Time),
					f.Who})
			}
			return a.list(files, []string{"File", "Size", "SHA-256", "Of", "Stored", "By"}, rows, "")
		})}
	add := &cobra.Command{Use: "add FILE", Short: "Store a file of the site, such as a licence",
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			content, err := openFile(args[0])
			if err != nil {
				return err
			}
			defer content.Close()
			f, err := c.PutFile(ctx, filepath.Base(args[0]), content)
			if err != nil {
				return err
			}
			a.say("Stored: %d bytes, SHA-256 %s. Entries refer to it as %s.", f.Size, f.SHA256, f.Name)
			return nil
		})}
	remove := &cobra.Command{Use: "remove NAME", Short: "Forget a file of the site", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RemoveFile(ctx, args[0]); err != nil {
				return err
			}
			a.say("Forgotten.")
			return nil
		})}
	save := &cobra.Command{Use: "save NAME [FILE]", Short: "Fetch a file of the site again",
		Args: cobra.RangeArgs(1, 2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			path := args[len(args)-1]
			if path == "-" {
				return c.File(ctx, args[0], a.out)
			}
			f, err := create(path)
			if err != nil {
				return err
			}
			if err := errors.Join(c.File(ctx, args[0], f), f.Close()); err != nil {
				return err
			}
			a.say("Written: %s", path)
			return nil
		})}
	keep := &cobra.Command{Use: "keep TAG [NAME]", Short: "Keep the saved configuration of a device as a file of the site",
		Long: `Takes the saved configuration of an entry's device and keeps it as a file of the site,
with its model and firmware. To load it into another box of the same model first, name it in
that one's plan: redstart plan set TAG configuration=NAME. What must differ is set afterwards.`,
		Args: cobra.RangeArgs(1, 2), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			f, err := c.KeepConfiguration(ctx, args[0], strings.Join(args[1:], ""))
			if err != nil {
				return err
			}
			a.say("Kept as %s: %d bytes, SHA-256 %s, of a %s with firmware %s.", f.Name, f.Size, f.SHA256, f.Profile,
				cmp.Or(f.Firmware, "unknown"))
			return nil
		})}
	return group("file", "Files that entries refer to: licences, firmware, configurations", list, add, keep, save, remove)
}
