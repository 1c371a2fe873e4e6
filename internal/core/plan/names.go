package plan

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
)

var (
	patternPart = regexp.MustCompile(`\{([a-z]+)(?::0?(\d))?\}`)
	lastNumber  = regexp.MustCompile(`\d+$`)
)

// fill fills a pattern such as {area}-CAM-{n:02}: words stand for values, and
// :02 pads a number with zeros to two digits. An unknown word is an error.
func fill(pattern string, values map[string]string) (string, error) {
	var wrong error
	text := patternPart.ReplaceAllStringFunc(pattern, func(part string) string {
		m := patternPart.FindStringSubmatch(part)
		v, ok := values[m[1]]
		if !ok {
			wrong = fmt.Errorf("the pattern %q has %s, but there are only {site}, {area}, {floor}, {place}, {kind}, {n} and, for names, {tag}", pattern, part)
		}
		if width, err := strconv.Atoi(m[2]); err == nil {
			v = strings.Repeat("0", max(0, width-len(v))) + v
		}
		return v
	})
	if wrong == nil && strings.ContainsAny(text, "{}") {
		wrong = fmt.Errorf("the pattern %q has a brace too many; write like {area}-CAM-{n:02}", pattern)
	}
	return text, wrong
}

func (e Entry) patternValues(s Site, n string) map[string]string {
	return map[string]string{"site": s.Key, "area": e.Area, "floor": e.Floor, "place": e.Place, "kind": e.Kind, "n": n}
}

// NameFor makes an entry's device name from the site's pattern, in the form
// that its profile accepts.
func (s Site) NameFor(e Entry, p *profile.Profile) string {
	pattern := s.Naming
	if pattern == "" {
		pattern = "{tag}"
	}
	values := e.patternValues(s, strings.TrimLeft(lastNumber.FindString(e.Tag), "0"))
	values["tag"] = e.Tag
	name, err := fill(pattern, values)
	if err != nil {
		name = e.Tag // the pattern is a finding of its own
	}
	return p.Name.FromTag(name)
}
