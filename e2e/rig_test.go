// Package e2e drives the real interfaces: the service on loopback through its
// client, its API, the command line and the console, on the simulated site.
package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/cli"
	"redstart/internal/client"
	"redstart/internal/core/match"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/lan"
	"redstart/internal/segments"
	"redstart/internal/server"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/v2"
	"redstart/internal/sim/skerry"
	"redstart/internal/site"
	"redstart/internal/store/storetest"
	"redstart/internal/survey"
)

// asCLI makes the test binary act as the redstart command in a process of its own.
const asCLI = "REDSTART_E2E_AS_CLI"

func TestMain(m *testing.M) {
	if os.Getenv(asCLI) != "" {
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		code := cli.Main(ctx, os.Args[1:], cli.World{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv})
		stop()
		os.Exit(code)
	}
	// Many services in one process: the room of a single one would have it clear garbage all the time.
	for name, value := range map[string]string{"GOGC": "400", "GOMEMLIMIT": "off"} {
		if err := os.Setenv(name, value); err != nil {
			panic(err)
		}
	}
	debug.SetGCPercent(400)
	handover.PassphraseWork = 10
	code := m.Run()
	if endChromium != nil {
		endChromium()
	}
	os.Exit(code)
}

// alone is the environment of a redstart command in a process of its own: what this one sets for itself is
// no matter of its.
func alone(more ...string) []string {
	env := slices.DeleteFunc(os.Environ(), func(e string) bool {
		return strings.HasPrefix(e, "GOGC=") || strings.HasPrefix(e, "GOMEMLIMIT=")
	})
	return append(append(env, asCLI+"=1"), more...)
}

// quick makes restarts of the simulated devices short.
const quick = 0.1

// buffer is a bytes.Buffer that several goroutines may write.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// watchRound is how often a standing watch asks here.
const watchRound = 500 * time.Millisecond

// rig is a service on loopback with the simulated site plugged in.
type rig struct {
	t    testing.TB
	dir  string
	url  string
	site *skerry.Site
	s    *site.Service
	c    *client.Client
	log  *buffer
	stop func() // ends the service; serve starts the next

	lookOnly bool
	lines    []string      // serial lines that the next service may use
	plugged  []skerry.Line // those at the site's consoles
	reopen   func() (lan.Port, error)
	wrap     func(lan.Port) lan.Port // around the port at the site; nil for none
	more     []segments.Plug         // other segments
	env      map[string]string       // of its commands
	typed    string                  // for the next command
}

// start sets a rig up. Profiles given by name and text replace or add to the bundled ones.
func start(t testing.TB, o skerry.Options, profiles ...string) *rig {
	t.Helper()
	return startAs(t, &rig{}, o, profiles...)
}

func startAs(t testing.TB, r *rig, o skerry.Options, profiles ...string) *rig {
	t.Helper()
	if o.Pace == 0 {
		o.Pace = quick
	}
	r.t, r.dir, r.log = t, t.TempDir(), &buffer{}
	r.site = skerry.Start(o)
	t.Cleanup(r.site.Close)

	if slices.ContainsFunc(r.site.All(), func(b *box.Box) bool { return b.Model.Name == v2.Model.Name }) {
		if r.plugged = plugLines(t, r.site); len(r.plugged) > 0 {
			for _, l := range r.plugged {
				r.lines = append(r.lines, l.Name)
			}
		}
	}
	for i, doc := range profiles {
		r.write(filepath.Join("profiles", fmt.Sprintf("own-%d.yaml", i)), doc)
	}
	t.Cleanup(func() { r.hidden(r.secrets()) })
	r.serve(r.site.Attach())
	return r
}

func plugLines(t testing.TB, site *skerry.Site) []skerry.Line {
	t.Helper()
	lines, err := site.PlugLines()
	if err != nil {
		t.Fatal(err)
	}
	return lines
}

// onLines names the serial lines of those entries that cannot be set without one.
func onLines(t testing.TB, c *client.Client, lines []skerry.Line, of []string) map[string]string {
	t.Helper()
	entries, err := c.Entries(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	named := map[string]string{}
	for _, l := range lines {
		for _, e := range entries {
			if l.Only && e.Device == l.MAC && (of == nil || slices.Contains(of, e.Tag)) {
				named[e.Tag] = l.Name
			}
		}
	}
	return named
}

func (r *rig) write(name, text string) string {
	r.t.Helper()
	path := filepath.Join(r.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		r.t.Fatal(err)
	}
	return path
}

// serve opens a service on the rig's data folder.
func (r *rig) serve(port lan.Port) {
	t := r.t
	t.Helper()
	if r.wrap != nil {
		port = r.wrap(port)
	}
	log := slog.New(slog.NewTextHandler(r.log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	storetest.Begin(t, r.dir)
	s, err := site.Open(context.Background(), site.Config{Data: r.dir,
		Plugs: append([]segments.Plug{{Name: "simulated site", Port: port, Reopen: r.reopen}}, r.more...),
		Round: watchRound, Pace: survey.MostPace, LookOnly: r.lookOnly, Lines: r.lines, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	r.s = s
	s.Accounts.Cost = account.Cost{Rounds: 1, Memory: 64, Lanes: 1} // else passwords are what tests are busy with
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- server.New(s).Serve(ctx, l) }()
	r.stop = sync.OnceFunc(func() {
		stop()
		if err := <-served; err != nil {
			t.Error(err)
		}
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(r.stop)
	if _, err := s.At(ctx, "skerry-point"); err != nil { // a first start
		if _, err := s.AddSite(ctx, skerry.Data(), "test"); err != nil {
			t.Fatal(err)
		}
	}
	token, err := s.Accounts.LocalToken(ctx)
	if err != nil {
		t.Fatal(err)
	}
	r.url = "http://" + l.Addr().String()
	h := client.Handle{URL: r.url, Token: token}
	remove, err := client.WriteHandle(r.dir, h)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(remove)
	r.c = client.New(h).At("skerry-point")
}

// mostPatience is for how long anything may take.
var mostPatience = 5 * time.Minute

// patience bounds every wait for something that must happen.
func patience(t testing.TB) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), mostPatience)
	t.Cleanup(cancel)
	return ctx
}

// do starts a work and waits until it has ended.
func (r *rig) do(begin func(context.Context) (api.Work, error)) api.Work {
	r.t.Helper()
	return follow(r.t, r.c, begin, nil)
}

// follow starts a work, hands each event to see, and waits for the end.
func follow(t testing.TB, c *client.Client, begin func(context.Context) (api.Work, error),
	see func(client.Event)) api.Work {
	t.Helper()
	ctx := patience(t)
	var began, last api.Work
	err := c.Follow(ctx, func(e client.Event) bool {
		if see != nil {
			see(e)
		}
		switch e.Kind {
		case "hello":
			a, err := begin(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if began, last = a, a; a.State != state.Running {
				return false
			}
		case "work":
			var w api.Work
			if decode(t, e.Data, &w); w.ID == began.ID {
				last = w
				return w.State == state.Running
			}
		}
		return true
	})
	if err != nil {
		t.Fatal(err)
	}
	return last
}

// work gives a work as it is.
func (r *rig) work(id int64) api.Work {
	r.t.Helper()
	list, err := r.c.Works(patience(r.t))
	i := slices.IndexFunc(list, func(w api.Work) bool { return w.ID == id })
	if err != nil || i < 0 {
		r.t.Fatalf("work %d is not in sight: %v", id, err)
	}
	return list[i]
}

func (r *rig) find() api.Work {
	r.t.Helper()
	return r.do(func(ctx context.Context) (api.Work, error) { return r.c.Find(ctx, api.FindOptions{}) })
}

func (r *rig) commission(tags ...string) api.Work {
	r.t.Helper()
	return r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(tags)})
	})
}

func (r *rig) verify(tags ...string) api.Work {
	r.t.Helper()
	return r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen(tags)})
	})
}

// chosen are the entries that are named, or all.
func chosen(tags []string) api.Chosen { return api.Chosen{Tags: tags, All: len(tags) == 0} }

// plan imports a plan.
func (r *rig) plan(file string) {
	r.t.Helper()
	if _, err := r.c.Import(patience(r.t), []byte(file), api.ImportOptions{}); err != nil {
		r.t.Fatal(err)
	}
}

// upToMatch imports the plan of the site, finds everything and accepts all proposals.
func (r *rig) upToMatch() {
	r.t.Helper()
	ctx := patience(r.t)
	r.plan(string(r.site.Plan()))
	r.find()
	accepted, err := r.c.Accept(ctx, api.Acceptance{Reasons: match.Reasons})
	if err != nil {
		r.t.Fatal(err)
	}
	if len(accepted) != len(r.site.Boxes) {
		r.t.Fatalf("%d of %d matched", len(accepted), len(r.site.Boxes))
	}
}

func (r *rig) unmatch(tags ...string) error {
	_, err := r.c.UndoMatches(patience(r.t), api.Undo{Tags: tags})
	return err
}

// entries gives the plan by tag.
func (r *rig) entries() map[string]api.EntryView {
	r.t.Helper()
	list, err := r.c.Entries(patience(r.t))
	if err != nil {
		r.t.Fatal(err)
	}
	m := map[string]api.EntryView{}
	for _, e := range list {
		m[e.Tag] = e
	}
	return m
}

// upToVerify does the whole job.
func (r *rig) upToVerify() {
	r.t.Helper()
	r.upToMatch()
	r.commission()
	r.verify()
}

// allVerified says which entry is not.
func (r *rig) allVerified() {
	r.t.Helper()
	for tag, e := range r.entries() {
		if e.State != state.Verified {
			r.t.Errorf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}
}

// entryOf gives the entry that a box is matched with.
func (r *rig) entryOf(b *box.Box) api.EntryView {
	r.t.Helper()
	for _, e := range r.entries() {
		if e.Device == b.MAC {
			return e
		}
	}
	r.t.Fatalf("no entry is matched with %s", b.MAC)
	return api.EntryView{}
}

// expectPlanned compares what a simulated device really has, running and
// saved, with its entry.
func expectPlanned(t testing.TB, b *box.Box, e api.EntryView) {
	t.Helper()
	site := skerry.Data()
	for what, s := range map[string]box.Settings{"running": b.Running(), "saved": b.Saved()} {
		if s.Name != e.Name || s.Address.Addr() != e.Address || s.Address.Bits() != site.Subnets[0].Prefix.Bits() ||
			s.Gateway != site.Subnets[0].Gateway {
			t.Errorf("%s: %s name %q, address %s, gateway %s; planned %q, %s", e.Tag, what, s.Name, s.Address,
				s.Gateway, e.Name, e.Address)
		}
		if s.Password == b.Factory.Password || len(s.Password) < 8 {
			t.Errorf("%s: %s has no password of its own", e.Tag, what)
		}
	}
}

// run runs one command in process and gives what it printed and its exit code.
func run(args ...string) (out, errs string, code int) { return runIn(nil, "", args...) }

// runIn does so with an environment, and with something typed.
func runIn(env map[string]string, typed string, args ...string) (out, errs string, code int) {
	var o, e bytes.Buffer
	code = cli.Main(context.Background(), args, cli.World{In: strings.NewReader(typed), Out: &o, Err: &e,
		Env: func(key string) string {
			if v, ok := env[key]; ok {
				return v
			}
			return map[string]string{"HOME": "/nowhere"}[key]
		}})
	return o.String(), e.String(), code
}

// secrets are what must be nowhere in the open: every password that a box has, and
// all that the vault holds for it.
func (r *rig) secrets() map[string]string {
	secrets := map[string]string{}
	for _, b := range r.site.Boxes {
		for _, p := range []string{b.Running().Password, b.Saved().Password} {
			if p != b.Factory.Password && len(p) >= 8 { // six digits are found in any file
				secrets[p] = "the password of " + b.MAC.String()
			}
		}
	}
	return secrets
}

// hidden searches every byte of the data folder, and of the log, for secrets.
func (r *rig) hidden(secrets map[string]string) {
	r.t.Helper()
	err := filepath.WalkDir(r.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || filepath.Ext(path) == ".csv" { // those that a test itself wrote
			return err
		}
		content, err := os.ReadFile(path)
		for secret, what := range secrets {
			if bytes.Contains(content, []byte(secret)) {
				r.t.Errorf("%s can be read in %s", what, d.Name())
			}
		}
		return err
	})
	if err != nil {
		r.t.Error(err)
	}
	for secret, what := range secrets {
		if strings.Contains(r.log.String(), secret) {
			r.t.Errorf("%s is in the log", what)
		}
	}
}

func ptr[T any](v T) *T { return &v }

// has complains about everything that a text lacks.
func has(t testing.TB, what, text string, wanted ...string) {
	t.Helper()
	for _, w := range wanted {
		if !strings.Contains(text, w) {
			t.Errorf("%s: %q is not in:\n%s", what, w, text)
		}
	}
}
