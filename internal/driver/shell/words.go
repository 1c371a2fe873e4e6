package shell

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/line"
)

// Ways to a shell.
const (
	SSH    = "ssh"    // RFC 4251 to 4254
	Telnet = "telnet" // RFC 854
	Serial = "serial" // a line with start and stop bits
)

// Section says how the device's shell is reached and how it behaves.
type Section struct {
	Over   string    `yaml:"over"`   // ssh, telnet or serial
	At     uint16    `yaml:"port"`   // 0: the usual one
	Prompt Pattern   `yaml:"prompt"` // what shows that it waits for the next line
	Login  Login     `yaml:"login"`  // what it asks before, where the way there does not sign in
	Wake   string    `yaml:"wake"`   // sent again and again until it says something
	More   Pattern   `yaml:"more"`   // what it shows between two pages; answered with a space
	End    string    `yaml:"end"`    // what ends a line that is sent; not given: CR
	Quote  string    `yaml:"quote"`  // sh: values in lines are put in quotes as a POSIX shell wants them
	Old    bool      `yaml:"old"`    // ssh: key exchanges and ciphers that are no longer held for safe are taken too
	Line   line.Mode `yaml:"line"`   // how a serial line is set, where one is named for it
	Begin  string    `yaml:"begin"`  // sent first over a line: somebody may have left in the middle of something
}

// Login are the questions by which it asks for the login.
type Login struct {
	User     Pattern `yaml:"user"`
	Password Pattern `yaml:"password"`
	Refused  Pattern `yaml:"refused"`
}

// Port implements profile.Section.
func (s Section) Port() uint16 {
	switch {
	case s.At != 0:
		return s.At
	case s.Over == SSH:
		return 22
	case s.Over == Telnet:
		return 23
	}
	return 0
}

// Caution says what a rehearsal must say of the way to the device; "" for nothing.
func (s Section) Caution() string {
	if s.Old {
		return "it may be talked to over key exchanges and ciphers that are no longer held for safe, as its profile allows"
	}
	return ""
}

// Pattern is a regular expression in a profile; the zero Pattern is none.
type Pattern struct{ *regexp.Regexp }

// UnmarshalText compiles it.
func (p *Pattern) UnmarshalText(b []byte) (err error) {
	if len(b) == 0 {
		return nil
	}
	if p.Regexp, err = regexp.Compile(string(b)); err != nil {
		return fmt.Errorf("%q is no regular expression: %w", b, err)
	}
	return nil
}

// find gives where the pattern fits; nil when it does not, or is none.
func (p Pattern) find(text string) []int {
	if p.Regexp == nil {
		return nil
	}
	return p.FindStringSubmatchIndex(text)
}

// Move is one line that is said, and what to make of the answer.
type Move struct {
	Say     string             `yaml:"shell"`   // the line; "" says nothing and waits for the prompt
	Bare    bool               `yaml:"bare"`    // it is sent without a line end: a key, a control character
	Answers []Answer           `yaml:"answers"` // to what it asks on the way, each as often as it is asked
	Prompt  Pattern            `yaml:"prompt"`  // what ends the answer, where it is not the usual prompt
	Refused Pattern            `yaml:"refused"` // an answer that means: the login is refused
	Wrong   Pattern            `yaml:"wrong"`   // an answer that says no; its group is why
	Ends    bool               `yaml:"ends"`    // the session may end with it: the address changes, or the device goes
	Take    map[string]Pattern `yaml:"take"`    // facts: the group of an expression
}

// Answer is what is said to a question.
type Answer struct {
	To  Pattern `yaml:"to"`
	Say string  `yaml:"say"`
	// Quote is for what a shell reads after all, such as one that a program started; "" for a program.
	Quote string `yaml:"quote"`
}

// Driver is the shell driver.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "shell" }

var (
	_ profile.OverLine   = Driver{}
	_ profile.AsksNobody = Driver{}
	_ profile.HasCaution = Section{}
	_ profile.HasQuotes  = (*Move)(nil)
)

// OnlyLine implements profile.OverLine.
func (Driver) OnlyLine(section profile.Section) bool {
	s, is := section.(Section)
	return is && s.Over == Serial
}

// AsksNobody implements profile.AsksNobody: whoever is at the line may be inside.
func (Driver) AsksNobody(section profile.Section) bool {
	s, is := section.(Section)
	return is && s.Over == Serial && s.Login.User.Regexp == nil && s.Login.Password.Regexp == nil
}

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"shell"} }

// Shows implements profile.Driver.
func (Driver) Shows() string { return "host key" }

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	if err := part.Into(&s); err != nil {
		return nil, err
	}
	if part.Empty() {
		return s, nil
	}
	switch {
	case !slices.Contains([]string{SSH, Telnet, Serial}, s.Over):
		return nil, fmt.Errorf("over must be ssh, telnet or serial, not %q", s.Over)
	case s.Prompt.Regexp == nil:
		return nil, fmt.Errorf("prompt is missing: an expression for what shows that it waits for a line")
	case checkQuote(s.Quote) != nil:
		return nil, checkQuote(s.Quote)
	case s.Old && s.Over != SSH:
		return nil, fmt.Errorf("old belongs to ssh")
	case s.Over == Telnet && s.Login.Password.Regexp == nil:
		return nil, fmt.Errorf("login: password is missing: how it asks for it over telnet")
	}
	if s.End == "" {
		s.End = "\r"
	}
	if err := s.Line.Check(); err != nil {
		return nil, fmt.Errorf("line: %w", err)
	}
	return s, nil
}

func checkQuote(quote string) error {
	if quote != "" && quote != "sh" {
		return fmt.Errorf("quote is sh, or left out, not %q", quote)
	}
	return nil
}

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, section profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if s, ok := section.(Section); !ok || s.Over == "" {
		return nil, fmt.Errorf("a shell needs over and prompt under talk, shell")
	}
	for i, a := range m.Answers {
		if a.To.Regexp == nil {
			return nil, fmt.Errorf("answers, %d: to is missing: an expression for the question", i+1)
		}
		if err := checkQuote(a.Quote); err != nil {
			return nil, fmt.Errorf("answers, %d: %w", i+1, err)
		}
	}
	if m.Wrong.Regexp != nil && m.Wrong.NumSubexp() > 1 {
		return nil, fmt.Errorf("wrong: at most one group in brackets: why")
	}
	for _, fact := range m.Takes() {
		p := m.Take[fact]
		switch {
		case p.Regexp != nil && p.NumSubexp() > 1 && driver.CheckRows(p.Regexp) == nil: // a table
		case p.Regexp == nil || p.NumSubexp() != 1:
			return nil,
				fmt.Errorf("take %s: the expression needs one group in brackets: what is taken; or named ones: the columns of a table", fact)
		}
	}
	return &m, nil
}

// Sends implements profile.Words.
func (m *Move) Sends() []string {
	var all strings.Builder
	all.WriteString(m.Say)
	for _, a := range m.Answers {
		all.WriteString(a.Say)
	}
	return profile.Variables(all.String())
}

// Takes implements profile.Words.
func (m *Move) Takes() []string { return slices.Sorted(maps.Keys(m.Take)) }

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }

// Quotes implements profile.HasQuotes.
func (m *Move) Quotes(section profile.Section) (list []string) {
	s, _ := section.(Section)
	tell := func(say, quote, where string) {
		names := profile.Variables(say)
		if len(names) == 0 {
			return
		}
		how := "as it is"
		if quote == "sh" {
			how = "in quotes"
		}
		list = append(list, fmt.Sprintf("{%s} %s, %s", strings.Join(names, "}, {"), how, where))
	}
	tell(m.Say, s.Quote, "in the line "+m.Say)
	quoted := s.Quote != ""
	for _, a := range m.Answers {
		quoted = quoted || a.Quote != ""
		tell(a.Say, a.Quote, "to what a program asks: "+a.To.String())
	}
	if !quoted {
		return nil
	}
	return list
}
