package handing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"redstart/internal/api"
	"redstart/internal/archive"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/value"
	"redstart/internal/handover"
	"redstart/internal/jobs"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/profiles"
)

// Forms of the archives.
const (
	siteForm   = "redstart/site/1"
	BackupForm = "redstart/backup/1"
)

// Names in the archives.
const (
	recordsFile = "redstart.db"
	opensFile   = "opens.json"
)

// opens is what opens the devices of a site that moves, and its secrets.
type opens struct {
	Secrets map[string]string `json:"secrets"` // by what stands for them
	Logins  []login           `json:"logins"`  // of each box the oldest first
}

type login struct {
	Number   int64       `json:"number"`
	MAC      address.MAC `json:"mac"`
	User     string      `json:"user"`
	Password string      `json:"password"`
	State    string      `json:"state"`
	StateAt  stamp.Time  `json:"stateAt"`
	MadeAt   stamp.Time  `json:"madeAt"`
	ToldBy   string      `json:"toldBy"`
	Origin   string      `json:"origin"`
	Stamp    string      `json:"stamp"`
}

// leaving begins the names of folders of what is on its way out or in; one that a service left
// behind is taken away when it starts.
const leaving = "leaving-"

// aside gives a folder of its own within the data folder, which done takes away.
func (s *Handing) aside() (dir string, done func(), err error) {
	if dir, err = os.MkdirTemp(s.Data, leaving); err != nil {
		return "", nil, problem.Disk(err, "there is no room for what is on its way", s.Data)
	}
	return dir, func() {
		if err := os.RemoveAll(dir); err != nil {
			s.Log.Error("what was on its way is left behind", "folder", dir, "error", err)
		}
	}, nil
}

// clearAway takes away what a service that was killed left on its way.
func (s *Handing) clearAway() error {
	left, err := filepath.Glob(filepath.Join(s.Data, leaving+"*"))
	for _, dir := range left {
		err = errors.Join(err, os.RemoveAll(dir))
	}
	return err
}

// pack seals an archive into a file that nobody else can reach: it is gone when it is closed.
func (s *Handing) pack(name, form string, to []age.Recipient, fill func(dir string, w *archive.Writer) error) (out planning.Stored, err error) {
	dir, done, err := s.aside()
	if err != nil {
		return planning.Stored{}, err
	}
	defer done()
	file, err := os.OpenFile(filepath.Join(dir, "sealed"), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return planning.Stored{}, problem.Disk(err, "the archive cannot be written", name)
	}
	w, err := archive.Seal(file, form, to...)
	if err == nil {
		if err = fill(dir, w); err == nil {
			err = w.Close()
		}
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		err = errors.Join(err, file.Close())
		if !errors.As(err, new(*problem.Error)) {
			err = problem.Disk(err, "the archive cannot be written", name)
		}
		return planning.Stored{}, err
	}
	return planning.Stored{Name: name, Content: file}, nil
}

// Backup seals everything that the service keeps, as it is at one moment, while it works. Only
// the key file of the vault and a passphrase open what the vault sealed: the former is in it.
func (s *Handing) Backup(ctx context.Context, in api.SealTo, who string) (planning.Stored, error) {
	to, err := handover.Recipients(in.Recipients, in.Passphrase)
	if err != nil {
		return planning.Stored{}, err
	}
	out, err := s.pack("redstart-backup.age", BackupForm, to, func(dir string, w *archive.Writer) error {
		return s.Store.KeepingFiles(func(files string) error {
			records := filepath.Join(dir, recordsFile)
			if err := s.Store.Snapshot(ctx, records); err != nil {
				return err
			}
			w.File(recordsFile, records)
			w.Folder("files", files)
			for _, folder := range []string{"profiles", jobs.Captures} {
				w.Folder(folder, filepath.Join(s.Data, folder))
			}
			for _, name := range []string{"vault.key", "vault.key.next", "tls.pem", "tls-key.pem"} {
				path := filepath.Join(s.Data, name)
				if _, err := os.Stat(path); err == nil {
					w.File(name, path)
				}
			}
			return nil
		})
	})
	if err == nil {
		s.Log.Info("a backup was made", "who", who)
	}
	return out, err
}

// SealSite seals the whole site, with what opens its devices, for another service, and records
// for whom.
func (s *Site) SealSite(ctx context.Context, in api.SealTo, who string) (planning.Stored, error) {
	to, err := handover.Recipients(in.Recipients, in.Passphrase)
	if err != nil {
		return planning.Stored{}, err
	}
	if err := s.all.Plans.Unlocked(); err != nil {
		return planning.Stored{}, err
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return planning.Stored{}, err
	}
	var tags []string
	used := map[string]bool{}
	for _, e := range entries {
		tags, used[e.Profile] = append(tags, e.Tag), true
	}
	out, err := s.all.pack(s.store.Key+"-site.age", siteForm, to, func(dir string, w *archive.Writer) error {
		return s.all.Store.KeepingFiles(func(files string) error {
			records := filepath.Join(dir, recordsFile)
			if err := s.store.Snapshot(ctx, records); err != nil {
				return err
			}
			w.File(recordsFile, records)
			kept, err := s.store.Files(ctx)
			if err != nil {
				return err
			}
			packed := map[string]bool{}
			for _, f := range kept {
				if !packed[f.SHA256] {
					w.File("files/"+f.SHA256, filepath.Join(files, f.SHA256))
				}
				packed[f.SHA256] = true
			}
			set := s.all.Plans.Profiles()
			for _, id := range slices.Sorted(maps.Keys(used)) {
				if q := set[id]; q != nil && len(q.Source) > 0 {
					w.Add("profiles/"+id+".yaml", string(q.Source))
				}
			}
			doc, err := s.whatOpens(ctx)
			if err != nil {
				return err
			}
			w.Add(opensFile, string(doc))
			return nil
		})
	})
	if err != nil {
		return planning.Stored{}, err
	}
	// It is recorded before anybody has it.
	if err := s.store.AddNotes(ctx, tags, who, "site handed over with what opens its devices, "+in.Sealed()); err != nil {
		return planning.Stored{}, errors.Join(err, out.Content.Close())
	}
	s.all.Log.Info("a site was handed over", "site", s.store.Key, "who", who)
	return out, nil
}

// whatOpens gives what opens the site's devices, and its secrets, as JSON.
func (s *Site) whatOpens(ctx context.Context) ([]byte, error) {
	var o opens
	var err error
	if o.Secrets, err = s.all.Vault.At(s.store).Secrets(ctx); err != nil {
		return nil, err
	}
	boxes, err := s.store.Boxes(ctx)
	if err != nil {
		return nil, err
	}
	for _, mac := range boxes {
		logins, err := s.all.Vault.Logins(ctx, mac)
		if err != nil {
			return nil, err
		}
		for _, l := range slices.Backward(logins) {
			o.Logins = append(o.Logins, login{l.ID, mac, l.User, l.Password, l.State, l.At, l.MadeAt, l.ToldBy, l.Origin, l.Stamp})
		}
	}
	return json.Marshal(o)
}

// coming is a site that came in a file, taken apart and not taken in.
type coming struct {
	*store.Archived
	dir      string
	opens    opens
	profiles map[string]string // texts by id
	files    []store.File
	says     api.Coming
}

// TakeSite takes in a site from a file that was opened, under another key if one is given; a
// preview only says what would come, and what stands in the way.
func (s *Handing) TakeSite(ctx context.Context, in io.Reader, key string, preview bool, who string) (api.Coming, error) {
	dir, done, err := s.aside()
	if err != nil {
		return api.Coming{}, err
	}
	defer done()
	c := &coming{dir: filepath.Join(dir, "site"), profiles: map[string]string{}}
	if err := archive.Unpack(in, siteForm, c.dir); err != nil {
		return api.Coming{}, err
	}
	if c.Archived, err = store.OpenArchived(ctx, filepath.Join(c.dir, recordsFile)); err != nil {
		return api.Coming{}, err
	}
	defer c.Close()
	if err := c.read(ctx); err != nil {
		return api.Coming{}, problem.New(problem.Usage, "the site in it cannot be read", "get the file anew").Because(err)
	}
	if key != "" {
		c.says.Key = key
	}
	defer s.Plans.Hold()()
	if err := s.conflicts(ctx, c); err != nil {
		return api.Coming{}, err
	}
	if preview {
		return c.says, nil
	}
	if len(c.says.Conflicts) > 0 {
		return c.says, problem.New(problem.Conflict, strings.Join(c.says.Conflicts, "; "), "see first what would come: --preview; another key is given with --as")
	}
	if err := s.Plans.Unlocked(); err != nil {
		return api.Coming{}, err
	}
	if err := s.bring(ctx, c, who); err != nil {
		return api.Coming{}, err
	}
	s.Log.Info("a site was taken in", "site", c.says.Key, "who", who)
	s.Hub.Publish("", "sites", struct{}{})
	return c.says, nil
}

// read reads everything once: what cannot be read is not taken in.
func (c *coming) read(ctx context.Context) error {
	data, err := c.Data(ctx)
	if err == nil {
		err = data.Check()
	}
	entries, errEntries := c.Entries(ctx)
	devices, errDevices := c.Devices(ctx)
	_, errChecks := c.AllChecks(ctx)
	_, errEdits := c.EditsBetween(ctx, 0, 1<<62)
	_, errRuns := c.OpenRuns(ctx)
	files, errFiles := c.Files(ctx)
	if err := errors.Join(err, errEntries, errDevices, errChecks, errEdits, errRuns, errFiles); err != nil {
		return err
	}
	c.files = files
	for _, f := range files {
		if _, err := os.Stat(filepath.Join(c.dir, "files", filepath.Base(f.SHA256))); err != nil {
			return fmt.Errorf("the file %s is not in it: %w", f.Name, err)
		}
	}
	doc, err := os.ReadFile(filepath.Join(c.dir, opensFile))
	if err == nil {
		err = json.Unmarshal(doc, &c.opens)
	}
	if err != nil {
		return err
	}
	texts, err := os.ReadDir(filepath.Join(c.dir, "profiles"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, f := range texts {
		text, err := os.ReadFile(filepath.Join(c.dir, "profiles", f.Name()))
		if err != nil {
			return err
		}
		q, err := profiles.Parse(text)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		c.profiles[q.ID] = string(text)
	}
	c.says = api.Coming{Name: c.Name, Key: c.Key, Entries: len(entries), Devices: len(devices), Logins: len(c.opens.Logins),
		Files: len(files), Conflicts: []string{}, Notes: []string{}}
	return nil
}

// conflicts says what stands in the way, and what is worth a word.
func (s *Handing) conflicts(ctx context.Context, c *coming) error {
	sites, err := s.Store.Sites(ctx)
	if err != nil {
		return err
	}
	if plan.KeyFrom(c.says.Key) != c.says.Key {
		c.says.Conflicts = append(c.says.Conflicts, fmt.Sprintf("%q is no key of a site", c.says.Key))
	}
	theirs := map[address.MAC]string{}
	entries, err := c.Entries(ctx)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !e.Device.IsZero() {
			theirs[e.Device] = e.Tag
		}
	}
	for _, data := range sites {
		if data.Key == c.says.Key {
			c.says.Conflicts = append(c.says.Conflicts, "there is a site with the key "+data.Key+" already")
		}
		at, err := s.Store.At(ctx, data.Key)
		if err != nil {
			return err
		}
		list, err := at.Entries(ctx)
		if err != nil {
			return err
		}
		same := 0
		for _, e := range list {
			if theirs[e.Device] != "" {
				same++
			}
		}
		if same > 0 {
			c.says.Notes = append(c.says.Notes, fmt.Sprintf("%s of it are matched in %s too", value.Count(same, "device"), data.Name))
		}
	}
	known, err := s.Store.Opening(ctx)
	if err != nil {
		return err
	}
	here := map[address.MAC]bool{}
	for _, l := range c.opens.Logins {
		if _, opens := known[l.MAC]; opens {
			here[l.MAC] = true
		}
	}
	if len(here) > 0 {
		c.says.Notes = append(c.says.Notes, fmt.Sprintf("for %s this service has logins of its own; they stay in use, and the others are kept beside", value.Count(len(here), "device")))
	}
	set := s.Plans.Profiles()
	for _, id := range slices.Sorted(maps.Keys(c.profiles)) {
		switch q := set[id]; {
		case q == nil:
			c.says.Notes = append(c.says.Notes, "the profile "+id+" comes with it")
		case string(q.Source) != c.profiles[id]:
			c.says.Notes = append(c.says.Notes, "the profile "+id+" is another there; the one of this service is used")
		}
	}
	return nil
}

// bring takes in what came.
func (s *Handing) bring(ctx context.Context, c *coming, who string) (err error) {
	seal, keyID, done, err := s.Vault.Sealer()
	if err != nil {
		return err
	}
	defer done()
	// Files and profiles come first: nothing lists them before the site does.
	set := s.Plans.Profiles()
	var brought []string
	defer func() {
		if err == nil {
			return
		}
		for _, path := range brought {
			err = errors.Join(err, os.Remove(path))
		}
	}()
	for _, id := range slices.Sorted(maps.Keys(c.profiles)) {
		if set[id] == nil {
			path := filepath.Join(s.Data, "profiles", id+".yaml")
			if _, err := os.Stat(path); err == nil {
				return problem.New(problem.Conflict, "a file of the profile is there, and cannot be used", "mend or remove it").About(path)
			}
			brought = append(brought, path)
			if err := os.WriteFile(path, []byte(c.profiles[id]), 0o600); err != nil {
				return problem.Disk(err, "the profile cannot be written", path)
			}
		}
	}
	return s.Store.KeepingFiles(func(folder string) error {
		for _, f := range c.files {
			if err := store.BringFile(filepath.Join(c.dir, "files", filepath.Base(f.SHA256)), folder, f.SHA256); err != nil {
				return err
			}
		}
		_, err := s.Store.TakeIn(ctx, c.Archived, c.says.Key, who, func(site int64) (store.Incoming, error) {
			comes := store.Incoming{Tokens: map[string]string{}, Secrets: map[string][]byte{}, KeyID: keyID}
			for token, secret := range c.opens.Secrets {
				fresh, ok := vault.Renamed(token, c.ID, site)
				if !ok {
					return comes, fmt.Errorf("%.40q stands for no secret", token)
				}
				comes.Tokens[token], comes.Secrets[fresh] = fresh, seal(fresh, secret)
			}
			for _, l := range c.opens.Logins {
				x := store.Credential{ID: l.Number, MAC: l.MAC, User: l.User, MadeAt: l.MadeAt, State: l.State, StateAt: l.StateAt, ToldBy: l.ToldBy,
					Origin: l.Origin, Stamp: l.Stamp, KeyID: keyID}
				x.Sealed = seal(x.Bound(), l.Password)
				comes.Credentials = append(comes.Credentials, x)
			}
			return comes, nil
		})
		return err
	})
}
