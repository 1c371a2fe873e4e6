package handing

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/works"
)

// Documents are made in the background, a few at a time, into files that nothing else lists;
// the latest ones are kept until others came after them or the service ends. What holds a
// login is never among them.
const (
	mostMade   = 8  // kept
	mostMaking = 16 // under way or waiting
	madeAtOnce = 2  // under way
)

// maker makes one document of a site's record.
type maker struct {
	what, file, kind string
	steps            bool // of runs are in it
	write            func(io.Writer, handover.Record) error
}

func (s *Site) maker(in api.ToMake) (m maker, err error) {
	switch in.Document {
	case api.LabelsDocument:
		o := api.LabelOptions{}
		if in.Labels != nil {
			o = *in.Labels
		}
		if o.Tags == "" {
			o.Tags = strings.Join(in.Tags, ",")
		}
		m = maker{what: in.Document, file: "labels.pdf", kind: "application/pdf"}
		if o.Format == "svg" {
			m.file, m.kind = "labels.zip", "application/zip"
		}
		sheet, err := labelSheet(o)
		if err != nil {
			return m, err
		}
		m.write = func(out io.Writer, r handover.Record) error { return writeLabels(out, r, sheet, o) }
	case api.SheetsDocument:
		if len(in.Tags) == 0 {
			return m, problem.New(problem.Usage, "it is not said for which entries", "give their tags")
		}
		m = maker{what: in.Document, file: "sheets.pdf", kind: "application/pdf", write: func(out io.Writer, r handover.Record) error {
			tags, err := chosenOf(r, strings.Join(in.Tags, ","))
			if err != nil {
				return err
			}
			return handover.Sheets(out, r, tags)
		}}
	default:
		i := slices.IndexFunc(handover.All, func(d *handover.Document) bool { return d.Name == in.Document })
		if i < 0 {
			return m, problem.New(problem.Missing, "there is no such document", "redstart handover lists them").About(in.Document)
		}
		d := handover.All[i]
		m = maker{what: d.Name, file: d.File, kind: d.Kind, steps: d.Steps, write: d.Write}
	}
	m.file = s.store.Key + "-" + m.file
	return m, nil
}

// made is a document that was made.
type made struct{ dir, name string }

func (m *made) path() string { return filepath.Join(m.dir, "document") }

// Make begins to make a document in the background.
func (s *Site) Make(in api.ToMake, who string) (api.Work, error) {
	m, err := s.maker(in)
	if err != nil {
		return api.Work{}, err
	}
	return s.making(m, who, nil)
}

// HandOver begins to make a document for somebody; once it is made it is kept that they have
// it, with the values of then.
func (s *Site) HandOver(in api.ForTaker, who string) (api.Work, error) {
	to, err := takerOf(in.To)
	if err != nil {
		return api.Work{}, err
	}
	m, err := s.maker(in.ToMake)
	if err != nil {
		return api.Work{}, err
	}
	return s.making(m, who, func(ctx context.Context, r handover.Record, sum string) error {
		register, err := handover.Then(r)
		if err != nil {
			return err
		}
		_, err = s.store.AddHandover(ctx, store.Handover{At: stamp.Now(), Who: who, Taker: to, What: in.Document, SHA256: sum,
			Register: register})
		if err != nil {
			return err
		}
		if err := s.seenNow(ctx); err != nil {
			return err
		}
		s.all.Log.Info("something was handed over", "site", s.store.Key, "what", in.Document, "who", who)
		s.all.Hub.Publish(s.store.Key, "handover", struct{}{})
		return nil
	})
}

// making begins to make a document; nil: nobody is to be told.
func (s *Site) making(m maker, who string, then told) (api.Work, error) {
	under := 0
	for _, a := range s.all.Works.List() {
		if a.Kind == api.Making && a.State == state.Running {
			under++
		}
	}
	if under >= mostMaking {
		return api.Work{}, problem.New(problem.Conflict, "many documents are being made already", "wait until some are done")
	}
	first := api.Work{Site: s.store.Key, Kind: api.Making, Who: who, File: m.file, Total: 2, Text: m.file}
	return s.all.Works.Start(first, works.Needs{}, nil, func(ctx context.Context, w *works.Work) error {
		ctx, done := w.Until(ctx)
		defer done()
		return s.makeNow(ctx, w, m, then)
	}, nil)
}

// told is told of a document's sum, and of what it was made from, before anybody can have it.
type told func(ctx context.Context, r handover.Record, sum string) error

func (s *Site) makeNow(ctx context.Context, w *works.Work, m maker, then told) error {
	free, err := s.all.room(ctx)
	if err != nil {
		return err
	}
	defer free()
	began, took := time.Now(), s.tookBefore(m.what)
	next := func(text string) error {
		w.Progress(func(a *api.Work) {
			a.Text, a.Done = m.file+": "+text, a.Done+1
			a.Seconds = max(0, (took - time.Since(began)).Seconds())
		})
		return ctx.Err()
	}
	w.Progress(func(a *api.Work) { a.Text, a.Seconds = m.file+": what is known of the site", took.Seconds() })
	r, err := s.record(ctx, m.steps)
	if err != nil {
		return err
	}
	if err := next(m.file); err != nil {
		return err
	}
	r.Next = next
	if m.what == handover.All[0].Name {
		w.Progress(func(a *api.Work) { a.Total += len(r.Packed()) })
	}
	dir, away, err := s.all.aside()
	if err != nil {
		return err
	}
	kept := false
	defer func() {
		if !kept {
			away()
		}
	}()
	out := &made{dir: dir, name: m.file}
	sum, err := out.fill(m.write, r)
	if err = cmp.Or(err, ctx.Err()); err != nil {
		return err
	}
	if then != nil {
		if err := then(context.WithoutCancel(ctx), r, sum); err != nil { // from here on nothing stops it half way
			return err
		}
	}
	kept = true
	w.Keep(out, func() {
		if err := os.RemoveAll(out.dir); err != nil {
			s.all.Log.Error("a document is left behind", "folder", out.dir, "error", err)
		}
	})
	s.all.mu.Lock()
	s.all.took[s.store.Key+" "+m.what] = time.Since(began)
	s.all.mu.Unlock()
	w.Progress(func(a *api.Work) { a.Text, a.Done = m.file+" is made", a.Total })
	return nil
}

// room waits until few enough documents are being made or read, since each takes memory.
func (s *Handing) room(ctx context.Context) (free func(), err error) {
	select {
	case s.rooms <- struct{}{}:
		return func() { <-s.rooms }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// ForgetMadeOf takes away what was made of a site that is removed.
func (s *Handing) ForgetMadeOf(key string) {
	s.Works.Forget(func(a api.Work) bool { return a.Kind == api.Making && a.Site == key })
}

// tookBefore is how long it took to make a document the last time; 0 if that is not known.
func (s *Site) tookBefore(what string) time.Duration {
	s.all.mu.Lock()
	defer s.all.mu.Unlock()
	return s.all.took[s.store.Key+" "+what]
}

// fill writes the document, and gives its SHA-256.
func (m *made) fill(write func(io.Writer, handover.Record) error, r handover.Record) (sum string, err error) {
	file, err := os.OpenFile(m.path(), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", problem.Disk(err, "the document cannot be written", m.name)
	}
	hash := sha256.New()
	err = write(onDisk{io.MultiWriter(file, hash), m.name}, r)
	if closed := file.Close(); err == nil && closed != nil {
		err = problem.Disk(closed, "the document cannot be written", m.name)
	}
	return hex.EncodeToString(hash.Sum(nil)), err
}

// onDisk says in plain words that what is made cannot be written.
type onDisk struct {
	io.Writer
	name string
}

func (d onDisk) Write(b []byte) (int, error) {
	n, err := d.Writer.Write(b)
	if err != nil {
		err = problem.Disk(err, "the document cannot be written", d.name)
	}
	return n, err
}

// Made gives what a work makes, once it is made; of an archive one file, where that is named.
func (s *Site) Made(ctx context.Context, id int64, member string) (planning.Stored, error) {
	out, err := s.madeBy(ctx, id)
	if err != nil {
		return planning.Stored{}, err
	}
	file, err := os.Open(out.path())
	if err != nil {
		return planning.Stored{}, notKept(id)
	}
	if member == "" {
		return planning.Stored{Name: out.name, Content: file}, nil
	}
	info, err := file.Stat()
	var content io.ReadCloser
	if err == nil {
		content, err = handover.Member(file, info.Size(), out.name, member)
	}
	if err != nil {
		return planning.Stored{}, errors.Join(err, file.Close())
	}
	return planning.Stored{Name: handover.FileName(path.Base(member)), Content: within{content, file}}, nil
}

// within is a file of an archive.
type within struct {
	io.ReadCloser
	archive io.Closer
}

func (w within) Close() error { return errors.Join(w.ReadCloser.Close(), w.archive.Close()) }

// Preview shows what a work makes, once it is made, before anybody gets it.
func (s *Site) Preview(ctx context.Context, id int64, member string) (api.Preview, error) {
	out, err := s.Made(ctx, id, member)
	if err != nil {
		return api.Preview{}, err
	}
	defer out.Content.Close()
	free, err := s.all.room(ctx)
	if err != nil {
		return api.Preview{}, err
	}
	defer free()
	return handover.Look(out.Name, out.Content)
}

// madeBy waits until a work has ended that makes a document.
func (s *Site) madeBy(ctx context.Context, id int64) (*made, error) {
	w := s.all.Works.Find(func(a api.Work) bool { return a.ID == id && a.Kind == api.Making && a.Site == s.store.Key })
	if w == nil {
		return nil, notKept(id)
	}
	a, err := w.Outcome(ctx)
	if err != nil {
		return nil, err
	}
	result, wrong := w.Result()
	switch out, ok := result.(*made); {
	case ok:
		return out, nil
	case wrong != nil:
		return nil, wrong
	}
	return nil, problem.New(problem.Conflict, "it was stopped before it was made", "make it anew").About(a.File)
}

func notKept(id int64) error {
	return problem.New(problem.Missing, "no document is kept under this number", "make it anew").About(fmt.Sprint(id))
}
