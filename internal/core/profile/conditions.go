package profile

import (
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/fact"
)

// Condition is something of the device that must be so once it is set, besides what it was
// given: that its services run, that it reaches what it depends on, that a switch on its
// board is back.
type Condition struct {
	Key   string `yaml:"key"`
	Label string `yaml:"label"` // of the check
	// Is is what the device tells then; {variables} of the plan are filled in.
	Is string `yaml:"is"`
	// When is the key of a setting that must be given for the condition to apply; "": always.
	When string `yaml:"when"`
}

// conditionPrefix begins the facts that tell of conditions.
const conditionPrefix = "condition."

// Fact is the fact by which a device tells of the condition.
func (c Condition) Fact() string { return conditionPrefix + c.Key }

// Expected fills in what the device should tell.
func (c Condition) Expected(vars map[string]string) string {
	return Placeholder.ReplaceAllStringFunc(c.Is, func(part string) string {
		return vars[strings.Trim(part, "{}")]
	})
}

// condition reports whether a fact tells of a condition that the profile has.
func (p *Profile) condition(fact string) bool {
	return slices.ContainsFunc(p.Conditions, func(c Condition) bool { return c.Fact() == fact })
}

// SecondLogin is a further login of a model, which may only look: it signs in as the other
// does.
type SecondLogin struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"` // key of the secret setting that holds it
}

func (p *Profile) checkConditions() error {
	if len(p.Acts[Firmware]) > 0 {
		file, asked := p.Setting(FirmwareFile), p.Setting(FirmwareAsked)
		if file == nil || file.Type != File || asked == nil || asked.Type != Text || p.Tells(fact.Firmware) == "" {
			return fmt.Errorf("the act firmware needs the settings firmware, a file, and firmware-asked, a text; and identify or read must take firmware")
		}
	}
	seen := map[string]bool{}
	for _, c := range p.Conditions {
		wrong := func(what string) error { return fmt.Errorf("conditions, %q: %s", c.Key, what) }
		switch {
		case !keyForm.MatchString(c.Key) || seen[c.Key]:
			return wrong("key must be small letters, digits and dashes, and used once")
		case c.Label == "" || c.Is == "":
			return wrong("label and is are needed: what it is called, and what the device tells when it is so")
		case !slices.Contains(p.ReadsBack(), c.Fact()):
			return wrong("the act read does not take " + c.Fact())
		case c.When != "" && p.Setting(c.When) == nil:
			return wrong("when: there is no such setting")
		}
		for _, m := range Placeholder.FindAllStringSubmatch(c.Is, -1) {
			name := strings.Trim(m[0], "{}")
			if p.settingOf(name) == nil && !slices.Contains(planned, name) {
				return wrong("is: " + m[0] + " has no value; there are " + braces(planned) + " and {setting.KEY}")
			}
		}
		seen[c.Key] = true
	}
	if s := p.Second; s != nil {
		if of := p.Setting(s.Password); s.User == "" || of == nil || of.Type != Secret {
			return fmt.Errorf("second-login: user is its name, password the key of a setting of the type secret")
		}
	}
	return nil
}
