package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
)

// cell is a value of a table that people are shown otherwise than programs.
type cell struct {
	raw   string
	shown string
}

func (c cell) String() string { return c.shown }

// raw prints a value as programs read it: as it is, times in RFC 3339.
func raw(v any) string {
	switch v := v.(type) {
	case cell:
		return v.raw
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.Format(time.RFC3339Nano)
	case nil:
		return ""
	}
	return fmt.Sprint(v)
}

// list prints rows as the --output option asks; as is what JSON shows. A command
// prints one document: what follows the first is for people alone.
func (a *app) list(as any, header []string, rows [][]any, next string) error {
	if a.output != "table" {
		if a.printed {
			return nil
		}
		a.printed = true
	}
	switch a.output {
	case "json":
		text, err := api.MarshalIndent(as)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.out, "%s\n", text)
		return err
	case "csv":
		lines := [][]string{columns(header)}
		for _, r := range rows {
			var line []string
			for _, v := range r {
				line = append(line, raw(v))
			}
			lines = append(lines, line)
		}
		content, err := planfile.Lines(lines)
		if err == nil {
			_, err = a.out.Write(content)
		}
		return err
	}
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true, DrawBorder: false, SeparateColumns: false}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	head := table.Row{}
	for _, h := range header {
		head = append(head, h)
	}
	t.AppendHeader(head)
	for _, r := range rows {
		row := table.Row{}
		for _, v := range r {
			row = append(row, value.PrintableLines(fmt.Sprint(v)))
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
	if next != "" {
		a.say("\n%s", next)
	}
	return nil
}

// columns names the columns of CSV; one that people need no name for is "value".
func columns(header []string) []string {
	var list []string
	for _, h := range header {
		list = append(list, cmp.Or(strings.ToLower(strings.ReplaceAll(h, " ", "-")), "value"))
	}
	return list
}

// finish gives a command that only said something a document of what it said.
func (a *app) finish() error {
	if a.output == "table" || a.printed || len(a.said) == 0 {
		return nil
	}
	var rows [][]any
	for _, text := range a.said {
		rows = append(rows, []any{text})
	}
	return a.list(struct {
		Said []string `json:"said"`
	}{a.said}, []string{"Said"}, rows, "")
}

func addr(a netip.Addr) cell {
	if !a.IsValid() {
		return cell{"", "–"}
	}
	return cell{a.String(), a.String()}
}

func dash(s string) cell { return cell{s, cmp.Or(s, "–")} }

// day prints a time with its day, clock as today's technician reads it; both are
// exact for programs.
func day(t time.Time) cell   { return moment(t, "2 Jan 2006 15:04:05") }
func clock(t time.Time) cell { return moment(t, "15:04:05") }

func moment(t time.Time, form string) cell {
	if t.IsZero() {
		return cell{"", "–"}
	}
	return cell{raw(t), t.Local().Format(form)}
}

func seconds(s float64) string {
	return time.Duration(s * float64(time.Second)).Round(time.Second).String()
}

// follow starts a work and shows its progress until it ends: a bar on a
// terminal, lines in a pipe. One that failed or was cut off is an error. A cut
// (Ctrl-C) stops watching, not the work.
func (a *app) follow(ctx context.Context, c *client.Client, start func() (api.Work, error)) (api.Work, error) {
	var last api.Work
	var failed error
	show := a.progress()
	err := c.Follow(ctx, func(e client.Event) bool {
		switch e.Kind {
		case "hello":
			if last, failed = start(); failed != nil {
				return false
			}
			show.work(last)
			return last.State == state.Running
		case "work":
			var w api.Work
			if failed = json.Unmarshal(e.Data, &w); failed != nil {
				return false
			}
			if w.ID != last.ID {
				return true // another's
			}
			last = w
			show.work(last)
			return last.State == state.Running
		case "run":
			var d api.RunDevice
			if failed = json.Unmarshal(e.Data, &d); failed != nil {
				return false
			}
			if d.Run == last.Run {
				show.device(d)
			}
		}
		return true
	})
	show.end()
	if failed != nil {
		return last, failed
	}
	if ctx.Err() != nil {
		a.say("Not watching any more; the work goes on in the service.")
	}
	if err == nil && broke(last) {
		err = problem.New(problem.Machine, last.Text, "")
	}
	return last, err
}

// broke reports whether a work ended before its time, by no one's wish.
func broke(a api.Work) bool {
	return a.State == state.Failed || a.State == state.Interrupted
}

// progress shows how far a work is.
type progress struct {
	out  io.Writer
	bar  *progressbar.ProgressBar // nil in a pipe
	text string
}

func (a *app) progress() *progress {
	p := &progress{out: a.err}
	if f, ok := a.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.bar = progressbar.NewOptions(1, progressbar.OptionSetWriter(f), progressbar.OptionSetWidth(30),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetPredictTime(false), progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█",
				SaucerPadding: "░", BarStart: "", BarEnd: ""}))
	}
	return p
}

func (p *progress) work(a api.Work) {
	line := a.Text
	if a.Seconds >= 1 {
		line += ", about " + seconds(a.Seconds) + " left"
	}
	if p.bar != nil {
		p.bar.ChangeMax(max(a.Total, 1))
		p.bar.Describe(line)
		_ = p.bar.Set(a.Done) // an unwritable terminal is not the work's concern
		return
	}
	// In a pipe, a line only when the words change; why it broke off is said at the end.
	if a.Text != p.text && a.Kind != api.Finding && a.Kind != api.Making && !broke(a) {
		p.text = a.Text
		fmt.Fprintln(p.out, line)
	}
}

func (p *progress) device(d api.RunDevice) {
	if p.bar != nil && d.State != state.Parked {
		return
	}
	switch d.State {
	case state.Running:
		fmt.Fprintf(p.out, "  %-18s step %d of %d, %s\n", d.Tag, d.Done+1, d.Steps, d.Step)
	case state.Parked:
		fmt.Fprintf(p.out, "  %-18s waits for a hand: %s. When it is done: redstart commission done %s\n", d.Tag,
			d.Hand.Do, d.Tag)
	case state.Waiting:
		fmt.Fprintf(p.out, "  %-18s %s\n", d.Tag, d.Step)
	case state.Failed:
		fmt.Fprintf(p.out, "  %-18s failed: %s\n", d.Tag, d.Error)
	default:
		fmt.Fprintf(p.out, "  %-18s %s\n", d.Tag, d.State)
	}
}

func (p *progress) end() {
	if p.bar != nil {
		_ = p.bar.Clear()
	}
}

// wrap breaks a long text for a table.
func wrap(s string, width int) cell {
	return cell{s, cmp.Or(strings.TrimSpace(text.WrapSoft(s, width)), "–")}
}
