package handover

import (
	"archive/zip"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"strings"
	"time"

	"redstart/internal/core/chain"
	"redstart/internal/core/problem"
	"redstart/internal/core/result"
)

// Run is a run as the record tells it.
type Run struct {
	ID    int64     `json:"run"`
	Who   string    `json:"who"`
	State string    `json:"state"`
	Began time.Time `json:"began"`
	Ended time.Time `json:"ended,omitzero"`
	Set   int       `json:"set"` // devices
	Of    int       `json:"of"`
}

// Step is a line of the journal of a run.
type Step struct {
	Run    int64     `json:"run"`
	Tag    string    `json:"tag"`
	MAC    string    `json:"mac"`
	Step   string    `json:"step"`
	Phase  string    `json:"phase"`
	Detail string    `json:"detail,omitempty"`
	At     time.Time `json:"at"`
}

// checkLine is a check of the record, with its entry.
type checkLine struct {
	Tag string `json:"tag"`
	result.Check
}

// fileLine is a document of the same package.
type fileLine struct {
	File   string `json:"file"`
	SHA256 string `json:"sha256"`
}

// recordFile is the name of the signed record in a package.
const recordFile = "record.jsonl"

// signed is the journal of all runs and every check, so that nobody can improve it afterwards.
var signed = &Document{
	Name: "record", Says: "Every run, step and check as JSON lines, chained and signed: redstart handover check verifies them",
	File: recordFile, Kind: "application/jsonl", Steps: true,
	Write: func(out io.Writer, r Record) error { return r.sign(out, nil) },
}

// sign writes the record, with the documents that it goes with.
func (r Record) sign(out io.Writer, files []fileLine) error {
	w := chain.Begin(out, r.Signer)
	w.Add("site", map[string]any{"name": r.Site.Name, "asOf": r.At.UTC()})
	for _, x := range r.Runs {
		w.Add("run", x)
	}
	for _, x := range r.Steps {
		w.Add("step", x)
	}
	for _, e := range r.Entries {
		for _, c := range e.Checks {
			w.Add("check", checkLine{e.Tag, c})
		}
	}
	for _, x := range files {
		w.Add("file", x)
	}
	return w.Close()
}

// Checked is what a record that was verified says.
type Checked struct {
	Site  string            `json:"site"`
	AsOf  time.Time         `json:"asOf"`
	Key   ed25519.PublicKey `json:"key"`
	Count map[string]int    `json:"count"` // lines of each kind
	Files []string          `json:"files"` // of the package, that are as they were signed
}

// longestDocument is how long a document of a package may be that is verified, in bytes.
const longestDocument = 1 << 30

// Check verifies a record, or a whole package with the record in it: that it is as it was
// signed, and that the package holds the documents that it was signed with, and no others.
func Check(in io.ReaderAt, size int64) (Checked, error) {
	head := make([]byte, 2)
	if _, err := in.ReadAt(head, 0); err != nil || string(head) != "PK" {
		c, _, err := check(io.NewSectionReader(in, 0, size))
		return c, err
	}
	damaged := func(err error) error {
		return problem.New(problem.Conflict, "the package is damaged", "ask for it anew").Because(err)
	}
	archive, err := zip.NewReader(in, size)
	if err != nil {
		return Checked{}, damaged(err)
	}
	file, err := archive.Open(recordFile)
	if err != nil {
		return Checked{}, problem.New(problem.Usage, "the archive holds no "+recordFile, "give a package that Redstart made").Because(err)
	}
	c, files, err := check(io.LimitReader(file, longestDocument))
	if err := file.Close(); err != nil {
		return Checked{}, damaged(err)
	}
	if err != nil {
		return Checked{}, err
	}
	there := map[string]bool{}
	for _, f := range archive.File {
		if there[f.Name] {
			return Checked{}, changed(f.Name, "it is in the package twice")
		}
		there[f.Name] = true
		want, listed := files[f.Name]
		switch {
		case f.Name == recordFile:
			continue
		case !listed:
			return Checked{}, changed(f.Name, "it was put into the package after it was signed")
		}
		content, err := f.Open()
		if err != nil {
			return Checked{}, damaged(err)
		}
		hash := sha256.New()
		_, err = io.Copy(hash, io.LimitReader(content, longestDocument))
		if err != nil {
			return Checked{}, damaged(err)
		}
		if hex.EncodeToString(hash.Sum(nil)) != want {
			return Checked{}, changed(f.Name, "it was changed after the package was signed")
		}
		c.Files = append(c.Files, f.Name)
	}
	for name := range files {
		if !there[name] {
			return Checked{}, changed(name, "it was taken out of the package")
		}
	}
	return c, nil
}

func changed(file, why string) error {
	return problem.New(problem.Conflict, why, "do not rely on the package; ask for it anew").About(file)
}

func check(in io.Reader) (c Checked, files map[string]string, err error) {
	c.Count, files = map[string]int{}, map[string]string{}
	if c.Key, _, err = chain.Check(in, func(l chain.Line) {
		c.Count[l.Is]++
		var site struct {
			Name string    `json:"name"`
			AsOf time.Time `json:"asOf"`
		}
		var file fileLine
		switch {
		case l.Is == "site" && json.Unmarshal(l.Holds, &site) == nil:
			c.Site, c.AsOf = site.Name, site.AsOf
		case l.Is == "file" && json.Unmarshal(l.Holds, &file) == nil:
			files[file.File] = strings.ToLower(file.SHA256)
		}
	}); err != nil {
		return Checked{}, nil, err
	}
	return c, files, nil
}
