// Package bacnet is the BACnet/IP driver: properties of a device, and of what is behind it,
// read and written; restarts and silence by its own services (ASHRAE 135, 15 and 16).
package bacnet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/wire/bacnet"
)

// tryTime is for how long an answer is waited for (APDU_Timeout, 12.11.29), tries how often
// it is asked (Number_Of_APDU_Retries, 12.11.30, and the first time).
const (
	tryTime = 2 * time.Second
	tries   = 4
)

// session is one conversation with one device; it is begun at the first move.
type session struct {
	driver.Peer
	section Section
	conn    net.Conn
	invoke  byte
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{Peer: peer, section: section, invoke: byte(rand.UintN(256))}
}

// Close implements driver.Session.
func (s *session) Close() {
	if s.conn != nil {
		_ = s.conn.Close() // whoever waits is told
		s.conn = nil
	}
}

// Ready implements driver.Session: a device shows only in its answers.
func (s *session) Ready(context.Context) error { return nil }

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no BACnet request", driver.ErrNotSent)
	}
	request, err := m.filled(vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if s.conn == nil {
		if s.conn, err = s.Datagrams(ctx, s.section.udp()); err != nil {
			s.conn = nil
			return nil, fmt.Errorf("%w over BACnet: %w", driver.ErrNoAnswer, err)
		}
	}
	s.invoke++
	request.Invoke = s.invoke
	reply, err := s.exchange(ctx, request)
	if s.Trace != nil {
		s.Trace(fmt.Sprintf("%s %s %s", m.Request, m.Property, m.Value+m.State), reply.Value+reply.Why())
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	switch {
	case reply.Kind == bacnet.Failed && (reply.Code == bacnet.PasswordFailure || reply.Code == bacnet.AccessDenied):
		return nil, fmt.Errorf("%w over BACnet", driver.ErrLogin)
	case reply.Kind == bacnet.WithValue && m.Request == read:
		return map[string]string{m.Take: reply.Value}, nil
	case reply.Kind == bacnet.Done && m.Request != read:
		return map[string]string{}, nil
	case reply.Kind == bacnet.Failed || reply.Kind == bacnet.Refused || reply.Kind == bacnet.Aborted:
		return nil, driver.Refusal{Text: reply.Why()}
	}
	return nil, fmt.Errorf("%w: it answered something else than it was asked", driver.ErrNoAnswer)
}

// filled makes the request with variables filled in.
func (m *Move) filled(vars map[string]string) (r bacnet.Request, err error) {
	r = bacnet.Request{Object: m.object, Property: m.property, Priority: m.Priority, Minutes: m.Minutes,
		State: states[m.Request][m.State]}
	r.Service = map[string]byte{read: bacnet.ReadProperty, write: bacnet.WriteProperty,
		reinitialize: bacnet.ReinitializeDevice, communication: bacnet.DeviceCommunicationControl}[m.Request]
	var to, value string
	if to, err = profile.Fill(m.To, vars, nil); err == nil {
		value, err = profile.Fill(m.Value, vars, nil)
	}
	if err == nil {
		r.Password, err = profile.Fill(m.Password, vars, nil)
	}
	if err != nil {
		return r, err
	}
	if r.To, err = stationOf(to); err != nil {
		return r, err
	}
	if m.Request == write {
		r.Value, err = bacnet.AppendValue(nil, m.As, value)
	}
	if len(r.Password) > 20 {
		return r, fmt.Errorf("a device's password has at most 20 characters (ASHRAE 135, 16.4.1.2)")
	}
	return r, err
}

// stationOf reads "4001/11"; "" is the device itself.
func stationOf(text string) (to bacnet.Station, err error) {
	if text == "" {
		return to, nil
	}
	network, address, _ := strings.Cut(text, "/")
	n, err := strconv.ParseUint(network, 10, 16)
	a, err2 := strconv.ParseUint(address, 10, 8)
	if err != nil || err2 != nil || n == 0 || n > 65534 {
		return to, fmt.Errorf("%q is no station: write it as network/address, like 4001/11", text)
	}
	return bacnet.Station{Network: uint16(n), Address: string([]byte{byte(a)})}, nil
}

// exchange asks until the answer comes. What is asked again says what should be, so that it
// does no harm to be heard twice.
func (s *session) exchange(ctx context.Context, r bacnet.Request) (bacnet.Reply, error) {
	conn := s.conn
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	buffer := make([]byte, 1600)
	for range tries {
		err := conn.SetReadDeadline(time.Now().Add(tryTime))
		if err == nil {
			_, err = conn.Write(r.Frame())
		}
		for err == nil {
			var n int
			if n, err = conn.Read(buffer); err == nil {
				reply, malformed := bacnet.ParseReply(buffer[:n])
				if malformed == nil && reply.Invoke == r.Invoke && reply.From == r.To {
					return reply, nil
				}
			}
		}
		if ctx.Err() != nil {
			return bacnet.Reply{}, fmt.Errorf("%w over BACnet: %w", driver.ErrNoAnswer, ctx.Err())
		}
	}
	return bacnet.Reply{}, fmt.Errorf("%w over BACnet", driver.ErrNoAnswer)
}
