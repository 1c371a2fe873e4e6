package profile

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/evidence"
	"redstart/internal/core/fact"
)

var (
	// settingActs may stand in the order of commissioning.
	settingActs = []Act{Password, Name, Time, Settings, Address, Firmware, Load, Save, Restart}
	// told are the facts that acts may take for checks and records.
	told = fact.Keys(func(k fact.Kind) bool { return k.By&fact.Acts != 0 })
	// planned are the variables that come from the plan.
	planned = slices.Concat([]string{"name", "address", "mask", "bits", "gateway", "recovery"}, SiteWide, clocks)
	// SiteWide are the variables that come from the site and the subnet, each named as the
	// fact by which a device tells it. One that the plan does not say is empty.
	SiteWide = []string{fact.DNS, fact.DNS2, fact.NTP, fact.NTP2, fact.Domain, fact.Zone, fact.ZonePOSIX, fact.Log,
		fact.Traps}
	// clocks are the variables that are the time of sending.
	clocks = slices.Sorted(maps.Keys(ClockNow(time.Time{}, nil)))
)

// ClockNow gives the variables that are a moment: now (RFC 3339, in UTC), now-unix (seconds
// since 1970), now-date and now-time (in UTC), now-local (in the planned zone), and the parts
// of it in UTC: now-year, now-month, now-day, now-hour, now-minute, now-second.
func ClockNow(at time.Time, zone *time.Location) map[string]string {
	at = at.UTC()
	local := at
	if zone != nil {
		local = at.In(zone)
	}
	return map[string]string{
		"now": at.Format(time.RFC3339), "now-unix": strconv.FormatInt(at.Unix(), 10),
		"now-date": at.Format(time.DateOnly), "now-time": at.Format(time.TimeOnly),
		"now-local": local.Format("2006-01-02T15:04:05"),
		"now-year":  strconv.Itoa(at.Year()), "now-month": strconv.Itoa(int(at.Month())), "now-day": strconv.Itoa(at.Day()),
		"now-hour": strconv.Itoa(at.Hour()), "now-minute": strconv.Itoa(at.Minute()), "now-second": strconv.Itoa(at.Second()),
	}
}

// SendsSiteWide lists which of the site's values the acts send.
func (p *Profile) SendsSiteWide() []string { return p.sending(SiteWide) }

// SendsIn lists which of them one act sends.
func (p *Profile) SendsIn(a Act) (list []string) {
	for _, name := range SiteWide {
		if slices.ContainsFunc(p.Acts[a], func(m Move) bool { return slices.Contains(m.needs(), name) }) {
			list = append(list, name)
		}
	}
	return list
}

// SetsClock reports whether an act sends the time.
func (p *Profile) SetsClock() bool { return len(p.sending(clocks)) > 0 }

// sending lists which of some variables the acts that set something need.
func (p *Profile) sending(of []string) (list []string) {
	for _, name := range of {
		if slices.ContainsFunc(settingActs, func(a Act) bool {
			return slices.ContainsFunc(p.Acts[a], func(m Move) bool { return slices.Contains(m.needs(), name) })
		}) {
			list = append(list, name)
		}
	}
	return list
}

// Who is the act that tells what the device is: identify, or for one that tells
// nothing without a login, read.
func (p *Profile) Who() Act {
	if len(p.Acts[Identify]) > 0 {
		return Identify
	}
	return Read
}

// Public reports whether the value of a variable or fact may be shown: what comes
// from the plan or is told for records. Passwords, tokens and whatever else acts
// hand on are not.
func (p *Profile) Public(name string) bool {
	if key, setting := strings.CutPrefix(name, "setting."); setting {
		s := p.Setting(key)
		return s != nil && !s.HasSecret()
	}
	if column, row := strings.CutPrefix(name, rowPrefix); row {
		return !slices.ContainsFunc(p.Settings, func(s Setting) bool {
			c := s.Column(column)
			return c != nil && c.Sealed()
		})
	}
	if name == fact.Config || strings.HasPrefix(name, filePrefix) {
		return false
	}
	return slices.Contains(told, name) || p.condition(name) || slices.Contains(planned, name) || slices.Contains([]string{"user", "old-user", AcceptedBy, AcceptedAt, AtLine}, name)
}

// variablesOf lists what the moves of an act may send.
func variablesOf(a Act) []string {
	if a.handAct() {
		return nil
	}
	switch a {
	case Identify, FactoryEntry, Blink:
		return nil
	case SignIn, Read, Keep:
		return []string{"user", "password"}
	case Password, Renew:
		return append([]string{"user", "password", "old-user", "old-password"}, planned...)
	}
	return append([]string{"user", "password"}, planned...)
}

func (p *Profile) checkActs() error {
	for _, act := range slices.Sorted(maps.Keys(p.Acts)) {
		if !slices.Contains(allActs, act) && !(act.handAct() && p.hands(act)) {
			return fmt.Errorf("there is no act %q; there are %s", act, join(allActs))
		}
		if err := p.checkAct(act); err != nil {
			return err
		}
	}
	if !p.Sets() {
		return nil // it is being written: what is there can be tried
	}
	if len(p.Acts[Read]) == 0 {
		return fmt.Errorf("the act %s is missing", Read)
	}
	if len(p.Acts[Identify]) == 0 && !slices.Contains(p.ReadsBack(), "model") &&
		!slices.Contains(p.ReadsBack(), "serial") {
		return fmt.Errorf("the act %s is missing, and the act %s takes neither model nor serial: nothing would show what it is", Identify, Read)
	}
	if err := p.checkConditions(); err != nil {
		return err
	}
	return p.checkReadBack()
}

// checkAct checks the moves of an act: each for itself, and that what they send
// is known by then and what they take is of use.
func (p *Profile) checkAct(act Act) error {
	known := map[string]bool{AtLine: true}
	for _, v := range variablesOf(act) {
		known[v] = true
	}
	if p.accepts(act) {
		known[AcceptedBy], known[AcceptedAt] = true, true
	}
	if act != SignIn && act != Identify && act != FactoryEntry && !act.handAct() {
		for _, m := range p.Acts[SignIn] {
			for _, name := range m.Takes() {
				known[name] = true
			}
		}
	}
	taken := map[string]int{} // by the move that took it
	used := map[string]bool{}
	for i, m := range p.Acts[act] {
		if s := p.Setting(m.Each); m.Each != "" && (s == nil || s.Type != Rows || len(variablesOf(act)) <= 2) {
			return fmt.Errorf("act %s, move %d: each: %q is no setting of the type rows that this act may send", act,
				i+1, m.Each)
		}
		wrong := func(err error) error { return fmt.Errorf("act %s, move %d: %w", act, i+1, err) }
		for _, name := range m.needs() {
			used[name] = true
			if column, row := strings.CutPrefix(name, rowPrefix); row {
				of := p.Setting(m.Each)
				if of == nil || of.Column(column) == nil {
					return wrong(fmt.Errorf("{%s} is a column of the table that each names; it has none of that key",
						name))
				}
				continue
			}
			if key, file := strings.CutPrefix(name, filePrefix); file {
				if s := p.Setting(key); s == nil || s.Type != File || len(variablesOf(act)) <= 2 {
					return wrong(fmt.Errorf("{%s} is no setting of the type file that this act may send", name))
				}
				continue
			}
			key, setting := strings.CutPrefix(name, "setting.")
			switch {
			case setting && len(variablesOf(act)) <= 2:
				return wrong(fmt.Errorf("{%s}: no setting is sent in this act", name))
			case setting && p.Setting(key) == nil:
				return wrong(fmt.Errorf("{%s}: there is no such setting", name))
			case setting && p.Setting(key).Type == File:
				return wrong(fmt.Errorf("{%s}: a file is sent as a part under files", name))
			case !setting && !known[name]:
				return wrong(fmt.Errorf("{%s} has no value here; there are %s, {setting.KEY} in acts that set, and what an earlier move of the act took", name, braces(variablesOf(act))))
			}
		}
		for _, key := range m.uploads() {
			if s := p.Setting(key); s == nil || s.Type != File || len(variablesOf(act)) <= 2 {
				return wrong(fmt.Errorf("files: %q is no setting of the type file that this act may send", key))
			}
		}
		for _, made := range m.Make {
			known[made.Name] = true
		}
		for _, name := range m.Takes() {
			known[name], taken[name] = true, i+1
			used[name] = used[name] || m.Until[name] != ""
		}
	}
	for _, name := range slices.Sorted(maps.Keys(taken)) {
		key, setting := strings.CutPrefix(name, "setting.")
		if act != SignIn && !used[name] && !slices.Contains(told, name) && (!setting || p.Setting(key) == nil) &&
			!p.condition(name) {
			return fmt.Errorf("act %s, move %d: take %s: nothing uses it; taken can be %s, setting.KEY, or what a later move of the act sends", act, taken[name], name, strings.Join(told, ", "))
		}
	}
	return nil
}

func braces(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return "{" + strings.Join(names, "}, {") + "}"
}

// checkReadBack demands that what is sent can be read back, and that the acts
// tell what is to show a restart: nothing is called verified that was not observed.
func (p *Profile) checkReadBack() error {
	if !p.Sets() {
		return nil
	}
	reads := func(fact string) bool {
		return slices.Contains(p.ReadsBack(), fact)
	}
	sends := func(names ...string) string {
		for _, act := range settingActs {
			for _, m := range p.Acts[act] {
				for _, name := range m.Sends() {
					if slices.Contains(names, name) {
						return fmt.Sprintf("{%s} is sent", name)
					}
				}
			}
		}
		return ""
	}
	for _, x := range []struct {
		fact  string
		names []string
	}{{"name", []string{"name"}}, {"address", []string{"address"}}, {"mask", []string{"mask", "bits"}},
		{"gateway", []string{"gateway"}}} {
		if how := sends(x.names...); how != "" && !reads(x.fact) {
			return fmt.Errorf("%s, but the act read does not take %s back", how, x.fact)
		}
	}
	for _, name := range p.SendsSiteWide() {
		if !reads(name) {
			return fmt.Errorf("{%s} is sent, but the act read does not take it back", name)
		}
	}
	if p.SetsClock() && !reads(fact.Clock) && !reads(fact.ClockLocal) {
		return fmt.Errorf("the time is sent, but the act read takes neither clock nor clock-local back")
	}
	for _, key := range p.Sent() {
		// a secret is never told again, a file seldom; of firmware the version is compared
		if s := p.Setting(key); key != FirmwareAsked && !s.Sealed() && s.Type != File && !reads("setting."+key) {
			return fmt.Errorf("{setting.%s} is sent, but the act read does not take it back", key)
		}
	}
	for _, way := range []string{evidence.Uptime, evidence.Starts} {
		if p.Restart.ShownBy(way) && p.Tells(way) == "" {
			return fmt.Errorf("restart: shows %s, but neither the act read nor identify takes it", way)
		}
	}
	return nil
}

// Tells names the act that takes a fact: identify if it does, else read; "" when
// neither does.
func (p *Profile) Tells(fact string) Act {
	for _, act := range []Act{Identify, Read} {
		if slices.ContainsFunc(p.Acts[act], func(m Move) bool { return slices.Contains(m.Takes(), fact) }) {
			return act
		}
	}
	return ""
}
