package e2e

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"redstart/internal/api"
)

// rank gives the line of CONTRIBUTING's list that a package belongs to: the one with the longest
// folder that it is in; -1 for none.
func rank(list [][]string, pkg string) (line int) {
	line, longest := -1, 0
	for i, folders := range list {
		for _, f := range folders {
			if (pkg == f || strings.HasPrefix(pkg, f+"/")) && len(f) > longest {
				line, longest = i, len(f)
			}
		}
	}
	return line
}

// Packages import what stands above them in CONTRIBUTING's list, and nothing below.
func TestImportsGoOneWay(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../CONTRIBUTING.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "| folder | what it provides |")
	folder := regexp.MustCompile("`([a-z0-9/]+)`")
	var list [][]string
	for line := range strings.Lines(strings.TrimSpace(table)) {
		cell, _, row := strings.Cut(strings.TrimPrefix(line, "| "), " |")
		if !row {
			break
		}
		var folders []string
		for _, m := range folder.FindAllStringSubmatch(cell, -1) {
			folders = append(folders, m[1])
		}
		list = append(list, folders)
	}
	if len(list) < 20 {
		t.Fatalf("only %d lines were read: %v", len(list), list)
	}
	command := exec.Command("go", "list", "-json=ImportPath,Imports", "redstart/...")
	out, err := command.Output()
	if err != nil {
		t.Fatal(err)
	}
	looked := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); ; looked++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		own := strings.TrimPrefix(p.ImportPath, "redstart/")
		at := rank(list, own)
		if at < 0 {
			t.Errorf("%s stands nowhere in CONTRIBUTING's list", own)
		}
		for _, i := range p.Imports {
			if other, ours := strings.CutPrefix(i, "redstart/"); ours && rank(list, other) > at {
				t.Errorf("%s imports %s, which stands below it", own, other)
			}
		}
	}
	if looked < 60 {
		t.Errorf("only %d packages were looked at", looked)
	}
}

// Whoever calls the API needs its bodies and what they are made of, and nothing of the engine.
func TestTheClientIsSmall(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", "redstart/internal/client").Output()
	if err != nil {
		t.Fatal(err)
	}
	looked := 0
	for pkg := range strings.Lines(string(out)) {
		own, ours := strings.CutPrefix(strings.TrimSpace(pkg), "redstart/internal/")
		if !ours {
			continue
		}
		if looked++; own != "api" && own != "client" && !strings.HasPrefix(own, "core/") {
			t.Errorf("it needs %s", own)
		}
	}
	if looked < 10 {
		t.Errorf("only %d packages were looked at", looked)
	}
}

// What is kept and what is told are types of their own: no member has tags of both.
func TestNothingIsKeptAsItIsTold(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("git", "grep", "-nE", `(json:"[^"]*" db:|db:"[^"]*" json:)`, "--", "../internal").Output()
	if len(out) > 0 {
		t.Errorf("%s", out)
	}
	if end := (*exec.ExitError)(nil); err != nil && !(errors.As(err, &end) && end.ExitCode() == 1) {
		t.Fatal(err)
	}
}

// The version of the program is the one whose changes are told first.
func TestTheVersionIsTold(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../CHANGELOG.md")
	if err != nil {
		t.Fatal(err)
	}
	if _, first, _ := strings.Cut(string(text), "\n## "); !strings.HasPrefix(first, api.Version+", ") {
		t.Errorf("the version is %s, and told first is %.40q", api.Version, first)
	}
}

// Whatever is used directly is told, with why.
func TestEveryDependencyIsTold(t *testing.T) {
	t.Parallel()
	read := func(path string) string {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	page := read("../docs/dependencies.md")
	_, direct, _ := strings.Cut(read("../go.mod"), "require (")
	direct, _, _ = strings.Cut(direct, ")")
	var names []string
	for line := range strings.Lines(direct) {
		if f := strings.Fields(line); len(f) > 1 && !strings.Contains(line, "// indirect") {
			names = append(names, regexp.MustCompile(`/v\d+$`).ReplaceAllString(strings.TrimPrefix(f[0], "github.com/"), ""))
		}
	}
	var console struct{ Dependencies, DevDependencies map[string]string }
	if err := json.Unmarshal([]byte(read("../web/package.json")), &console); err != nil {
		t.Fatal(err)
	}
	for _, list := range []map[string]string{console.Dependencies, console.DevDependencies} {
		for name := range list {
			names = append(names, name)
		}
	}
	if len(names) < 40 {
		t.Errorf("only %d were looked at", len(names))
	}
	for _, name := range names {
		if !strings.Contains(page, name) {
			t.Errorf("%s is told nowhere", name)
		}
	}
}
