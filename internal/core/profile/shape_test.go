package profile_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/driver/all"
)

// A small document that costs the reader gigabytes or minutes is refused before it is read.
func TestDocumentsThatUnfold(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString("a0: &a0 [x,x,x,x,x,x,x,x,x]\n")
	for i := 1; i < 30; i++ {
		fmt.Fprintf(&bomb, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 9), ","))
	}
	for name, doc := range map[string]string{
		"an alias bomb":       bomb.String(),
		"a list in a list in": strings.Repeat("- ", 100000) + "x",
		"keys in keys":        strings.Repeat("? ", 100000) + "x",
		"brackets":            "a: " + strings.Repeat("[", 100000),
		"braces over lines":   "a:\n" + strings.Repeat("  {\n", 4000),
		"indented":            strings.Repeat(" ", 100000) + "x: 1",
		"many lines":          strings.Repeat("#\n", 100000),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := profile.Parse([]byte(doc), all.Words())
		runtime.ReadMemStats(&after)
		if err == nil {
			t.Errorf("%s is taken", name)
		}
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 32 {
			t.Errorf("%s: %d MiB were taken", name, took)
		}
	}
	// None of the bundled ones comes near.
	files, err := filepath.Glob("../../../profiles/*.yaml")
	if err != nil || len(files) < 20 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		doc, err := os.ReadFile(f)
		if err == nil {
			_, err = profile.Parse(doc, all.Words())
		}
		if err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
}
