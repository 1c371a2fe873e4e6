// Package enip is the EtherNet/IP driver: attributes of the objects of a device, read and
// written by unconnected messages (CIP Networks Library, Volume 1, 2-4 and Volume 2, 2-4).
package enip

import (
	"context"
	"fmt"
	"net"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/wire/cip"
	"redstart/internal/wire/enip"
)

const moveTime = 10 * time.Second

// session is one session with one device; it is begun at the first move.
type session struct {
	driver.Peer
	section Section
	conn    net.Conn
	handle  uint32
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{Peer: peer, section: section}
}

// Close implements driver.Session.
func (s *session) Close() {
	if s.conn != nil {
		_ = s.conn.Close() // its end is told by what follows
		s.conn = nil
	}
}

// Ready implements driver.Session.
func (s *session) Ready(ctx context.Context) error {
	c, err := s.Dial(ctx, s.section.Port())
	if err != nil {
		return err
	}
	return c.Close()
}

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no EtherNet/IP request", driver.ErrNotSent)
	}
	ctx, cancel := context.WithTimeout(ctx, moveTime)
	defer cancel()
	request, err := m.filled(vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if err := s.begin(ctx); err != nil {
		s.Close()
		return nil, err
	}
	message, err := s.carry(ctx, enip.Message(s.handle, request.Append(nil)))
	if err != nil {
		s.Close()
		return nil, err
	}
	answer, err := cip.ParseResponse(message)
	if s.Trace != nil {
		s.Trace(fmt.Sprintf("%s\n% X", m.Request, request.Data), fmt.Sprintf("% X", message))
	}
	switch {
	case err != nil || answer.Service != request.Service:
		s.Close()
		return nil, fmt.Errorf("%w: it answered something else than it was asked", driver.ErrNoAnswer)
	case answer.Status != 0:
		return nil, driver.Refusal{Text: cip.StatusText(answer.Status)}
	}
	return m.taken(answer.Data)
}

// filled makes the request with variables filled in.
func (m *Move) filled(vars map[string]string) (cip.Request, error) {
	r := cip.Request{Service: m.service, Path: m.path}
	if m.service == cip.GetOne {
		return r, nil
	}
	for i, f := range m.Fields {
		text, err := profile.Fill(f.Value, vars, nil)
		if err == nil {
			r.Data, err = cip.AppendValue(r.Data, f.As, text)
		}
		if err != nil {
			return r, fmt.Errorf("field %d: %w", i+1, err)
		}
	}
	if len(r.Data) > cip.MaxData {
		return r, fmt.Errorf("it is longer than %d bytes", cip.MaxData)
	}
	return r, nil
}

// taken reads the fields of an answer.
func (m *Move) taken(data []byte) (map[string]string, error) {
	facts := map[string]string{}
	if m.service != cip.GetOne {
		return facts, nil
	}
	for i, f := range m.Fields {
		text, rest, err := cip.Value(data, f.As)
		if err != nil {
			return nil, fmt.Errorf("its answer has no %s: field %d is not there", f.Take, i+1)
		}
		if word, has := f.Words[text]; has {
			text = word
		}
		if data = rest; f.Take != "" {
			facts[f.Take] = text
		}
	}
	return facts, nil
}

// begin registers a session (Volume 2, 2-4.4).
func (s *session) begin(ctx context.Context) (err error) {
	if s.conn != nil {
		return nil
	}
	if s.conn, err = s.Dial(ctx, s.section.Port()); err != nil {
		s.conn = nil
		return fmt.Errorf("%w to EtherNet/IP: %w", driver.ErrNoAnswer, err)
	}
	f, err := s.exchange(ctx, enip.Registration())
	if err != nil {
		return err
	}
	if f.Command != enip.Register || f.Status != 0 || f.Session == 0 {
		return fmt.Errorf("%w: it gives no session", driver.ErrNoAnswer)
	}
	s.handle = f.Session
	return nil
}

func (s *session) carry(ctx context.Context, f enip.Frame) ([]byte, error) {
	answer, err := s.exchange(ctx, f)
	if err != nil {
		return nil, err
	}
	if answer.Status != 0 || answer.Session != s.handle {
		return nil, fmt.Errorf("%w: it knows this session no more", driver.ErrNoAnswer)
	}
	message, err := answer.Unwrap()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNoAnswer, err)
	}
	return message, nil
}

// exchange sends a frame and reads the next one.
func (s *session) exchange(ctx context.Context, f enip.Frame) (enip.Frame, error) {
	conn := s.conn
	deadline, _ := ctx.Deadline()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	err := conn.SetDeadline(deadline)
	if err == nil {
		_, err = conn.Write(f.Append(nil))
	}
	var answer enip.Frame
	if err == nil {
		answer, err = enip.ReadFrame(conn)
	}
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	if err != nil {
		return answer, fmt.Errorf("%w over EtherNet/IP: %w", driver.ErrNoAnswer, err)
	}
	return answer, nil
}
