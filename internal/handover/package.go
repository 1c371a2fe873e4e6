package handover

import (
	"archive/zip"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"html/template"
	"io"
	"strings"
)

//go:embed contents.html
var contentsPage embed.FS

var contents = template.Must(template.ParseFS(contentsPage, "contents.html"))

// FileName makes a name of a file of a tag, which may hold anything.
func FileName(tag string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r < 0x80 && (r == '-' || r == '_' || r == '.' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z') {
			return r
		}
		return '-'
	}, tag), ".")
}

// whole is one archive of all documents with a contents page that opens without a network.
// Credentials are not in it: they are asked for by themselves.
var whole = &Document{
	Name: "package", Says: "All of these in one archive, with a contents page that opens without a network", File: "handover.zip",
	Kind: "application/zip", Steps: true,
	Write: func(out io.Writer, r Record) error {
		w := zip.NewWriter(out)
		type line struct{ File, Says string }
		type open struct{ Tag, Place, State, Why string }
		page := struct {
			Site, At, Language          string
			Verified, Expected, Unwired int
			Documents                   []line
			Open                        []open
			Say                         func(string) string
		}{Site: r.Site.Name, At: r.stamp(), Language: "en", Say: r.say}
		if r.norwegian() {
			page.Language = "nb"
		}
		var files []fileLine
		put := func(name string, write func(io.Writer) error) error {
			if err := r.next(name); err != nil {
				return err
			}
			f, err := w.Create(name)
			if err != nil {
				return err
			}
			hash := sha256.New()
			err = write(io.MultiWriter(f, hash))
			files = append(files, fileLine{name, hex.EncodeToString(hash.Sum(nil))})
			return err
		}
		for _, d := range r.Packed() {
			if d != signed { // that comes last, and has the sums of the others
				if err := put(d.File, func(out io.Writer) error { return d.Write(out, r) }); err != nil {
					return err
				}
			}
			page.Documents = append(page.Documents, line{d.File, r.say(d.Says)})
		}
		for _, e := range r.Entries {
			switch {
			case e.State == NotWired:
				page.Unwired++
				continue
			case e.State == "verified":
				page.Verified++
			default:
				why := e.Stands
				if list := e.unverified(r); len(list) > 0 {
					why = list[0]
				}
				page.Open = append(page.Open, open{e.Tag, e.Place, r.say(e.State), why})
			}
			page.Expected++
		}
		if err := put("index.html", func(out io.Writer) error { return contents.Execute(out, page) }); err != nil {
			return err
		}
		f, err := w.Create(recordFile)
		if err == nil {
			err = r.sign(f, files)
		}
		if err != nil {
			return err
		}
		return w.Close()
	},
}
