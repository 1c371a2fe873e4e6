package value_test

import (
	"maps"
	"testing"

	"redstart/internal/core/value"
)

func TestAddressing(t *testing.T) {
	for _, c := range []struct{ told, want map[string]string }{
		{map[string]string{"address": "10.40.8.9", "mask": "255.255.252.0"},
			map[string]string{"address": "10.40.8.9", "mask": "255.255.252.0"}},
		{map[string]string{"address": "10.40.8.9", "bits": "22"},
			map[string]string{"address": "10.40.8.9", "bits": "22", "mask": "255.255.252.0"}},
		{map[string]string{"cidr": "10.40.8.9/22", "name": "x"},
			map[string]string{"cidr": "10.40.8.9/22", "address": "10.40.8.9", "mask": "255.255.252.0", "name": "x"}},
		{map[string]string{"address": "10.40.8.9", "mask": "/22"},
			map[string]string{"address": "10.40.8.9", "mask": "255.255.252.0"}},
		{map[string]string{"address": "10.40.8.9", "bits": "40"},
			map[string]string{"address": "10.40.8.9", "bits": "40"}},
		{map[string]string{"address": "nowhere", "mask": "wide"},
			map[string]string{"address": "nowhere", "mask": "wide"}},
		{nil, map[string]string{}},
	} {
		if got := value.Addressing(c.told); !maps.Equal(got, c.want) {
			t.Errorf("%v: %v, want %v", c.told, got, c.want)
		}
	}
}

func TestYesNo(t *testing.T) {
	for word, want := range map[string]string{"Enabled": "yes", " on": "yes", "1": "yes", "OFF": "no", "false": "no",
		"maybe": "", "": ""} {
		if got, ok := value.YesNo(word); got != want || ok != (want != "") {
			t.Errorf("%q: %q, %t", word, got, ok)
		}
	}
}
