package profile

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hand is something that only a person can do with the device.
type Hand struct {
	Do   string `yaml:"do" json:"do"`               // the instruction: Move the switch S2 to SETUP
	Look string `yaml:"look" json:"look,omitempty"` // what shows the person that it is done
	// Within is how long what follows may take until it would have to be done again; 0:
	// for ever.
	Within Duration `yaml:"within" json:"within,omitempty"`
	// Fresh says that only a device needs it which no stored login opens.
	Fresh bool `yaml:"fresh" json:"fresh,omitempty"`
	// Terms are what a person must accept, once for a site and model: Licence terms, edition 4.
	// The moves then tell the device who did. A run never accepts them by itself.
	Terms string `yaml:"terms" json:"terms,omitempty"`
	// ShownBy says that a restart shows it; Moves, that it is done when all of them go
	// through. Without either, a person says so.
	ShownBy string `yaml:"shown-by" json:"shownBy,omitempty"`
	// Sets is the key of the setting that the person sets; no profile says it.
	Sets  string `yaml:"-" json:"-"`
	Moves Script `yaml:"moves" json:"-"`
}

// ShownByRestart is the value of Hand.ShownBy for what a restart shows.
const ShownByRestart = "restart"

// byHand begins the names of what persons do.
const byHand = "by hand"

// longestHand bounds what an instruction may be, in bytes.
const longestHand = 300

// nameHands gives each thing that a person does a name of its own in the order, under
// which the moves that show it are known too.
func (p *Profile) nameHands() error {
	n := 0
	for i := range p.Order {
		s := &p.Order[i]
		if s.ByHand == nil {
			continue
		}
		if s.Act != "" {
			return fmt.Errorf("order: %s and by-hand are two things; give each its own place", s.Act)
		}
		if n++; n == 1 {
			s.Act = byHand
		} else {
			s.Act = Act(fmt.Sprintf("%s %d", byHand, n))
		}
		if len(s.ByHand.Moves) > 0 {
			if p.Acts == nil {
				p.Acts = map[Act]Script{}
			}
			p.Acts[s.Act] = s.ByHand.Moves
		}
	}
	return nil
}

// handAct reports whether an act shows what a person did.
func (a Act) handAct() bool { return strings.HasPrefix(string(a), byHand) }

// hands reports whether an act is in the order as something that a person does.
func (p *Profile) hands(a Act) bool {
	return slices.ContainsFunc(p.Order, func(s Stage) bool { return s.ByHand != nil && s.Act == a })
}

// accepts reports whether an act tells the device who accepted its terms.
func (p *Profile) accepts(a Act) bool {
	return slices.ContainsFunc(p.Order, func(s Stage) bool { return s.ByHand != nil && s.Act == a && s.ByHand.Terms != "" })
}

// AcceptedBy and AcceptedAt are the variables that say who accepted terms, and when (RFC 3339).
const (
	AcceptedBy = "accepted-by"
	AcceptedAt = "accepted-at"
)

func (s Stage) checkHand() error {
	h := s.ByHand
	switch {
	case strings.TrimSpace(h.Do) == "":
		return fmt.Errorf("do is missing: what is the person to do?")
	case len(h.Do) > longestHand || len(h.Look) > longestHand:
		return fmt.Errorf("do and look are at most %d characters", longestHand)
	case s.Then != Stays || len(s.Renews) > 0:
		return fmt.Errorf("then and renews belong to acts")
	case h.Within < 0 || time.Duration(h.Within) > 24*time.Hour:
		return fmt.Errorf("within is at most a day")
	case h.ShownBy != "" && h.ShownBy != ShownByRestart:
		return fmt.Errorf("shown-by can be %s, not %q", ShownByRestart, h.ShownBy)
	case len(h.Terms) > longestHand:
		return fmt.Errorf("terms are at most %d characters: their name, and where to read them", longestHand)
	case h.Terms != "" && (h.ShownBy != "" || h.Within != 0 || h.Fresh):
		return fmt.Errorf("terms are accepted by a person: shown-by, within and fresh do not go with them")
	case h.ShownBy != "" && len(h.Moves) > 0:
		return fmt.Errorf("give shown-by or moves, not both")
	}
	return nil
}
