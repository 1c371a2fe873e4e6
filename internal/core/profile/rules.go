package profile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/evidence"
)

// checkRules checks what is said of the model apart from how to talk to it. Each
// mistake has words of its own, and says what may be written.
func (p *Profile) checkRules() error {
	if len(p.Recognise) == 0 {
		return fmt.Errorf("recognise is empty; give at least one sign")
	}
	for i, r := range p.Recognise {
		if err := r.check(); err != nil {
			return fmt.Errorf("recognise, sign %d: %w", i+1, err)
		}
		if r.Sure < 1 || r.Sure > 99 {
			return fmt.Errorf("recognise, sign %d: sure must be from 1 to 99 percent, not %d", i+1, r.Sure)
		}
	}
	for i, r := range p.Factory.Signs {
		if err := r.check(); err != nil {
			return fmt.Errorf("factory, sign %d: %w", i+1, err)
		}
	}
	for _, a := range p.Ask {
		if !slices.Contains(allAsks, a) {
			return fmt.Errorf("ask: %q is none of %s", a, strings.Join(allAsks, ", "))
		}
	}
	if slices.Contains(p.Ports, 0) {
		return fmt.Errorf("ports: a port is a number from 1 to 65535")
	}
	if !slices.Contains([]string{"", "lower", "upper"}, p.Name.Case) {
		return fmt.Errorf("name: case is lower or upper, or left out, not %q", p.Name.Case)
	}
	if err := p.Password.Possible(); err != nil {
		return fmt.Errorf("password: no password can satisfy this: %w", err)
	}
	if p.Accounts.Tries < 0 || p.Accounts.Tries > 100 {
		return fmt.Errorf("accounts: tries is 1 to 100 wrong logins, or left out for a model that never blocks")
	}
	if b := time.Duration(p.Accounts.BlocksFor); b < 0 || b > 24*time.Hour {
		return fmt.Errorf("accounts: blocks-for is at most 24h")
	}
	return p.Restart.check()
}

func (r RestartTimes) check() error {
	switch {
	case r.Takes <= 0:
		return fmt.Errorf("restart: takes is missing; write it like 30s")
	case r.AtMost <= 0:
		return fmt.Errorf("restart: at-most is missing; write it like 2m")
	case r.AtMost < r.Takes:
		return fmt.Errorf("restart: at-most is shorter than takes")
	case time.Duration(r.AtMost) > time.Hour:
		return fmt.Errorf("restart: at-most is over an hour")
	case r.Silent < 0 || r.Silent > r.AtMost:
		return fmt.Errorf("restart: silent is longer than at-most")
	case r.Silent > 0 && !r.ShownBy(evidence.Silence):
		return fmt.Errorf("restart: silent is given, but shows does not name %s", evidence.Silence)
	}
	for _, way := range r.Shows {
		if !slices.Contains(evidence.Ways, way) {
			return fmt.Errorf("restart: shows: %q is none of %s", way, strings.Join(evidence.Ways, ", "))
		}
	}
	return nil
}

// check demands a known fact and just one condition.
func (r Rule) check() error {
	if !slices.Contains(signs, r.Fact) {
		return fmt.Errorf("there is no fact %q to go by; there are %s", r.Fact, strings.Join(signs, ", "))
	}
	given := 0
	for _, s := range []string{r.Is, r.Begins, r.Holds, r.Within} {
		if s != "" {
			given++
		}
	}
	if given != 1 {
		return fmt.Errorf("%d conditions are given; give one of is, begins, holds, within", given)
	}
	return nil
}

// checkOrder checks what a run does, and in which order.
func (p *Profile) checkOrder() error {
	seen := map[Act]bool{}
	for _, s := range p.Order {
		if s.ByHand != nil {
			if err := s.checkHand(); err != nil {
				return fmt.Errorf("order, %s: %w", s.Act, err)
			}
			continue
		}
		switch {
		case !slices.Contains(settingActs, s.Act):
			return fmt.Errorf("order: %q is no act that sets something; there are %s", s.Act, join(settingActs))
		case s.When != "" && (p.Setting(s.When) == nil || p.Setting(s.When).Sealed() ||
			!slices.Contains(p.Sent(), s.When)):
			return fmt.Errorf("order, %s: when: %q is no setting that is sent and not secret", s.Act, s.When)
		case seen[s.Act] && s.When == "":
			return fmt.Errorf("order: %s is named twice", s.Act)
		case len(p.Acts[s.Act]) == 0:
			return fmt.Errorf("order: %s has no moves under acts", s.Act)
		case !slices.Contains([]string{Stays, Moves, Restarts}, s.Then):
			return fmt.Errorf("order, %s: then must be moves or restarts, or left out, not %q", s.Act, s.Then)
		}
		seen[s.Act] = true
		for _, kind := range s.Renews {
			if !slices.ContainsFunc(p.ways, func(d Driver) bool { return kind != "" && d.Shows() == kind }) {
				return fmt.Errorf("order, %s: renews: no way of talking to it shows a %q", s.Act, kind)
			}
		}
	}
	switch {
	case !seen[Address]:
		return fmt.Errorf("order: the act address is missing")
	case seen[Password] && p.User == "":
		return fmt.Errorf("order: it sets a password, but user does not name whose")
	case seen[Password] && len(p.Acts[SignIn]) == 0:
		return fmt.Errorf("order: it sets a password, but the act sign-in does not say how to try it")
	}
	return nil
}

func join(list []Act) string {
	var names []string
	for _, a := range list {
		names = append(names, string(a))
	}
	return strings.Join(names, ", ")
}
