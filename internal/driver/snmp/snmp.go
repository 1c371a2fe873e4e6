// Package snmp is the SNMP driver: objects of an agent, read and set in the versions 1, 2c and
// 3 (RFC 1157, RFC 3416, RFC 3414). The encoding is a library's.
package snmp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
)

const (
	tryTime = 2 * time.Second
	retries = 3
)

// session is one conversation with one agent; it is begun at the first move.
type session struct {
	driver.Peer
	section Section
	agent   *gosnmp.GoSNMP // nil: not begun
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{Peer: peer, section: section}
}

// Close implements driver.Session.
func (s *session) Close() {
	if s.agent != nil {
		_ = s.agent.Conn.Close() // its end is told by what follows
		s.agent = nil
	}
}

// Ready implements driver.Session: an agent shows only in its answers.
func (s *session) Ready(context.Context) error { return nil }

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (facts map[string]string,
	err error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no SNMP request", driver.ErrNotSent)
	}
	defer func() { // the library is not ours to trust with hostile bytes
		if r := recover(); r != nil {
			s.Close()
			facts, err = nil, fmt.Errorf("%w that is SNMP", driver.ErrNoAnswer)
		}
	}()
	community, err := profile.Fill(m.community, vars, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	values, err := m.filled(vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	s.agent.Community = community
	stop := context.AfterFunc(ctx, s.agent.Conn.(interface{ cut() }).cut)
	defer stop()
	var answer *gosnmp.SnmpPacket
	facts = map[string]string{}
	if m.Request == "set" {
		answer, err = s.agent.Set(values)
	} else {
		var oids []string
		for _, v := range values {
			oids = append(oids, v.Name)
		}
		answer, err = s.agent.Get(oids)
	}
	s.told(m, values, answer)
	if err != nil {
		s.Close()
		return nil, s.why(ctx, err)
	}
	if answer.Error != gosnmp.NoError {
		return nil, s.refused(answer)
	}
	return m.taken(answer, facts)
}

// filled makes what is asked for, or set, with variables filled in.
func (m *Move) filled(vars map[string]string) (list []gosnmp.SnmpPDU, err error) {
	for _, fact := range m.Takes() {
		oid, err := objectOf(m.Take[fact])
		if err != nil {
			return nil, err
		}
		list = append(list, gosnmp.SnmpPDU{Name: oid, Type: gosnmp.Null})
	}
	for _, one := range m.Set {
		text, err := profile.Fill(one.Value, vars, nil)
		if err != nil {
			return nil, err
		}
		pdu := gosnmp.SnmpPDU{Type: types[one.As], Value: text}
		if pdu.Name, err = objectOf(one.Object); err != nil {
			return nil, err
		}
		switch pdu.Type {
		case gosnmp.Integer:
			n, err := strconv.ParseInt(text, 10, 32)
			if err != nil {
				return nil, fmt.Errorf("%q is no number of 32 bits", text)
			}
			pdu.Value = int(n)
		case gosnmp.Gauge32:
			n, err := strconv.ParseUint(text, 10, 32)
			if err != nil {
				return nil, fmt.Errorf("%q is no number from 0 to 4294967295", text)
			}
			pdu.Value = uint32(n)
		case gosnmp.IPAddress:
			if a, err := netip.ParseAddr(text); err != nil || !a.Is4() {
				return nil, fmt.Errorf("%q is no IPv4 address", text)
			}
		case gosnmp.ObjectIdentifier:
			if pdu.Value, err = objectOf(text); err != nil {
				return nil, err
			}
		}
		list = append(list, pdu)
	}
	return list, nil
}

// taken reads the facts out of an answer, which has a value for each object in their order
// (RFC 3416, 4.2.1).
func (m *Move) taken(answer *gosnmp.SnmpPacket, facts map[string]string) (map[string]string, error) {
	if m.Request == "set" {
		return facts, nil
	}
	names := m.Takes()
	if len(answer.Variables) != len(names) {
		return nil, fmt.Errorf("%w: it answered something else than it was asked", driver.ErrNoAnswer)
	}
	for i, name := range names {
		v := answer.Variables[i]
		switch value := v.Value.(type) {
		case []byte:
			facts[name] = string(value)
		case string:
			facts[name] = value
		case nil:
			return nil, fmt.Errorf("it has no %s: there is no object %s", name, m.Take[name])
		default:
			facts[name] = gosnmp.ToBigInt(value).String()
		}
	}
	return facts, nil
}

// begin makes the session. The library dials by itself alone: a socket on loopback, over
// which nothing is sent, stands in until our conversation takes its place.
func (s *session) begin(ctx context.Context) error {
	if s.agent != nil {
		return nil
	}
	g := &gosnmp.GoSNMP{Target: "127.0.0.1", Port: 9, Version: versions[s.section.Version], Timeout: tryTime,
		Retries: retries, MaxOids: mostObjects, Context: context.WithoutCancel(ctx)}
	if s.section.Version == "3" {
		g.SecurityModel, g.MsgFlags = gosnmp.UserSecurityModel, gosnmp.AuthNoPriv
		usm := &gosnmp.UsmSecurityParameters{UserName: s.Login.User, AuthenticationProtocol: auths[s.section.Auth],
			AuthenticationPassphrase: s.Login.Password}
		if s.section.Privacy != "" {
			g.MsgFlags = gosnmp.AuthPriv
			usm.PrivacyProtocol, usm.PrivacyPassphrase = privacies[s.section.Privacy], s.Login.Password
		}
		g.SecurityParameters = usm
	}
	if err := g.Connect(); err != nil {
		return fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	_ = g.Conn.Close() // nothing was sent over it
	conn, err := s.Datagrams(ctx, s.section.agent())
	if err != nil {
		return fmt.Errorf("%w over SNMP: %w", driver.ErrNoAnswer, err)
	}
	g.Conn, s.agent = &wire{Conn: conn}, g
	return nil
}

// wire is the conversation, which can be cut: then it answers no more, whatever deadline is
// set afterwards.
type wire struct {
	net.Conn
}

func (w *wire) cut() { _ = w.Close() } // whoever waits is told

// why puts an error of the library into ours.
func (s *session) why(ctx context.Context, err error) error {
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("%w over SNMP: %w", driver.ErrNoAnswer, ctx.Err())
	case errors.Is(err, gosnmp.ErrUnknownUsername), errors.Is(err, gosnmp.ErrWrongDigest),
		errors.Is(err, gosnmp.ErrDecryption), errors.Is(err, gosnmp.ErrUnknownSecurityLevel),
		strings.Contains(err.Error(), "not authentic"): // it answers, and not with this login
		return fmt.Errorf("%w over SNMP", driver.ErrLogin)
	}
	return fmt.Errorf("%w over SNMP: no agent answered, or it does not know the community", driver.ErrNoAnswer)
}

// refusals are the error statuses in words (RFC 3416, 3; RFC 1157, 4.1.1).
var refusals = map[gosnmp.SNMPError]string{
	gosnmp.TooBig: "the answer would be too big", gosnmp.NoSuchName: "it has no such object, or it may not be set",
	gosnmp.BadValue: "the value does not fit the object", gosnmp.ReadOnly: "the object can only be read",
	gosnmp.NoAccess: "the object may not be touched with this login", gosnmp.WrongType: "the value has the wrong type",
	gosnmp.WrongLength: "the value has the wrong length", gosnmp.WrongValue: "the value is not one that the object takes",
	gosnmp.NoCreation: "it has no such object", gosnmp.InconsistentValue: "the value does not go with others now",
	gosnmp.NotWritable: "the object cannot be set", gosnmp.ResourceUnavailable: "it has no room for it now",
	gosnmp.CommitFailed: "it could not set it; nothing was changed", gosnmp.UndoFailed: "it could not set it, and could not undo what it had set",
}

func (s *session) refused(answer *gosnmp.SnmpPacket) error {
	if answer.Error == gosnmp.AuthorizationError {
		return fmt.Errorf("%w over SNMP", driver.ErrLogin)
	}
	text := refusals[answer.Error]
	if text == "" {
		text = fmt.Sprintf("it refused, status %d", answer.Error)
	}
	if i := int(answer.ErrorIndex); i >= 1 && i <= len(answer.Variables) {
		text += " (object " + strings.TrimPrefix(answer.Variables[i-1].Name, ".") + ")"
	}
	return driver.Refusal{Text: text}
}

// told shows who looks on what went and came.
func (s *session) told(m *Move, values []gosnmp.SnmpPDU, answer *gosnmp.SnmpPacket) {
	if s.Trace == nil {
		return
	}
	show := func(list []gosnmp.SnmpPDU) string {
		var lines []string
		for _, v := range list {
			value := v.Value
			if b, is := value.([]byte); is {
				value = string(b)
			}
			lines = append(lines, fmt.Sprintf("%s %v", v.Name, value))
		}
		return strings.Join(lines, "\n")
	}
	got := ""
	if answer != nil {
		got = show(answer.Variables)
	}
	s.Trace(m.Request+"\n"+show(values), got)
}
