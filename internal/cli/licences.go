package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/licence"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// planLicences collects host ids and takes licences in.
func (a *app) planLicences() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the devices that take a licence, and how far each is", Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Licences(ctx)
			if err != nil {
				return err
			}
			var rows [][]any
			ask := 0
			for _, l := range list {
				if l.State == "to be asked for" || l.State == "host id changed" {
					ask++
				}
				rows = append(rows, []any{l.Tag, l.Maker + " " + l.Model, dash(l.Host), l.State, wrap(l.Why, 44), dash(l.File)})
			}
			next := "Taken back from the supplier: redstart plan licence take FOLDER|FILE"
			if ask > 0 {
				next = "For the supplier: redstart plan licence collect licences.csv"
			}
			return a.list(list, []string{"Entry", "Model", "Host id", "Licence", "Why", "File"}, rows, next)
		})}
	collect := &cobra.Command{Use: "collect FILE", Short: "Write the host ids for which licences are needed, as CSV or XLSX",
		Long: "Writes for the supplier what the missing licences are made for, as the devices told it, and notes that they were asked for. " +
			"The ending of the file says whether it is CSV or XLSX.",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			format := planfile.CSV
			if strings.EqualFold(filepath.Ext(args[0]), ".xlsx") {
				format = planfile.XLSX
			}
			content, err := c.CollectLicences(ctx, format)
			if err != nil {
				return err
			}
			return a.saveFile(args[0], content)
		})}
	var preview bool
	take := &cobra.Command{Use: "take PATH...", Short: "Take back what the supplier sent: files, folders or ZIP archives",
		Long: "Each licence is matched by the host id in it, whatever its file is called, stored with the site's files and planned for its device; the next run sends it.",
		Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			name, content, err := packed(args)
			if err != nil {
				return err
			}
			out, err := c.TakeLicences(ctx, name, content, preview)
			if err != nil {
				return err
			}
			return a.printTaken(out, preview)
		})}
	take.Flags().BoolVar(&preview, "preview", false, "only show whose each is")
	return group("licence", "Licences by host id: collect what they are made for, take them in", list, collect, take)
}

func (a *app) printTaken(out api.LicencesTaken, preview bool) error {
	var rows [][]any
	nobodys := 0
	for _, f := range out.Files {
		if f.Tag == "" {
			nobodys++
		}
		rows = append(rows, []any{filepath.Base(f.File), dash(f.Tag), dash(f.Host), f.Why})
	}
	next := fmt.Sprintf("%s taken. Next: redstart commission", value.Count(out.Taken, "licence"))
	switch {
	case preview:
		next = fmt.Sprintf("%s would be taken; nothing was changed.", value.Count(out.Taken, "licence"))
	case out.Taken == 0:
		next = "Nothing was taken."
	}
	if err := a.list(out.Files, []string{"File", "Entry", "Host id", "Why not"}, rows, next); err != nil {
		return err
	}
	return attentionUnless(nobodys == 0 && out.Taken > 0, value.Count(nobodys, "file")+" left over")
}

// packed puts files and folders into one archive; one file goes as it is.
func packed(paths []string) (name string, content []byte, err error) {
	var files []string
	for _, p := range paths {
		err := filepath.WalkDir(p, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				files = append(files, path)
			}
			if len(files) > licence.MostFiles {
				return fmt.Errorf("there are more than %d files", licence.MostFiles)
			}
			return err
		})
		if err != nil {
			return "", nil, problem.Disk(err, "it cannot be read", p)
		}
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			return "", nil, problem.Disk(err, "it cannot be read", path)
		}
		if len(files) == 1 {
			return filepath.Base(path), text, nil
		}
		f, err := w.Create(filepath.ToSlash(path))
		if err == nil {
			_, err = f.Write(text)
		}
		if err != nil {
			return "", nil, err
		}
	}
	err = w.Close()
	return "licences.zip", out.Bytes(), err
}
