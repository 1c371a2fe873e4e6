package fact_test

import (
	"os"
	"strings"
	"testing"

	"redstart/internal/core/fact"
)

func TestEachFactIsThereOnceAndSaysWhatItIs(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range fact.All {
		if seen[k.Key] || k.Meaning == "" || k.Type == "" || k.By == 0 {
			t.Errorf("%+v", k)
		}
		seen[k.Key] = true
	}
	if k, ok := fact.Of("serial"); !ok || k.Several {
		t.Errorf("%+v", k)
	}
	if _, ok := fact.Of("colour"); ok {
		t.Error("a fact that nobody tells")
	}
}

// The reference of profiles names what a profile may recognise a model by.
func TestTheReferenceNamesEverySign(t *testing.T) {
	doc, err := os.ReadFile("../../../docs/profiles.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, key := range fact.Keys(func(k fact.Kind) bool { return k.Sign }) {
		if !strings.Contains(string(doc), "`"+key+"`") {
			t.Errorf("docs/profiles.md does not name %s", key)
		}
	}
}
