package naming_test

import (
	"strings"
	"testing"

	"redstart/internal/core/naming"
)

func TestNamesFromTags(t *testing.T) {
	for _, c := range []struct {
		rules     naming.Rules
		tag, want string
	}{
		{naming.Rules{}, "BERTH1-CAM-03", "BERTH1-CAM-03"},
		{naming.Rules{Case: "lower"}, "BERTH1-CAM-03", "berth1-cam-03"},
		{naming.Rules{Case: "upper", Max: 10}, "hall-clk-01", "HALL-CLK-0"},
		{naming.Rules{Case: "upper", Max: 9}, "hall-clk-01", "HALL-CLK"},
		{naming.Rules{Case: "lower"}, "Yard_Gate 02/B", "yard-gate-02-b"},
		{naming.Rules{Case: "lower", Extra: "."}, "yard.gate", "yard.gate"},
		{naming.Rules{Case: "lower"}, "Kö-01", "k-01"},
		{naming.Rules{}, "---", ""},
	} {
		got := c.rules.FromTag(c.tag)
		if got != c.want {
			t.Errorf("%+v: %q gives %q, want %q", c.rules, c.tag, got, c.want)
		}
		if got != "" {
			if err := c.rules.Check(got); err != nil {
				t.Errorf("%+v refuses its own name %q: %v", c.rules, got, err)
			}
		}
	}
}

func TestNamesThatAreRefused(t *testing.T) {
	rules := naming.Rules{Max: 8, Case: "lower"}
	for name, why := range map[string]string{"": "empty", "ninechars": "9 characters", "-ab": "dash", "ab-": "dash",
		"Ab": `'A'`, "a b": `' '`, "a_b": `'_'`} {
		err := rules.Check(name)
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("Check(%q) = %v, want something about %s", name, err, why)
		}
	}
	if err := (naming.Rules{}).Check(strings.Repeat("a", 64)); err == nil {
		t.Error("a label longer than 63 characters was accepted (RFC 1123)")
	}
}
