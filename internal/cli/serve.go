package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"redstart/internal/account"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/adapter"
	"redstart/internal/lan/vxlan"
	"redstart/internal/segments"
	"redstart/internal/server"
	"redstart/internal/site"
	"redstart/internal/survey"
)

const usualAddress = "127.0.0.1:8427"

func (a *app) serve() *cobra.Command {
	var listen, below, cert, key string
	var lookOnly bool
	var ifaces, tunnels, lines []string
	var pace int
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service, with its console, on this computer",
		Long: `Runs the service until it is stopped. With --interface it is plugged into the
segment behind a network interface, or with several into several; each site says
which of them it uses. eth1.108 is the virtual LAN 108 on eth1 (IEEE 802.1Q), also
where the computer itself has no interface for it. The service needs the right to
send raw frames (CAP_NET_RAW) and never changes the computer's own addresses.`,
		Example: "  redstart serve --interface eth1\n  redstart serve --interface eth1.108 --interface eth1.109",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if pace < 0 || pace > survey.MostPace {
				return &usageError{survey.ErrPace}
			}
			plugs, err := openPlugs(ifaces, tunnels)
			if err != nil {
				return err
			}
			cert, key, err := certificateFor(a.data, listen, below, cert, key)
			var l net.Listener
			var pin string
			var secured *tls.Config
			if err == nil {
				l, pin, secured, err = listenAt(listen, below, cert, key)
			}
			if err != nil {
				return errors.Join(err, closePlugs(plugs))
			}
			s, err := site.Open(cmd.Context(), site.Config{Data: a.data, Plugs: plugs, LookOnly: lookOnly, Lines: lines,
				Pace: pace, Log: a.log(false), PagesBelow: below, Secured: secured})
			if err != nil {
				return errors.Join(err, l.Close())
			}
			defer s.Close()
			return a.run(cmd.Context(), s, l, pin, func(url string) error {
				password, err := s.Accounts.FirstStart(cmd.Context())
				if err != nil {
					return err
				}
				a.say("Redstart serves %s", url)
				if pin != "" {
					a.say("Certificate, SHA-256: %s", pin)
				}
				if password != "" {
					a.say("First start: sign in as %q with the password %s (shown only now).", account.Owner, password)
				}
				for _, p := range plugs {
					a.say("Segment: %s", p.Name)
				}
				if len(plugs) == 0 {
					a.say("Not plugged into a segment: plan only. Start with --interface NAME to find devices.")
				}
				if lookOnly {
					a.say("It only looks: no device can be set, and no address handed out.")
				}
				return nil
			})
		},
	}
	c.Flags().StringVar(&listen, "listen", usualAddress,
		"`address` of console and API; other than loopback only over TLS")
	c.Flags().StringArrayVarP(&ifaces, "interface", "i", nil,
		"network `interface` that devices are on, or a virtual LAN on one (eth1.108); may be given again")
	c.Flags().StringArrayVar(&lines, "line", nil,
		"serial `line` that consoles may hang on, like /dev/ttyUSB0; may be given again")
	c.Flags().BoolVar(&lookOnly, "look-only", false,
		"let nothing out but questions: no device can be set, and no address handed out")
	c.Flags().IntVar(&pace, "pace", 0,
		fmt.Sprintf("`frames` per second of surveys that are not told another pace; %d unless given", survey.Normal))
	c.Flags().StringArrayVar(&tunnels, "vxlan", nil,
		"loopback `address` of a simulated site (redstart sim --vxlan); may be given again")
	c.Flags().StringVar(&cert, "certificate", "",
		"PEM `file` with the TLS certificate; one is made if needed and not given")
	c.Flags().StringVar(&below, "pages-below", "",
		"`name` below which each box's own page gets a name, for other computers; each must lead here")
	c.Flags().StringVar(&key, "key", "", "PEM `file` with the TLS key")
	c.MarkFlagsRequiredTogether("certificate", "key")
	return c
}

// run serves until the context ends, over TLS if pin names a certificate. ready
// is called with the console's address once commands can reach the service.
func (a *app) run(ctx context.Context, s *site.Service, l net.Listener, pin string,
	ready func(url string) error) error {
	site.GiveRoom(ctx)
	token, err := s.Accounts.LocalToken(ctx)
	if err != nil {
		return err
	}
	url := "http://" + l.Addr().String()
	if pin != "" {
		url = "https://" + l.Addr().String()
	}
	served := make(chan error, 1)
	go func() { served <- server.New(s).Serve(ctx, l) }() // the listener takes calls from now on
	remove, err := client.WriteHandle(a.data, client.Handle{URL: url, Token: token, Pin: pin})
	if err != nil {
		return errors.Join(err, l.Close(), <-served)
	}
	defer remove()
	if err := ready(url); err != nil {
		return errors.Join(err, l.Close(), <-served)
	}
	return <-served
}

// ourMAC is a locally administered address for ports that have none of their own.
var ourMAC = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}

// openPlugs opens the segments that a service begins with.
func openPlugs(ifaces, tunnels []string) ([]segments.Plug, error) {
	var plugs []segments.Plug
	add := func(name string, open func() (lan.Port, error)) error {
		if slices.ContainsFunc(plugs, func(p segments.Plug) bool { return p.Name == name }) {
			return &usageError{fmt.Errorf("%s is named twice", name)}
		}
		p, err := open()
		if err == nil {
			plugs = append(plugs, segments.Plug{Name: name, Port: p, Reopen: open})
		}
		return err
	}
	var err error
	for _, name := range ifaces {
		if err == nil {
			err = add(name, func() (lan.Port, error) { return adapter.Open(name, false) })
		}
	}
	for _, at := range tunnels {
		if err == nil {
			err = add("simulated site at "+at, func() (lan.Port, error) { return vxlan.Dial(at, ourMAC) })
		}
	}
	if err != nil {
		return nil, errors.Join(err, closePlugs(plugs))
	}
	return plugs, nil
}

func closePlugs(plugs []segments.Plug) (err error) {
	for _, p := range plugs {
		err = errors.Join(err, p.Port.Close())
	}
	return err
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// certificateFor gives the certificate to listen with: the one given, none on
// loopback, and else one that the service makes for itself.
func certificateFor(dir, at, below, cert, key string) (string, string, error) {
	host, _, err := net.SplitHostPort(at)
	if err != nil || cert != "" || isLoopback(host) {
		return cert, key, nil // listenAt says what is wrong with the address
	}
	return selfMade(dir, host, below)
}

// listenAt opens the console's address, and gives the pin of its certificate if
// it has one. Other than loopback needs TLS.
func listenAt(at, below, cert, key string) (l net.Listener, pin string, secured *tls.Config, err error) {
	host, _, err := net.SplitHostPort(at)
	if err != nil {
		return nil, "", nil, problem.New(problem.Usage, at+" is not an address with a port",
			"write it like "+usualAddress).About("--listen")
	}
	if cert == "" && !isLoopback(host) {
		return nil, "", nil, problem.New(problem.Usage, "other computers may reach "+at+
			", and without TLS they could read everything", "listen on 127.0.0.1").About("--listen")
	}
	l, err = net.Listen("tcp", at)
	if err != nil {
		return nil, "", nil, problem.New(problem.Machine, "cannot listen at "+at,
			"stop what uses it, or choose another with --listen").About("--listen").Because(err)
	}
	if cert == "" {
		return l, "", nil, nil
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, "", nil, problem.New(problem.Usage, "the certificate and key do not fit or cannot be read",
			"give a PEM file for each").About(filepath.Base(cert)).Because(errors.Join(err, l.Close()))
	}
	if below != "" && pair.Leaf.VerifyHostname("box."+below) != nil {
		return nil, "", nil, problem.New(problem.Usage, "the certificate is not good for the names below "+below,
			"give one for *."+below+", or none: one is made then").About("--pages-below").Because(l.Close())
	}
	secured = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	return tls.NewListener(l, secured), client.Pin(pair.Certificate[0]), secured, nil
}
