package e2e

import (
	"bufio"
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/state"
	"redstart/internal/lan/segment"
	"redstart/internal/lan/vxlan"
	"redstart/internal/sim/skerry"
)

// process is the redstart command in a process of its own.
type process struct {
	cmd   *exec.Cmd
	lines *buffer
	ready chan struct{} // closes when the process said the awaited word
	done  chan struct{} // closes when it has ended
}

// spawn starts a process and waits until it prints a line with word.
func spawn(t testing.TB, word, dir string, command ...string) *process {
	t.Helper()
	p := &process{cmd: exec.Command(command[0], command[1:]...), lines: &buffer{}, ready: make(chan struct{}),
		done: make(chan struct{})}
	p.cmd.Env = alone("REDSTART_DATA=" + dir)
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	p.cmd.Stderr = p.lines
	if err := startMortal(p.cmd, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	go func() {
		defer close(p.done)
		said := false
		for lines := bufio.NewScanner(out); lines.Scan(); {
			_, _ = p.lines.Write(append(lines.Bytes(), '\n'))
			if !said && strings.Contains(lines.Text(), word) {
				said = true
				close(p.ready)
			}
		}
		_ = p.cmd.Wait() // being killed is the point
	}()
	t.Cleanup(p.kill)
	select {
	case <-p.ready:
	case <-p.done:
		t.Fatalf("%v ended:\n%s", command, p.lines)
	case <-patience(t).Done():
		t.Fatalf("%v never said %q:\n%s", command, word, p.lines)
	}
	return p
}

// kill ends the process as a power cut would.
func (p *process) kill() {
	_ = p.cmd.Process.Kill() // it may have ended already
	<-p.done
}

// offer puts a simulated site into a tunnel on loopback and gives its address.
func offer(t testing.TB, site *skerry.Site) string {
	t.Helper()
	end, err := vxlan.Listen("127.0.0.1:0", address.MAC{2, 0x52, 0x53, 0, 0, 1})
	if err != nil {
		t.Fatal(err)
	}
	var bridging sync.WaitGroup
	bridging.Add(1)
	go func() {
		defer bridging.Done()
		segment.Bridge(site.Attach(), end)
	}()
	t.Cleanup(func() {
		end.Close()
		bridging.Wait()
	})
	return end.Addr().String()
}

// The service is killed in the middle of a run, again and again, at points that
// lie in different steps. Every time, commission goes on and loses nothing.
func TestARunGoesOnAfterTheServiceWasKilled(t *testing.T) {
	t.Parallel()
	site := skerry.Start(skerry.Options{Seed: 11, Pace: quick})
	t.Cleanup(site.Close)
	tunnel, dir := offer(t, site), t.TempDir()
	serve := []string{os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", tunnel}
	p := spawn(t, "Segment:", dir, serve...)
	if !strings.Contains(p.lines.String(), "First start: sign in as \"owner\"") {
		t.Errorf("the first start showed no sign-in:\n%s", p.lines)
	}
	c := open(t, dir)
	ctx := patience(t)
	toMatched(t, c, string(site.Plan()))
	begin := func(ctx context.Context) (api.Work, error) {
		return c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}
	for _, moves := range []int{3, 25, 60, 90} {
		killAfter(t, p, c, begin, moves)
		p = spawn(t, "Segment:", dir, serve...)
		c = open(t, dir)
		run, ok, err := c.LatestRun(ctx)
		if err != nil || !ok || run.ID != 1 {
			t.Fatalf("the run is lost: %+v, %v", run, err)
		}
		if run.State == state.Done {
			t.Logf("the run was done before %d moves", moves)
			break
		}
		if run.State != state.Interrupted {
			t.Errorf("after kill -9 the run is %s", run.State)
		}
		begin = func(ctx context.Context) (api.Work, error) { return c.Resume(ctx, 1) }
	}
	// The last time through the command line, as a technician would go on.
	out, errs, code := run("commission", "--data", dir)
	if code != 0 {
		t.Fatalf("commission after the kill: exit code %d\n%s%s", code, out, errs)
	}
	has(t, "commission", out+errs, "20 of 20 configured")
	if out, errs, code = run("verify", "--data", dir); code != 0 {
		t.Fatalf("verify: exit code %d\n%s%s", code, out, errs)
	}
	entries, err := c.Entries(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.State != state.Verified {
			t.Errorf("%s is %s: %s", e.Tag, e.State, e.Reason)
		}
		for _, b := range site.Boxes {
			if b.MAC != e.Device {
				continue
			}
			expectPlanned(t, b, e)
			// Promise 3: a stored credential opens every device.
			if shown, err := c.Reveal(ctx, e.Tag, "", ""); err != nil || shown.Password != b.Running().Password {
				t.Errorf("%s: the stored password is not the device's (%v)", e.Tag, err)
			}
		}
	}
	// Stopped in the ordinary way, the service takes its handle with it.
	_ = p.cmd.Process.Signal(os.Interrupt) // checked by what follows
	<-p.done
	if _, err := client.Open(ctx, dir); err == nil {
		t.Error("the handle of a stopped service is still there")
	}
}

// toMatched takes a fresh service as far as every box has its entry.
func toMatched(t testing.TB, c *client.Client, plan string) {
	t.Helper()
	ctx := patience(t)
	if _, err := c.AddSite(ctx, skerry.Data()); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Import(ctx, []byte(plan), api.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	follow(t, c, func(ctx context.Context) (api.Work, error) { return c.Find(ctx, api.FindOptions{}) }, nil)
	if _, err := c.Accept(ctx, api.Acceptance{Reasons: match.Reasons}); err != nil {
		t.Fatal(err)
	}
}

func open(t testing.TB, dir string) *client.Client {
	t.Helper()
	c, err := client.Open(patience(t), dir)
	if err != nil {
		t.Fatal(err)
	}
	return c.At("skerry-point")
}

// killAfter begins or goes on with a run and kills the service after the
// devices have moved on so often.
func killAfter(t testing.TB, p *process, c *client.Client, begin func(context.Context) (api.Work, error), moves int) {
	t.Helper()
	var failed error
	// The error that the client reports is that the service went away.
	_ = c.Follow(patience(t), func(e client.Event) bool {
		switch e.Kind {
		case "hello":
			_, failed = begin(patience(t))
		case "run":
			moves--
		case "work":
			var a api.Work
			decode(t, e.Data, &a)
			if a.Kind == api.Commissioning && a.State == state.Done {
				return false
			}
		}
		return failed == nil && moves > 0
	})
	if failed != nil && !errors.Is(failed, errOver) {
		t.Fatal(failed)
	}
	p.kill()
}

// errOver says that there is nothing left to begin.
var errOver = errors.New("all runs have ended")
