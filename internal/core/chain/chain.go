// Package chain writes records that nobody can improve afterwards, and verifies them: JSON
// lines of which each holds the SHA-256 (FIPS 180-4) of the one before, the last one signed
// with Ed25519 (RFC 8032). docs/handover.md describes the form.
package chain

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"redstart/internal/core/problem"
)

// Form is what the first line of every record says.
const Form = "redstart/record/1"

const (
	longestLine = 1 << 20 // bytes
	mostLines   = 1 << 22
)

// head is the first line, link each one between, end the last.
type head struct {
	Form string `json:"form"`
	Key  []byte `json:"key"` // public
}

type link struct {
	Is     string `json:"is"`
	Holds  any    `json:"holds"`
	Before string `json:"before"`
}

type end struct {
	Lines     int    `json:"lines"` // between the first and this one
	Before    string `json:"before"`
	Signature []byte `json:"signature"`
}

// Writer writes a record.
type Writer struct {
	out    io.Writer
	key    ed25519.PrivateKey
	before string
	lines  int
	err    error
}

// Begin begins a record that is signed with a key.
func Begin(out io.Writer, key ed25519.PrivateKey) *Writer {
	w := &Writer{out: out, key: key}
	w.put(head{Form, key.Public().(ed25519.PublicKey)})
	return w
}

func (w *Writer) put(v any) {
	line, err := json.Marshal(v)
	if err == nil && len(line) >= longestLine {
		err = fmt.Errorf("a line of a record has %d bytes; at most %d fit", len(line), longestLine)
	}
	if w.err = errors.Join(w.err, err); w.err != nil {
		return
	}
	w.before = sum(line)
	_, w.err = w.out.Write(append(line, '\n'))
}

// Add writes a line of some kind.
func (w *Writer) Add(is string, holds any) {
	w.put(link{is, holds, w.before})
	w.lines++
}

// Close signs what was written, and tells the first error there was.
func (w *Writer) Close() error {
	w.put(end{w.lines, w.before, ed25519.Sign(w.key, signed(w.before))})
	return w.err
}

func sum(line []byte) string {
	s := sha256.Sum256(line)
	return hex.EncodeToString(s[:])
}

// signed is what the signature is of.
func signed(before string) []byte { return []byte(Form + "\n" + before) }

// Line is one line of a record that was verified.
type Line struct {
	Is     string          `json:"is"`
	Holds  json.RawMessage `json:"holds"`
	Before string          `json:"before"`
}

// Check reads a record, hands each line between the first and the last to each, and verifies
// that nothing in it was changed, left out or put in since it was signed. What each was handed
// counts for nothing when it returns an error. The public key says who signed: compare it with
// one that is known from elsewhere.
func Check(in io.Reader, each func(Line)) (key ed25519.PublicKey, lines int, err error) {
	scan := bufio.NewScanner(in)
	scan.Buffer(nil, longestLine)
	scan.Split(exactLines)
	var first head
	if !scan.Scan() || json.Unmarshal(scan.Bytes(), &first) != nil || first.Form != Form || len(first.Key) != ed25519.PublicKeySize {
		return nil, 0, problem.New(problem.Usage, "this is no record: its first line does not say "+Form,
			"give record.jsonl, or the whole package").Because(scan.Err())
	}
	before := sum(scan.Bytes())
	for n := 2; scan.Scan(); n++ {
		if n > mostLines {
			return nil, 0, wrong("has more than %d lines", mostLines)
		}
		var last end
		if exactly(scan.Bytes(), &last) == nil {
			switch {
			case last.Before != before:
				return nil, 0, wrong("was changed before line %d", n)
			case last.Lines != lines:
				return nil, 0, wrong("has %d lines, and says that it has %d", lines, last.Lines)
			case !ed25519.Verify(first.Key, signed(before), last.Signature):
				return nil, 0, wrong("is not signed with the key that it names: the signature does not match")
			case scan.Scan():
				return nil, 0, wrong("goes on after its signature")
			}
			return first.Key, lines, scan.Err()
		}
		var line Line
		switch err := exactly(scan.Bytes(), &line); {
		case err != nil || line.Is == "":
			return nil, 0, wrong("cannot be read in line %d", n)
		case line.Before != before:
			return nil, 0, wrong("was changed before line %d", n)
		}
		before = sum(scan.Bytes())
		lines++
		each(line)
	}
	if scan.Err() != nil {
		return nil, 0, wrong("has a line that is too long")
	}
	return nil, 0, wrong("is cut off: it does not end with a signature")
}

// exactLines splits at line feeds alone: a carriage return is a change like any other.
func exactLines(data []byte, atEnd bool) (advance int, token []byte, err error) {
	if i := bytes.IndexByte(data, '\n'); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEnd && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

// exactly reads JSON that has no other members than those of v.
func exactly(text []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows")
	}
	return nil
}

func wrong(format string, args ...any) error {
	return problem.New(problem.Conflict, "the record "+fmt.Sprintf(format, args...), "do not rely on it; ask for it anew")
}

// KeyText is how a public key is written.
func KeyText(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }
