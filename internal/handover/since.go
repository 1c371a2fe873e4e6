package handover

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"

	"redstart/internal/api"
)

// then holds the values of each entry by column, as they were when something was handed over.
type then map[string]map[string]thenValue

type thenValue struct {
	Text     string `json:"t"`
	Verified bool   `json:"v,omitempty"`
}

// left are columns in which a difference is nothing that changed at the site.
var left = []string{"tag", "checked", "unverified"}

// CheckKey begins what a difference of a check is called.
const CheckKey = "check: "

func (r Record) then() then {
	t := then{}
	for _, e := range r.Entries {
		values := map[string]thenValue{}
		for _, c := range Columns {
			if v := c.of(r, e); v.Text != "" && !slices.Contains(left, c.Key) {
				values[c.Key] = thenValue{v.Text, v.Verified}
			}
		}
		for _, c := range e.Checks {
			values[CheckKey+c.Name] = thenValue{Text: c.Verdict.String()}
		}
		t[e.Tag] = values
	}
	return t
}

// longestThen bounds what is read of the values of then, in bytes.
const longestThen = 1 << 28

// Then packs the values of now, to be compared with later (gzip, RFC 1952).
func Then(r Record) ([]byte, error) {
	r.Site.Language = "" // words of the language of then would differ
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	err := errors.Join(json.NewEncoder(w).Encode(r.then()), w.Close())
	return out.Bytes(), err
}

// Since lists what is not as it was then, in the order of the plan; what is gone comes last.
func Since(packed []byte, r Record) ([]api.Difference, error) {
	r.Site.Language = ""
	unpacked, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	was := then{}
	if err := json.NewDecoder(io.LimitReader(unpacked, longestThen)).Decode(&was); err != nil {
		return nil, err
	}
	list := []api.Difference{}
	is := r.then()
	for _, e := range r.Entries {
		before, there := was[e.Tag]
		if !there {
			list = append(list, api.Difference{Tag: e.Tag, Is: "it is new in the plan"})
			continue
		}
		for _, c := range Columns {
			a, b := before[c.Key], is[e.Tag][c.Key]
			if c.Key == "seen-behind" && (a.Text == "" || b.Text == "") {
				continue // no switch told, which moves nothing
			}
			if a != b {
				list = append(list, api.Difference{Tag: e.Tag, Column: c.Says, Was: a.said(b), Is: b.said(a)})
			}
		}
		for _, c := range e.Checks {
			key := CheckKey + c.Name
			if was, now := before[key].Text, c.Verdict.String(); was != "" && was != now {
				if c.Observed != "" {
					now += ": " + c.Observed
				}
				list = append(list, api.Difference{Tag: e.Tag, Column: key, Was: was, Is: now})
			}
		}
	}
	for _, tag := range slices.Sorted(maps.Keys(was)) {
		if is[tag] == nil {
			list = append(list, api.Difference{Tag: tag, Was: strings.TrimSpace("it was in the plan " + was[tag]["address"].Text),
				Is: "it is gone from the plan"})
		}
	}
	return list, nil
}

// said is a value in words, with how far it is verified where that alone differs.
func (v thenValue) said(other thenValue) string {
	if v.Text != other.Text || v.Text == "" {
		return v.Text
	}
	if v.Verified {
		return v.Text + ", verified"
	}
	return v.Text + ", not verified"
}
