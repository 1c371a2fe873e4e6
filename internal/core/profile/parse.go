package profile

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"redstart/internal/core/fact"
)

// MaxSize is the largest document that Parse reads, in bytes.
const MaxSize = 256 << 10

var (
	idForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,62}$`)
	// signs are the facts by which a device can be recognised.
	signs = fact.Keys(func(k fact.Kind) bool { return k.Sign })
)

// Parse reads one profile document and checks it whole; drivers read what is in
// their words. An unknown key, a wrong type or a missing part is an error that names
// the place.
func Parse(doc []byte, drivers []Driver) (*Profile, error) {
	if len(doc) > MaxSize {
		return nil, fmt.Errorf("the profile is larger than %d KiB", MaxSize>>10)
	}
	var p Profile
	if err := read(func() error {
		if err := checkShape(doc); err != nil {
			return err
		}
		return yaml.UnmarshalWithOptions(doc, &p, yaml.Strict())
	}); err != nil {
		return nil, fmt.Errorf("the profile cannot be read: %w", err)
	}
	p.Source = doc
	err := p.nameHands()
	if err == nil {
		err = p.bind(drivers)
	}
	if err == nil {
		err = p.check()
	}
	if err != nil {
		return nil, fmt.Errorf("profile %q: %w", p.ID, err)
	}
	return &p, nil
}

// read has YAML read. The reader is not ours, and gives up on some documents that are nearly
// right; a hostile one must not end the service.
func read(what func() error) (err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("it is no YAML that can be read; look for a stray !, & or *")
		}
	}()
	if err := what(); err != nil {
		return errors.New(strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	return nil
}

func (p *Profile) check() error {
	if p.Redstart != Format {
		return fmt.Errorf("the first key must be redstart: %s", Format)
	}
	if !idForm.MatchString(p.ID) {
		return fmt.Errorf("id must be small letters, digits and dashes")
	}
	for _, part := range []struct{ key, value string }{{"maker", p.Maker}, {"model", p.Model}, {"kind", p.Kind}} {
		if part.value == "" {
			return fmt.Errorf("%s is missing", part.key)
		}
	}
	if !p.Hangs() {
		if err := p.checkRules(); err != nil {
			return err
		}
	}
	if err := p.checkSettings(); err != nil {
		return err
	}
	if err := p.checkParts(); err != nil {
		return err
	}
	if len(p.Acts) == 0 && !p.Sets() {
		return nil // a model that can be planned with and found, not yet set
	}
	if err := p.checkActs(); err != nil || !p.Sets() {
		return err
	}
	return p.checkOrder()
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
