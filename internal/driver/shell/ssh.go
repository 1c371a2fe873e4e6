package shell

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/crypto/ssh"

	"redstart/internal/driver"
)

// A terminal so high and wide that hardly anything is divided into pages or lines.
const (
	rows    = 1000
	columns = 250
)

// sshShell is a shell in an SSH session.
type sshShell struct {
	io.Reader
	io.Writer
	client *ssh.Client
}

func (s sshShell) Close() error { return s.client.Close() }

// errNoPassword says that the device does not take a password in this way.
var errNoPassword = fmt.Errorf("%w: it takes no password over SSH", driver.ErrNotSent)

// overSSH signs in and opens a shell. There are two ways to be asked for a password
// (RFC 4252, 8; RFC 4256); a device that refused it in one is not tried in the other.
func overSSH(ctx context.Context, peer driver.Peer, section Section) (io.ReadWriteCloser, error) {
	var err error
	for _, way := range []func(*signIn) ssh.AuthMethod{(*signIn).plainly, (*signIn).asked} {
		var shell io.ReadWriteCloser
		if shell, err = signInBy(ctx, peer, section, way); !errors.Is(err, errNoPassword) {
			return shell, err
		}
	}
	return nil, err
}

// signIn is one attempt to sign in.
type signIn struct {
	password string
	sent     atomic.Bool
}

func (s *signIn) plainly() ssh.AuthMethod {
	return ssh.PasswordCallback(func() (string, error) {
		s.sent.Store(true)
		return s.password, nil
	})
}

func (s *signIn) asked() ssh.AuthMethod {
	return ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range questions {
			if echos[i] {
				return nil, fmt.Errorf("it asks for more than a password: %q", questions[i])
			}
			s.sent.Store(true)
			answers[i] = s.password
		}
		return answers, nil
	})
}

func signInBy(ctx context.Context, peer driver.Peer, section Section,
	way func(*signIn) ssh.AuthMethod) (io.ReadWriteCloser, error) {
	conn, err := peer.Dial(ctx, section.Port())
	if err != nil {
		return nil, fmt.Errorf("%w: its shell does not answer: %w", driver.ErrNoAnswer, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	try := &signIn{password: peer.Login.Password}
	var stranger error
	config := &ssh.ClientConfig{
		User: peer.Login.User,
		Auth: []ssh.AuthMethod{way(try)},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			sum := sha256.Sum256(key.Marshal())
			stranger = peer.Trust(hex.EncodeToString(sum[:]))
			return stranger
		},
	}
	if section.Old {
		algorithms(config)
	}
	c, channels, requests, err := ssh.NewClientConn(conn, peer.Address.String(), config)
	if err != nil {
		conn.Close()
	}
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%w from its shell: %w", driver.ErrNoAnswer, ctx.Err())
	case stranger != nil:
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, stranger)
	case strings.Contains(err.Error(), "unable to authenticate"):
		if try.sent.Load() {
			return nil, driver.ErrLogin
		}
		return nil, errNoPassword
	case strings.Contains(err.Error(), "no common algorithm"):
		return nil,
			fmt.Errorf("%w: it speaks only an SSH that is no longer held for safe; its profile would have to allow it (old: true)", driver.ErrNotSent)
	default:
		return nil, fmt.Errorf("%w from its shell: %w", driver.ErrNoAnswer, err)
	}
	client := ssh.NewClient(c, channels, requests)
	shell, err := openShell(client)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w: it opens no shell: %w", driver.ErrNoAnswer, err), client.Close())
	}
	return shell, nil
}

func openShell(client *ssh.Client) (io.ReadWriteCloser, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestPty("vt100", rows, columns, ssh.TerminalModes{ssh.ECHO: 0}); err != nil {
		return nil, err
	}
	return sshShell{out, in, client}, session.Shell()
}

// algorithms adds what is no longer held for safe.
func algorithms(c *ssh.ClientConfig) {
	safe, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	c.KeyExchanges = slices.Concat(safe.KeyExchanges, old.KeyExchanges)
	c.Ciphers = slices.Concat(safe.Ciphers, old.Ciphers)
	c.MACs = slices.Concat(safe.MACs, old.MACs)
	c.HostKeyAlgorithms = slices.Concat(safe.HostKeys, old.HostKeys)
}
