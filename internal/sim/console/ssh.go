package console

import (
	"crypto/ed25519"
	"net"
	"time"

	"golang.org/x/crypto/ssh"
)

// handshake is how long somebody may take to sign in.
const handshake = 30 * time.Second

// SSH is the SSH server of a box (RFC 4251 to 4254).
type SSH struct {
	Banner string // the version line that it shows
	Key    ssh.Signer
	// Login says whether a user with a password may come in.
	Login func(user, password string) bool
	// Exchanges limits the key exchanges; nil takes the usual ones.
	Exchanges []string
	// Talk is what happens at the terminal; the session ends with it.
	Shell func(user string, t *Terminal)
}

// NewKey makes a host key from 32 bytes.
func NewKey(seed [32]byte) ssh.Signer {
	key, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
	if err != nil {
		panic(err) // an ed25519 key is always taken
	}
	return key
}

// Serve speaks with one client until it goes.
func (s SSH) Serve(conn net.Conn) {
	defer conn.Close()
	config := &ssh.ServerConfig{
		ServerVersion: s.Banner,
		MaxAuthTries:  3,
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if !s.Login(c.User(), string(password)) {
				return nil, errRefused
			}
			return nil, nil
		},
	}
	config.KeyExchanges = s.Exchanges
	config.AddHostKey(s.Key)
	_ = conn.SetDeadline(time.Now().Add(handshake))
	c, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	defer c.Close()
	go ssh.DiscardRequests(requests)
	for wanted := range channels {
		if wanted.ChannelType() != "session" {
			_ = wanted.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, asked, err := wanted.Accept()
		if err != nil {
			return
		}
		if s.shell(channel, asked) {
			s.Shell(c.User(), New(channel, true))
			_, _ = channel.SendRequest("exit-status", false, make([]byte, 4)) // the client may have gone
		}
		_ = channel.Close()
		return // one shell, as small boxes have it
	}
}

type refused struct{}

func (refused) Error() string { return "refused" }

var errRefused = refused{}

// shell waits until the client wants one.
func (s SSH) shell(channel ssh.Channel, asked <-chan *ssh.Request) bool {
	for r := range asked {
		ok := r.Type == "pty-req" || r.Type == "shell" || r.Type == "env"
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
		if r.Type == "shell" {
			go ssh.DiscardRequests(asked)
			return true
		}
	}
	return false
}
