package shell

import (
	"bytes"
	"io"
	"sync"
)

// Commands and options of Telnet (RFC 854, 857, 858).
const (
	telnetSE   = 240
	telnetSB   = 250
	telnetWILL = 251
	telnetWONT = 252
	telnetDO   = 253
	telnetDONT = 254
	telnetIAC  = 255

	optionEcho     = 1
	optionSuppress = 3 // go ahead
)

// telnet is a connection that speaks Telnet: it answers the other side's wishes, of
// which it grants echo and no go-ahead, and hands on the text alone.
type telnet struct {
	io.ReadWriteCloser
	sending sync.Mutex
	state   telnetState
	verb    byte
	granted map[[2]byte]bool // answered once: no endless agreeing (RFC 854, "loops")
}

type telnetState int

const (
	inText telnetState = iota
	afterIAC
	afterVerb
	inSub
	inSubIAC
)

func overTelnet(c io.ReadWriteCloser) *telnet {
	return &telnet{ReadWriteCloser: c, granted: map[[2]byte]bool{}}
}

// Read gives text; it may be none.
func (t *telnet) Read(b []byte) (int, error) {
	n, err := t.ReadWriteCloser.Read(b)
	text := b[:0]
	var answers []byte
	for _, c := range b[:n] {
		switch t.state {
		case inText:
			if c == telnetIAC {
				t.state = afterIAC
			} else if c != 0 { // CR NUL is a bare CR
				text = append(text, c)
			}
		case afterIAC:
			t.state = inText
			switch c {
			case telnetIAC:
				text = append(text, c)
			case telnetWILL, telnetWONT, telnetDO, telnetDONT:
				t.state, t.verb = afterVerb, c
			case telnetSB:
				t.state = inSub
			}
		case afterVerb:
			t.state = inText
			answers = append(answers, t.answer(t.verb, c)...)
		case inSub:
			if c == telnetIAC {
				t.state = inSubIAC
			}
		case inSubIAC:
			t.state = inSub
			if c == telnetSE {
				t.state = inText
			}
		}
	}
	if len(answers) > 0 {
		if sent := t.send(answers); err == nil {
			err = sent
		}
	}
	return len(text), err
}

// answer grants or refuses one option.
func (t *telnet) answer(verb, option byte) []byte {
	wish := [2]byte{verb, option}
	if t.granted[wish] {
		return nil
	}
	t.granted[wish] = true
	reply := byte(0)
	switch {
	case verb == telnetWILL && (option == optionEcho || option == optionSuppress):
		reply = telnetDO
	case verb == telnetWILL:
		reply = telnetDONT
	case verb == telnetDO && option == optionSuppress:
		reply = telnetWILL
	case verb == telnetDO:
		reply = telnetWONT
	default:
		return nil // what is not to be is not anyway
	}
	return []byte{telnetIAC, reply, option}
}

// Write sends text.
func (t *telnet) Write(b []byte) (int, error) {
	b2 := bytes.ReplaceAll(b, []byte{telnetIAC}, []byte{telnetIAC, telnetIAC})
	b2 = bytes.ReplaceAll(b2, []byte("\r\n"), []byte("\r"))
	b2 = bytes.ReplaceAll(b2, []byte("\r"), []byte("\r\n"))
	return len(b), t.send(b2)
}

func (t *telnet) send(b []byte) error {
	t.sending.Lock()
	defer t.sending.Unlock()
	_, err := t.ReadWriteCloser.Write(b)
	return err
}
