package profile

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
)

// MaxSize is the largest document that Parse reads, in bytes.
const MaxSize = 256 << 10

var (
	idForm      = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,62}$`)
	requestForm = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE) /\S*$`)
	takeForm    = regexp.MustCompile(`^(json /\S*|css .+|header \S+)$`)
	dcpMoves    = []string{"identify", "set-name", "set-address", "signal"}
	facts       = []string{"mac", "address", "model", "vendor", "name", "title", "serial", "firmware", "server", "certificate", "banner", "description",
		"object-id", "service", "class", "host", "vendor-id", "state", "location"}
)

// Parse reads one profile document and checks it whole. An unknown key, a
// wrong type or a missing part is an error that names the place.
func Parse(doc []byte) (*Profile, error) {
	if len(doc) > MaxSize {
		return nil, fmt.Errorf("the profile is larger than %d KiB", MaxSize>>10)
	}
	var p Profile
	if err := yaml.UnmarshalWithOptions(doc, &p, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("the profile cannot be read: %s", strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	if err := p.check(); err != nil {
		return nil, fmt.Errorf("profile %q: %w", p.ID, err)
	}
	return &p, nil
}

func (p *Profile) check() error {
	if p.Redstart != Format {
		return fmt.Errorf("the first key must be redstart: %s", Format)
	}
	if !idForm.MatchString(p.ID) {
		return fmt.Errorf("id must be small letters, digits and dashes")
	}
	for key, value := range map[string]string{"maker": p.Maker, "model": p.Model, "kind": p.Kind} {
		if value == "" {
			return fmt.Errorf("%s is missing", key)
		}
	}
	if err := p.checkRules(); err != nil {
		return err
	}
	if err := p.checkSettings(); err != nil {
		return err
	}
	if len(p.Acts) == 0 && !p.Sets() {
		return nil // a model that can be planned with and found, not yet set
	}
	if err := p.checkActs(); err != nil {
		return err
	}
	return p.checkOrder()
}

func (p *Profile) checkRules() error {
	if len(p.Recognise) == 0 {
		return fmt.Errorf("recognise is empty; give at least one sign")
	}
	for i, r := range p.Recognise {
		if !r.whole() || r.Sure < 1 || r.Sure > 99 {
			return fmt.Errorf("recognise, sign %d: fact must be one of %s, with one of is, begins, holds, within, and sure from 1 to 99", i+1, strings.Join(facts, ", "))
		}
	}
	for i, r := range p.Factory.Signs {
		if !r.whole() {
			return fmt.Errorf("factory, sign %d: fact must be one of %s, with one of is, begins, holds, within", i+1, strings.Join(facts, ", "))
		}
	}
	for _, a := range p.Ask {
		if !slices.Contains(allAsks, a) {
			return fmt.Errorf("ask: %q is none of %s", a, strings.Join(allAsks, ", "))
		}
	}
	if p.Restart.Takes <= 0 || p.Restart.AtMost < p.Restart.Takes {
		return fmt.Errorf("restart needs takes and at-most, the second not shorter")
	}
	if time.Duration(p.Restart.AtMost) > time.Hour {
		return fmt.Errorf("restart: at-most is over an hour")
	}
	return nil
}

// whole reports whether a rule names a known fact and just one condition.
func (r Rule) whole() bool {
	given := 0
	for _, s := range []string{r.Is, r.Begins, r.Holds, r.Within} {
		if s != "" {
			given++
		}
	}
	return slices.Contains(facts, r.Fact) && given == 1
}

func (p *Profile) checkActs() error {
	for act, script := range p.Acts {
		if !slices.Contains(allActs, act) {
			return fmt.Errorf("there is no act %q", act)
		}
		for i, m := range script {
			if err := p.checkMove(m); err != nil {
				return fmt.Errorf("act %s, move %d: %w", act, i+1, err)
			}
		}
	}
	if err := p.checkSent(); err != nil {
		return err
	}
	for _, act := range []Act{Identify, Read} {
		if len(p.Acts[act]) == 0 {
			return fmt.Errorf("the act %s is missing", act)
		}
	}
	return nil
}

func (p *Profile) checkMove(m Move) error {
	if m.DCP != "" {
		if !slices.Contains(dcpMoves, m.DCP) {
			return fmt.Errorf("dcp must be one of %s", strings.Join(dcpMoves, ", "))
		}
		if m.Request != "" || m.Form != nil || m.JSON != nil {
			return fmt.Errorf("a move is either dcp or a web request")
		}
		return nil
	}
	if p.Web.Scheme != "http" && p.Web.Scheme != "https" {
		return fmt.Errorf("a web request needs web.scheme http or https")
	}
	if !slices.Contains([]string{"", "basic", "digest"}, p.Web.Auth) {
		return fmt.Errorf("web.auth must be basic or digest, or left out")
	}
	if !requestForm.MatchString(m.Request) {
		return fmt.Errorf("request must look like: GET /path")
	}
	if m.Form != nil && m.JSON != nil {
		return fmt.Errorf("give form or json, not both")
	}
	for fact, from := range m.Take {
		if !takeForm.MatchString(from) {
			return fmt.Errorf("take %s: write json /pointer, css selector@attribute, or header Name", fact)
		}
	}
	return nil
}

func (p *Profile) checkOrder() error {
	seen := map[Act]bool{}
	for _, s := range p.Order {
		if seen[s.Act] || len(p.Acts[s.Act]) == 0 {
			return fmt.Errorf("order: %s is named twice or has no moves under acts", s.Act)
		}
		if !slices.Contains([]string{Stays, Moves, Restarts}, s.Then) {
			return fmt.Errorf("order, %s: then must be moves or restarts", s.Act)
		}
		seen[s.Act] = true
	}
	if !seen[Address] {
		return fmt.Errorf("order: the act address is missing")
	}
	if seen[Password] && (p.User == "" || len(p.Acts[SignIn]) == 0) {
		return fmt.Errorf("a profile that sets a password needs user and the act sign-in")
	}
	return nil
}

// Set is a collection of profiles by id.
type Set map[string]*Profile

// Sorted lists the profiles by id.
func (s Set) Sorted() []*Profile {
	list := make([]*Profile, 0, len(s))
	for _, p := range s {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b *Profile) int { return strings.Compare(a.ID, b.ID) })
	return list
}
