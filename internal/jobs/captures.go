package jobs

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/handover"
	"redstart/internal/lan/capture"
	"redstart/internal/planning"
	"redstart/internal/segments"
	"redstart/internal/store"
)

// Captures is the folder of packet captures in the data folder.
const Captures = "captures"

// capture begins to keep the packets, sealed, in a file of its own; end makes it whole.
func (s *Site) capture(ctx context.Context) (end func(), name string, err error) {
	at, now := s.segment.Segment(), s.segment.Plugged()
	if now == nil {
		return nil, "", segments.ErrNone
	}
	dir := filepath.Join(s.all.Data, Captures)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", err
	}
	name = fmt.Sprintf("%s-%s.pcapng"+sealedName, s.store.Key, time.Now().UTC().Format("20060102T150405.000"))
	file, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, "", err
	}
	sealed, err := s.all.Vault.At(s.store).Sealing(ctx, file)
	if err != nil {
		return nil, "", errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	if err := now.Port.Start(sealed, at.Name, "Redstart "+api.Version); err != nil {
		return nil, "", problem.New(problem.Conflict, err.Error(), "wait for it to end").
			Because(errors.Join(file.Close(), os.Remove(file.Name())))
	}
	return sync.OnceFunc(func() {
		if err := errors.Join(now.Port.Stop(), sealed.Close(), file.Close()); err != nil {
			s.all.Log.Error("the capture is not whole", "file", name, "error", err)
		}
	}), name, nil
}

// sealedName ends the names of captures that are sealed; those of earlier versions are not.
const sealedName = ".age"

// captureFile is where a capture is kept.
func (s *Site) captureFile(name string) string {
	return filepath.Join(s.all.Data, Captures, filepath.Base(name))
}

// CaptureFiles lists the files of all packets that are kept of the site.
func (s *Site) CaptureFiles(ctx context.Context) (paths []string, err error) {
	kept, err := s.store.Captures(ctx)
	if err != nil {
		return nil, err
	}
	surveys, err := s.store.Surveys(ctx, math.MaxInt32)
	for _, c := range kept {
		paths = append(paths, s.captureFile(c.File))
	}
	for _, v := range surveys {
		if v.Capture != "" {
			paths = append(paths, s.captureFile(v.Capture))
		}
	}
	return paths, err
}

// Capture gives the packets of a survey.
func (s *Site) Capture(ctx context.Context, id int64) (planning.Download, error) {
	list, err := s.store.Surveys(ctx, mostSurveys)
	if err != nil {
		return planning.Download{}, err
	}
	for _, v := range list {
		if v.ID == id && v.Capture != "" {
			content, err := s.packets(ctx, v.Capture)
			return planning.Download{Name: strings.TrimSuffix(v.Capture, sealedName), Kind: "application/octet-stream", Content: content}, err
		}
	}
	return planning.Download{}, problem.New(problem.Missing, "this survey kept no packets", "find with --capture")
}

// packets reads what was kept.
func (s *Site) packets(ctx context.Context, name string) ([]byte, error) {
	content, err := os.ReadFile(s.captureFile(name))
	if err != nil {
		return nil, problem.New(problem.Missing, "the capture is gone from the data folder",
			"keep the packets again: --capture").About(name).Because(err)
	}
	if strings.HasSuffix(name, sealedName) {
		return s.all.Vault.At(s.store).Opening(ctx, bytes.NewReader(content))
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
	at := stamp.Now()
	return func(what string) {
		whole()
		if what != "" {
			err = s.store.AddCapture(s.all.life, store.Capture{At: at, Who: who, What: what, File: name})
		}
		if what == "" || err != nil {
			err = errors.Join(err, os.Remove(s.captureFile(name)))
		}
		if err != nil {
			s.all.Log.Error("the packets are not kept", "file", name, "error", err)
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
func (s *Site) HandPackets(ctx context.Context, id int64, in api.PacketsFor, who string) (planning.Download, error) {
	to, err := handover.Recipients(in.Recipients, in.Passphrase)
	if err != nil {
		return planning.Download{}, err
	}
	kept, err := s.store.Capture(ctx, id)
	if err != nil {
		return planning.Download{}, err
	}
	all, err := s.store.Entries(ctx)
	if err != nil {
		return planning.Download{}, err
	}
	entries, err := planning.Pick(all, in.Tags)
	if err != nil {
		return planning.Download{}, err
	}
	tags := map[address.MAC]string{}
	for _, e := range entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Tag
		}
	}
	content, err := s.packets(ctx, kept.File)
	if err != nil {
		return planning.Download{}, err
	}
	parts, err := capture.Split(bytes.NewReader(content), tags, "Redstart "+api.Version)
	if err != nil {
		return planning.Download{}, err
	}
	if len(parts) == 0 {
		return planning.Download{}, problem.New(problem.Missing, "no packet of these devices was kept", "choose others, or another number")
	}
	var out bytes.Buffer
	sealed, err := age.Encrypt(&out, to...)
	if err != nil {
		return planning.Download{}, err
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
			return planning.Download{}, err
		}
		named = append(named, part.Tag)
	}
	if err := errors.Join(archive.Close(), sealed.Close()); err != nil {
		return planning.Download{}, err
	}
	if err := s.store.AddNotes(ctx, named, who, "packets handed over, "+in.Sealed()); err != nil {
		return planning.Download{}, err
	}
	return planning.Download{Name: fmt.Sprintf("%s-packets-%d.zip.age", s.store.Key, id), Kind: "application/octet-stream", Content: out.Bytes()}, nil
}
