package match

import (
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
)

// Part is something behind a box that is the one which an entry plans there.
type Part struct {
	Tag   string      `json:"tag"`
	MAC   address.MAC `json:"mac"`  // of the box that it hangs behind
	Part  string      `json:"part"` // what that one calls it
	Model string      `json:"model,omitempty"`
}

// Parts matches the entries that hang behind others with what their matched boxes tell of:
// the box of the entry before them and their name there leave nothing to decide. One that is
// not called anything yet is known by its serial, as far as the box tells that.
func Parts(s Segment) []Part {
	boxes := map[string]*device.Found{} // by the tag of their entry
	for _, f := range s.Found {
		if tag := s.Matched[f.MAC]; tag != "" {
			boxes[tag] = f
		}
	}
	list := []Part{}
	for _, e := range s.Entries {
		f := boxes[e.Behind]
		if e.Behind == "" || e.Part+e.Serial == "" || f == nil {
			continue
		}
		for _, part := range f.Parts() {
			if e.Part != "" && !strings.EqualFold(part, e.Part) || e.Part == "" && !slices.ContainsFunc(
				f.ValuesOf(part, fact.Serial), func(serial string) bool { return strings.EqualFold(serial, e.Serial) }) {
				continue
			}
			p := Part{Tag: e.Tag, MAC: f.MAC, Part: part}
			if models := f.ValuesOf(part, fact.Model); len(models) > 0 {
				p.Model = models[0]
			}
			list = append(list, p)
		}
	}
	return list
}

// hangs reports whether an entry has no MAC of its own: no box is proposed for it.
func hangs(e plan.Entry) bool { return e.Behind != "" }
