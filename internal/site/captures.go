package site

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/handover"
	"redstart/internal/lan/capture"
	"redstart/internal/store"
)

// captures is the folder of packet captures in the data folder.
const captures = "captures"

// capture begins to keep the packets, sealed, in a file of its own; end makes it whole.
func (s *Site) capture(ctx context.Context) (end func(), name string, err error) {
	at, now := s.segment(), s.plugged()
	if now == nil {
		return nil, "", errNoSegment
	}
	dir := filepath.Join(s.config.Data, captures)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", err
	}
	name = fmt.Sprintf("%s-%s.pcapng"+sealedName, s.store.Key, time.Now().UTC().Format("20060102T150405.000"))
	file, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, "", err
	}
	sealed, err := s.vault.Sealing(ctx, s.store, file)
	if err != nil {
		return nil, "", errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	if err := now.port.Start(sealed, at.name, "Redstart "+api.Version); err != nil {
		return nil, "", problem.New(problem.Conflict, err.Error(), "wait for it to end").
			Because(errors.Join(file.Close(), os.Remove(file.Name())))
	}
	return sync.OnceFunc(func() {
		if err := errors.Join(now.port.Stop(), sealed.Close(), file.Close()); err != nil {
			s.log.Error("the capture is not whole", "file", name, "error", err)
		}
	}), name, nil
}

// sealedName ends the names of captures that are sealed; those of earlier versions are not.
const sealedName = ".age"

// captureFile is where a capture is kept.
func (s *Site) captureFile(name string) string {
	return filepath.Join(s.config.Data, captures, filepath.Base(name))
}

// Capture gives the packets of a survey.
func (s *Site) Capture(ctx context.Context, id int64) (Download, error) {
	list, err := s.store.Surveys(ctx, MostSurveys)
	if err != nil {
		return Download{}, err
	}
	for _, v := range list {
		if v.ID == id && v.Capture != "" {
			content, err := s.packets(ctx, v.Capture)
			return Download{strings.TrimSuffix(v.Capture, sealedName), "application/octet-stream", content}, err
		}
	}
	return Download{}, problem.New(problem.Missing, "this survey kept no packets", "find with --capture")
}

// packets reads what was kept.
func (s *Site) packets(ctx context.Context, name string) ([]byte, error) {
	content, err := os.ReadFile(s.captureFile(name))
	if err != nil {
		return nil, problem.New(problem.Missing, "the capture is gone from the data folder",
			"keep the packets again: --capture").About(name).Because(err)
	}
	if strings.HasSuffix(name, sealedName) {
		return s.vault.Opening(ctx, s.store, bytes.NewReader(content))
	}
	return content, nil
}

// keeping begins to keep the packets of a work, where that is asked for; end makes the capture
// whole, and keeps that it is there unless the work came to nothing.
func (s *Site) keeping(ctx context.Context, asked bool, who string) (end func(what string), err error) {
	if !asked {
		return func(string) {}, nil
	}
	whole, name, err := s.capture(ctx)
	if err != nil {
		return nil, err
	}
	at := store.Now()
	return func(what string) {
		whole()
		if what != "" {
			err = s.store.AddCapture(s.life, store.Capture{At: at, Who: who, What: what, File: name})
		}
		if what == "" || err != nil {
			err = errors.Join(err, os.Remove(s.captureFile(name)))
		}
		if err != nil {
			s.log.Error("the packets are not kept", "file", name, "error", err)
		}
	}, nil
}

// Captures lists the packets of runs and verifications that kept them.
func (s *Site) Captures(ctx context.Context) ([]api.Capture, error) {
	kept, err := s.store.Captures(ctx)
	list := []api.Capture{}
	for _, c := range kept {
		list = append(list, api.Capture{ID: c.ID, At: c.At.Time, Who: c.Who, What: c.What})
	}
	return list, err
}

// ForgetCapture forgets kept packets.
func (s *Site) ForgetCapture(ctx context.Context, id int64) error {
	c, err := s.store.Capture(ctx, id)
	if err != nil {
		return err
	}
	if err := s.store.ForgetCapture(ctx, id); err != nil {
		return err
	}
	_ = os.Remove(s.captureFile(c.File)) // it may have been taken away before
	return nil
}

// HandPackets gives the packets of each device's conversations as a capture of its own, all in
// one archive that is sealed, since what opens the devices may be in it. It is recorded for whom.
func (s *Site) HandPackets(ctx context.Context, id int64, in api.PacketsFor, who string) (Download, error) {
	to, err := handover.Recipients(in.Recipients, in.Passphrase)
	if err != nil {
		return Download{}, err
	}
	kept, err := s.store.Capture(ctx, id)
	if err != nil {
		return Download{}, err
	}
	all, err := s.store.Entries(ctx)
	if err != nil {
		return Download{}, err
	}
	entries, err := choose(all, in.Tags)
	if err != nil {
		return Download{}, err
	}
	tags := map[address.MAC]string{}
	for _, e := range entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Tag
		}
	}
	content, err := s.packets(ctx, kept.File)
	if err != nil {
		return Download{}, err
	}
	parts, err := capture.Split(bytes.NewReader(content), tags, "Redstart "+api.Version)
	if err != nil {
		return Download{}, err
	}
	if len(parts) == 0 {
		return Download{}, problem.New(problem.Missing, "no packet of these devices was kept", "choose others, or another number")
	}
	var out bytes.Buffer
	sealed, err := age.Encrypt(&out, to...)
	if err != nil {
		return Download{}, err
	}
	archive := zip.NewWriter(sealed)
	var named []string
	for i, part := range parts {
		// Tags may differ in what no file name can hold.
		f, err := archive.Create(fmt.Sprintf("%03d-%s.pcapng", i+1, handover.FileName(part.Tag)))
		if err == nil {
			_, err = f.Write(part.Content)
		}
		if err != nil {
			return Download{}, err
		}
		named = append(named, part.Tag)
	}
	if err := errors.Join(archive.Close(), sealed.Close()); err != nil {
		return Download{}, err
	}
	if err := s.store.AddNotes(ctx, named, who, "packets handed over, "+in.Sealed()); err != nil {
		return Download{}, err
	}
	return Download{fmt.Sprintf("%s-packets-%d.zip.age", s.store.Key, id), "application/octet-stream", out.Bytes()}, nil
}
