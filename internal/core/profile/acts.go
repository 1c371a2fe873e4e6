package profile

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/andybalholm/cascadia"

	"redstart/internal/core/evidence"
)

var (
	requestForm = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE) /\S*$`)
	headerForm  = regexp.MustCompile(`^[!#$%&'*+.^_|~0-9A-Za-z-]+$`) // RFC 9110, 5.6.2
	variable    = regexp.MustCompile(`\{([a-z][a-z0-9.-]*)\}`)
	dcpMoves    = []string{"identify", "set-name", "set-address", "signal"}
	// settingActs may stand in the order of commissioning.
	settingActs = []Act{Password, Name, Settings, Address, Save, Restart}
	// told are the facts that acts may take for checks and records.
	told = []string{"name", "model", "vendor", "serial", "firmware", "description", "location", "address", "mask", "gateway", evidence.UptimeFact, evidence.StartsFact}
	// planned are the variables that come from the plan.
	planned = []string{"name", "address", "mask", "bits", "gateway", "recovery"}
)

// takeForms lists how a value is taken from an answer, for hints.
const takeForms = `write "json /pointer" (RFC 6901), "css selector", "css selector@attribute" or "header Name"`

// variablesOf lists what the moves of an act may send.
func variablesOf(a Act) []string {
	switch a {
	case Identify, FactoryEntry, Blink:
		return nil
	case SignIn, Read:
		return []string{"user", "password"}
	case Password, Renew:
		return append([]string{"user", "password", "old-user", "old-password"}, planned...)
	}
	return append([]string{"user", "password"}, planned...)
}

func (p *Profile) checkActs() error {
	for _, act := range slices.Sorted(maps.Keys(p.Acts)) {
		if !slices.Contains(allActs, act) {
			return fmt.Errorf("there is no act %q; there are %s", act, join(allActs))
		}
		if err := p.checkAct(act); err != nil {
			return err
		}
	}
	for _, act := range []Act{Identify, Read} {
		if len(p.Acts[act]) == 0 {
			return fmt.Errorf("the act %s is missing", act)
		}
	}
	return p.checkReadBack()
}

// checkAct checks the moves of an act: each for itself, and that what they send
// is known by then and what they take is of use.
func (p *Profile) checkAct(act Act) error {
	known := map[string]bool{}
	for _, v := range variablesOf(act) {
		known[v] = true
	}
	taken := map[string]int{} // by the move that took it
	used := map[string]bool{}
	for i, m := range p.Acts[act] {
		wrong := func(err error) error { return fmt.Errorf("act %s, move %d: %w", act, i+1, err) }
		if err := p.checkMove(m); err != nil {
			return wrong(err)
		}
		for _, name := range m.sends() {
			used[name] = true
			key, setting := strings.CutPrefix(name, "setting.")
			switch {
			case setting && len(variablesOf(act)) <= 2:
				return wrong(fmt.Errorf("{%s}: no setting is sent in this act", name))
			case setting && p.Setting(key) == nil:
				return wrong(fmt.Errorf("{%s}: there is no such setting", name))
			case setting && (p.Setting(key).Type == Secret || p.Setting(key).Type == File):
				return wrong(fmt.Errorf("{%s}: a %s cannot be sent", name, p.Setting(key).Type))
			case !setting && !known[name]:
				return wrong(fmt.Errorf("{%s} has no value here; there are %s, {setting.KEY} in acts that set, and what an earlier move of the act took", name, braces(variablesOf(act))))
			}
		}
		for name := range m.Take {
			known[name], taken[name] = true, i+1
		}
	}
	for _, name := range slices.Sorted(maps.Keys(taken)) {
		key, setting := strings.CutPrefix(name, "setting.")
		if !used[name] && !slices.Contains(told, name) && (!setting || p.Setting(key) == nil) {
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

// sends lists the variables of a move in the order of their names, each once.
func (m Move) sends() []string {
	names := map[string]bool{}
	for _, found := range variable.FindAllStringSubmatch(fmt.Sprint(m.Request, m.Form, m.JSON), -1) {
		names[found[1]] = true
	}
	return slices.Sorted(maps.Keys(names))
}

func (p *Profile) checkMove(m Move) error {
	if m.DCP != "" {
		switch {
		case !slices.Contains(dcpMoves, m.DCP):
			return fmt.Errorf("dcp must be one of %s, not %q", strings.Join(dcpMoves, ", "), m.DCP)
		case m.Request != "" || m.Form != nil || m.JSON != nil:
			return fmt.Errorf("a move is either dcp or a web request")
		case m.Take != nil || m.Why != "" || m.Expect != nil || m.Refused != nil:
			return fmt.Errorf("take, why, expect and refused belong to web requests; dcp identify takes what the station tells")
		}
		return nil
	}
	switch {
	case m.Keep:
		return fmt.Errorf("keep belongs to dcp moves")
	case p.Web.Scheme != "http" && p.Web.Scheme != "https":
		return fmt.Errorf("a web request needs web.scheme http or https")
	case !slices.Contains([]string{"", "basic", "digest"}, p.Web.Auth):
		return fmt.Errorf("web.auth must be basic or digest, or left out, not %q", p.Web.Auth)
	case !requestForm.MatchString(m.Request):
		return fmt.Errorf("request must be GET, POST, PUT, PATCH or DELETE and a path, like: GET /path")
	case m.Form != nil && m.JSON != nil:
		return fmt.Errorf("give form or json, not both")
	}
	for _, status := range append(slices.Clone(m.Expect), m.Refused...) {
		if status < 100 || status > 599 {
			return fmt.Errorf("expect and refused are HTTP statuses from 100 to 599, not %d", status)
		}
	}
	if m.Why != "" {
		if err := checkTake(m.Why); err != nil {
			return fmt.Errorf("why: %w", err)
		}
	}
	for _, fact := range slices.Sorted(maps.Keys(m.Take)) {
		if err := checkTake(m.Take[fact]); err != nil {
			return fmt.Errorf("take %s: %w", fact, err)
		}
	}
	return nil
}

// checkTake checks where a value is taken from.
func checkTake(from string) error {
	how, what, _ := strings.Cut(from, " ")
	switch how {
	case "json":
		if what != "" && !strings.HasPrefix(what, "/") {
			return fmt.Errorf("%q: a pointer begins with /; %s", from, takeForms)
		}
		if rest := strings.NewReplacer("~0", "", "~1", "").Replace(what); strings.Contains(rest, "~") {
			return fmt.Errorf("%q: in a pointer ~ is written ~0, and / within a name ~1 (RFC 6901)", from)
		}
	case "css":
		selector, attribute, at := strings.Cut(what, "@")
		if _, err := cascadia.ParseGroup(selector); err != nil {
			return fmt.Errorf("%q is no CSS selector: %v", selector, err)
		}
		if at && attribute == "" {
			return fmt.Errorf("%q: an attribute's name follows @", from)
		}
	case "header":
		if !headerForm.MatchString(what) {
			return fmt.Errorf("%q: a header's name follows; %s", from, takeForms)
		}
	default:
		return fmt.Errorf("%q says nothing about where to look; %s", from, takeForms)
	}
	return nil
}

// checkReadBack demands that what is sent can be read back, and that the acts
// tell what is to show a restart: nothing is called verified that was not observed.
func (p *Profile) checkReadBack() error {
	if !p.Sets() {
		return nil
	}
	reads := func(fact string) bool {
		return slices.ContainsFunc(p.Acts[Read], func(m Move) bool { return m.Take[fact] != "" || m.DCP == "identify" && fact != "setting" })
	}
	sends := func(names ...string) string {
		for _, act := range settingActs {
			for _, m := range p.Acts[act] {
				for _, name := range m.sends() {
					if slices.Contains(names, name) {
						return fmt.Sprintf("{%s} is sent", name)
					}
				}
				if m.DCP == "set-name" && slices.Contains(names, "name") || m.DCP == "set-address" && !slices.Contains(names, "name") {
					return "dcp " + m.DCP + " sends it"
				}
			}
		}
		return ""
	}
	for _, x := range []struct {
		fact  string
		names []string
	}{{"name", []string{"name"}}, {"address", []string{"address"}}, {"mask", []string{"mask", "bits"}}, {"gateway", []string{"gateway"}}} {
		if how := sends(x.names...); how != "" && !reads(x.fact) {
			return fmt.Errorf("%s, but the act read does not take %s back", how, x.fact)
		}
	}
	for _, key := range p.Sent() {
		if !slices.ContainsFunc(p.Acts[Read], func(m Move) bool { return m.Take["setting."+key] != "" }) {
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
		if slices.ContainsFunc(p.Acts[act], func(m Move) bool { return m.Take[fact] != "" }) {
			return act
		}
	}
	return ""
}
