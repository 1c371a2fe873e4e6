package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/problem"
)

func command(typed string, args ...string) (out, errs string, code int) {
	var o, e bytes.Buffer
	code = Main(context.Background(), args, World{In: strings.NewReader(typed), Out: &o, Err: &e,
		Env: func(string) string {
			return ""
		}})
	return o.String(), e.String(), code
}

// What is for programs is one document of raw values; what is for people goes beside it.
func TestOneDocumentOfRawValues(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.FixedZone("", 3600))
	rows := [][]any{{"A-1", dash(""), clock(at), wrap(strings.Repeat("long ", 40), 20), cell{"7", "7 bytes"}}}
	for output, want := range map[string]func(string) bool{
		"csv": func(s string) bool {
			lines, err := csv.NewReader(strings.NewReader(s)).ReadAll()
			return err == nil && len(lines) == 2 && lines[0][1] == "empty-one" && lines[0][4] == "value" &&
				lines[1][1] == "" && lines[1][2] == "2026-11-25T09:30:00+01:00" &&
				!strings.Contains(lines[1][3], "\n") && lines[1][4] == "7"
		},
		"json": func(s string) bool {
			var list []string
			return json.Unmarshal([]byte(s), &list) == nil && list != nil && len(list) == 0
		},
		"table": func(s string) bool {
			return strings.Contains(s, "–") && strings.Contains(s, "7 bytes") && strings.Contains(s, "Said.") &&
				strings.Count(s, "A-1") == 2
		},
	} {
		var o, e bytes.Buffer
		a := &app{out: &o, err: &e, output: output}
		var none []string
		a.say("Said.")
		for range 2 { // the second list is for people alone
			if err := a.list(none, []string{"Tag", "Empty one", "At", "Text", ""}, rows, ""); err != nil {
				t.Fatal(err)
			}
		}
		if err := a.finish(); err != nil || !want(o.String()) {
			t.Errorf("%s: %v\n%s", output, err, o.String())
		}
		if output != "table" && !strings.Contains(e.String(), "Said.") {
			t.Errorf("%s: what is said is lost", output)
		}
	}
	// A command that only says something still gives a document.
	var o, e bytes.Buffer
	a := &app{out: &o, err: &e, output: "json"}
	a.say("Done with %d.", 3)
	var doc struct{ Said []string }
	if err := a.finish(); err != nil || json.Unmarshal(o.Bytes(), &doc) != nil || len(doc.Said) != 1 ||
		doc.Said[0] != "Done with 3." {
		t.Errorf("%v: %s", err, o.String())
	}
}

func TestWrongUseIsSaidInPlainWords(t *testing.T) {
	for want, args := range map[string][]string{
		"something is missing; it is used as: redstart match set TAG MAC": {"match", "set"},
		"--pace cannot be \"fast\"; give a whole number":                  {"find", "--pace", "fast"},
		"--wait cannot be \"soon\"; give a time like 30s":                 {"commission", "hand-out", "--wait", "soon"},
		"Try: redstart plan import --help":                                {"plan", "import", "--nonsense", "x"},
		"Try: redstart --help":                                            {"nonsense"},
	} {
		out, errs, code := command("", args...)
		if code != ExitUsage || out != "" || !strings.Contains(errs, want) || strings.Contains(errs, "strconv") ||
			strings.Contains(errs, "accepts") {
			t.Errorf("%v: %d\n%s%s", args, code, out, errs)
		}
	}
}

func TestEveryFailureSaysWhy(t *testing.T) {
	var o, e bytes.Buffer
	a := &app{out: &o, err: &e, output: "table"}
	wrong := problem.New(problem.Usage, "refused", "mend it")
	for i := range 60 {
		wrong.Cells = append(wrong.Cells, problem.Cell{Row: i + 1, Reason: "is wrong"})
	}
	a.env = func(string) string { return "" }
	if code := a.complain(a.root(), wrong); code != ExitUsage || strings.Count(e.String(), "is wrong") != mostCells ||
		!strings.Contains(e.String(), "and 10 more like these; 60 in all") {
		t.Errorf("%d\n%s", code, e.String())
	}
	e.Reset()
	if code := a.complain(a.root(), fmt.Errorf("wrapped: %w",
		attention{"2 of 3 are not configured"})); code != ExitAttention ||
		strings.TrimSpace(e.String()) != "redstart: needs attention: 2 of 3 are not configured" {
		t.Errorf("%d\n%s", code, e.String())
	}
	dir := t.TempDir()
	profile := filepath.Join(dir, "x.yaml")
	if err := os.WriteFile(profile, []byte("redstart: profile/1\nid: Bad Id\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := command("", "profile", "check", profile); code != ExitUsage ||
		!strings.Contains(errs, "small letters") {
		t.Errorf("%d %s", code, errs)
	}
	if _, errs, code := command("", "plan", "list", "--data", dir); code != ExitAttention ||
		!strings.Contains(errs, "no Redstart service is running") {
		t.Errorf("%d %s", code, errs)
	}
}

func TestWhatCannotBeTakenBackIsAskedFor(t *testing.T) {
	for typed, done := range map[string]bool{"yes\n": true, "yes": true, "y\n": false, "\n": false, "": false} {
		var e bytes.Buffer
		a := &app{in: strings.NewReader(typed), err: &e}
		if err := a.sure("Everything goes.", false); (err == nil) != done ||
			!strings.Contains(e.String(), "Everything goes.") {
			t.Errorf("%q: %v", typed, err)
		}
	}
	a := &app{in: strings.NewReader(""), err: &bytes.Buffer{}}
	if err := a.sure("x", true); err != nil {
		t.Error(err)
	}
}
