package value_test

import (
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/value"
)

func TestNumbers(t *testing.T) {
	for _, c := range []struct {
		text, back string
		want       []int
	}{
		{"", "", nil},
		{"24", "24", []int{24}},
		{"24 1-4", "1-4, 24", []int{1, 2, 3, 4, 24}},
		{"7,8; 8", "7, 8", []int{7, 8}},
	} {
		got, err := value.Numbers(c.text)
		if err != nil || !slices.Equal(got, c.want) || value.NumbersText(got) != c.back {
			t.Errorf("%q: %v, %v, %q", c.text, got, err, value.NumbersText(got))
		}
	}
	for text, says := range map[string]string{"x": "neither", "4-1": "goes down", "1-": "neither", "-3": "neither",
		"70000": "neither", "0-65535": "more than"} {
		if _, err := value.Numbers(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzNumbers(f *testing.F) {
	f.Add("1-4, 24")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := value.Numbers(text)
		if err != nil {
			return
		}
		again, err := value.Numbers(value.NumbersText(list))
		if err != nil || !slices.Equal(again, list) {
			t.Errorf("%q: %v, then %v, %v", text, list, again, err)
		}
	})
}
