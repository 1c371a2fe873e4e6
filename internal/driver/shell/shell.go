// Package shell is the shell driver: it says lines to a device's command line and
// makes out what comes back, over SSH, Telnet or a serial line.
package shell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
)

const (
	maxText    = 1 << 20           // bytes that are read in one move
	maxAnswers = 200               // to questions in one move
	moveTime   = 100 * time.Second // for a whole dialogue
	signInTime = 30 * time.Second
	wordTime   = 20 * time.Second // until it says something more
	endTime    = 3 * time.Second  // for more from a session that ends with what was said
	wakeEvery  = 3 * time.Second  // between two keys that are to wake it: one too many is an answer
)

// session is one conversation with one shell, opened when it is first needed.
type session struct {
	driver.Peer
	section Section
	shell   io.ReadWriteCloser // nil: none is open
	heard   chan []byte        // closes when the shell ends
	quit    chan struct{}
	came    string // what it said until its first prompt: part of the first answer
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{Peer: peer, section: section}
}

// Close implements driver.Session.
func (s *session) Close() {
	if s.shell == nil {
		return
	}
	close(s.quit)
	_ = s.shell.Close() // it is over, however it ends
	for range s.heard { // until the reader is done
	}
	s.shell = nil
}

// Ready implements driver.Session.
func (s *session) Ready(ctx context.Context) error {
	if s.Line != nil {
		return nil
	}
	if s.section.Over == Serial {
		return errNoLine
	}
	c, err := s.Dial(ctx, s.section.Port())
	if err != nil {
		return err
	}
	return c.Close()
}

// enter opens the shell, signs in, and waits for its prompt.
func (s *session) enter(ctx context.Context) error {
	if s.shell != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, signInTime) // a box that takes the call and says nothing blocks nobody
	defer cancel()
	shell, err := s.reach(ctx)
	if err != nil {
		return err
	}
	s.shell, s.heard, s.quit = shell, make(chan []byte), make(chan struct{})
	go listen(shell, s.heard, s.quit)
	if err := s.signIn(ctx); err != nil {
		s.Close()
		return err
	}
	return nil
}

func (s *session) reach(ctx context.Context) (io.ReadWriteCloser, error) {
	switch {
	case s.Line != nil:
		return s.overLine()
	case s.section.Over == SSH:
		return overSSH(ctx, s.Peer, s.section)
	case s.section.Over == Telnet:
		conn, err := s.Dial(ctx, s.section.Port())
		if err != nil {
			return nil, fmt.Errorf("%w: its shell does not answer: %w", driver.ErrNoAnswer, err)
		}
		return overTelnet(conn), nil
	}
	return nil, errNoLine
}

var errNoLine = fmt.Errorf("%w: no serial line is named for it", driver.ErrNotSent)

// overLine opens the serial line, where somebody may have left in the middle.
func (s *session) overLine() (io.ReadWriteCloser, error) {
	shell, err := s.Line(s.section.Line)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if _, err := io.WriteString(shell, s.section.Begin); err != nil {
		return nil, errors.Join(noAnswer(err), shell.Close())
	}
	return shell, nil
}

// listen hands on what the shell says until it ends or nobody wants it any more.
func listen(shell io.Reader, heard chan<- []byte, quit <-chan struct{}) {
	defer close(heard)
	for {
		b := make([]byte, 4096)
		n, err := shell.Read(b)
		if n > 0 {
			select {
			case heard <- b[:n]:
			case <-quit:
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// errOver says that the shell ended.
var errOver = errors.New("it ended the session")

// text is what was heard in answer to one line.
type text struct {
	raw  strings.Builder
	said string // and may come back as an echo
}

func (t *text) plain() string { return withoutEcho(plain(t.raw.String()), t.said) }

// hear takes in what comes next.
func (s *session) hear(ctx context.Context, t *text) error {
	select {
	case b, ok := <-s.heard:
		if !ok {
			return errOver
		}
		if t.raw.Len()+len(b) > maxText {
			return fmt.Errorf("it says more than %d KiB and comes to no end", maxText>>10)
		}
		t.raw.Write(b)
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// say sends a line.
func (s *session) say(line string, bare bool) error {
	if !bare {
		line += s.section.End
	}
	_, err := io.WriteString(s.shell, line)
	return err
}

// signIn answers what the shell asks before it shows its prompt.
func (s *session) signIn(ctx context.Context) error {
	heard := &text{}
	asked, awake := false, false // it asked for the password; it said something
	for {
		seen := heard.plain()
		awake = awake || seen != ""
		login := s.section.Login
		switch {
		case login.Refused.find(seen) != nil, asked && (login.User.find(seen) != nil ||
			login.Password.find(seen) != nil):
			return driver.ErrLogin
		case login.Password.find(seen) != nil:
			asked, heard = true, &text{}
			if err := s.say(s.Login.Password, false); err != nil {
				return noAnswer(err)
			}
		case login.User.find(seen) != nil:
			heard = &text{said: s.Login.User}
			if err := s.say(s.Login.User, false); err != nil {
				return noAnswer(err)
			}
		case s.section.Prompt.find(seen) != nil:
			s.came = seen
			return nil
		}
		if err := s.stir(ctx, heard, awake); err != nil {
			if asked && errors.Is(err, errOver) {
				return driver.ErrLogin
			}
			return noAnswer(err)
		}
	}
}

// stir waits for what comes next, with a key now and then for a shell that said nothing
// yet because it waits for one.
func (s *session) stir(ctx context.Context, t *text, awake bool) error {
	for s.section.Wake != "" && !awake {
		if err := s.say(s.section.Wake, true); err != nil {
			return err
		}
		waiting, cancel := context.WithTimeout(ctx, wakeEvery)
		err := s.hear(waiting, t)
		cancel()
		if err == nil || ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
	}
	return s.hear(ctx, t)
}

func noAnswer(err error) error {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%w from its shell in time", driver.ErrNoAnswer)
	}
	return fmt.Errorf("%w from its shell: %w", driver.ErrNoAnswer, err)
}

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no line for a shell", driver.ErrNotSent)
	}
	filled, err := m.filled(vars, s.section.Quote)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, moveTime)
	defer cancel()
	seen, err := s.converse(ctx, filled)
	if err != nil {
		s.Close() // where it stands now nobody knows
		if m.Ends && errors.Is(err, errOver) {
			return nil, nil
		}
		return nil, noAnswer(err)
	}
	if s.Trace != nil {
		s.Trace(filled.Say, seen)
	}
	facts, err := m.judge(seen)
	if m.Ends || errors.Is(err, driver.ErrValue) {
		s.Close() // it is over, or stands in the middle of a dialogue
	}
	return facts, err
}

// filled gives the move with its variables filled in. No value may hold a control
// character: a line break in a name would be the next command.
func (m *Move) filled(vars map[string]string, quote string) (*Move, error) {
	var bad error
	fill := func(line, quote string) string {
		for _, name := range profile.Variables(line) {
			if !utf8.ValidString(vars[name]) || strings.IndexFunc(vars[name], func(r rune) bool {
				return control(r) || r == '\n'
			}) >= 0 {
				bad = fmt.Errorf("{%s} holds a control character", name)
			}
		}
		text, err := profile.Fill(line, vars, quoting(quote))
		if err != nil {
			bad = err
		}
		return text
	}
	out := *m
	out.Say = fill(m.Say, quote)
	out.Answers = make([]Answer, len(m.Answers))
	for i, a := range m.Answers {
		out.Answers[i] = Answer{a.To, fill(a.Say, a.Quote), a.Quote} // a program takes what it is told as it is
	}
	return &out, bad
}

func quoting(quote string) func(string) string {
	if quote != "sh" {
		return nil
	}
	// IEEE Std 1003.1, XCU 2.2.2: within single quotes everything stands for itself.
	return func(v string) string { return "'" + strings.ReplaceAll(v, "'", `'\''`) + "'" }
}

// converse says the line and answers what is asked until the prompt shows.
func (s *session) converse(ctx context.Context, m *Move) (string, error) {
	heard := &text{said: m.Say}
	prompt := m.Prompt
	if prompt.Regexp == nil {
		prompt = s.section.Prompt
	}
	if m.Say == "" && !m.Bare && len(m.Answers) == 0 && m.Prompt.Regexp == nil {
		return s.came, nil // signing in was all
	}
	if m.Say != "" || m.Bare {
		if err := s.say(m.Say, m.Bare); err != nil {
			return "", err
		}
	}
	var whole strings.Builder
	whole.WriteString(s.came)
	s.came = ""
	said := map[int]bool{} // which answers were given
	for answers := 0; ; {
		seen := heard.plain()
		which, reply, bare := m.reply(s.section, seen)
		asked := reply != "" || which >= 0
		switch {
		case m.Wrong.find(lines(seen)) != nil:
			whole.WriteString(seen)
			return whole.String(), nil
		case asked && answers == maxAnswers:
			return "", fmt.Errorf("it asks and asks")
		case asked:
			answers++
			said[which] = true
			whole.WriteString(seen)
			heard = &text{said: reply}
			if err := s.say(reply, bare); err != nil {
				return "", err
			}
		case m.Refused.find(seen) != nil, prompt.find(seen) != nil:
			whole.WriteString(seen)
			return whole.String(), nil
		}
		limit := wordTime
		if m.Ends && m.whole(said) {
			limit = endTime
		}
		waiting, cancel := context.WithTimeout(ctx, limit)
		err := s.hear(waiting, heard)
		cancel()
		if err != nil {
			return "", err
		}
	}
}

// lines is the part of a text that is whole lines.
func lines(text string) string { return text[:strings.LastIndexByte(text, '\n')+1] }

// reply gives what is to be said to the question that stands at the end, and by which answer
// of the move; which is negative and say empty where there is none.
func (m *Move) reply(section Section, seen string) (which int, say string, bare bool) {
	if section.More.find(seen) != nil {
		return -1, " ", true
	}
	for i, a := range m.Answers {
		if a.To.find(seen) != nil {
			return i, a.Say, false
		}
	}
	return -1, "", false
}

// whole reports whether all was said that there is to say: an empty answer only leaves things
// as they are.
func (m *Move) whole(said map[int]bool) bool {
	for i, a := range m.Answers {
		if a.Say != "" && !said[i] {
			return false
		}
	}
	return true
}

// judge makes out what an answer means.
func (m *Move) judge(seen string) (map[string]string, error) {
	if m.Refused.find(seen) != nil {
		return nil, driver.ErrLogin
	}
	if at := m.Wrong.find(seen); at != nil {
		refusal := driver.Refusal{Text: "the device refused: it refused"}
		if len(at) >= 4 && at[2] >= 0 {
			refusal.Said = strings.TrimSpace(seen[at[2]:at[3]])
		}
		return nil, refusal
	}
	facts := map[string]string{}
	for _, fact := range m.Takes() {
		if p := m.Take[fact]; p.NumSubexp() > 1 {
			facts[fact] = driver.Rows(p.Regexp, seen)
			continue
		}
		at := m.Take[fact].find(seen)
		if len(at) < 4 || at[2] < 0 {
			return nil, fmt.Errorf("its answer has no %s: nothing in it fits %q", fact, m.Take[fact])
		}
		facts[fact] = strings.TrimSpace(seen[at[2]:at[3]])
	}
	return facts, nil
}
