package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"redstart/internal/archive"
	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
	"redstart/internal/handing"
	"redstart/internal/store"
)

// saveTo has a file written whole or not at all, in the place of one that is there.
func (a *app) saveTo(path string, write func(io.Writer) error) error {
	if path == "-" {
		return write(a.out)
	}
	part := path + ".part"
	f, err := create(part)
	if err != nil {
		return err
	}
	err = write(f)
	if err == nil {
		if err = f.Sync(); err != nil {
			err = problem.Disk(err, "the file cannot be written", path)
		}
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(part, path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(part))
	}
	a.say("Written: %s", path)
	return nil
}

// siteExport seals a whole site for another service.
func (a *app) siteExport() *cobra.Command {
	var seal sealFlags
	c := &cobra.Command{Use: "export FILE", Short: "Write the whole site, sealed, for a colleague's service",
		Long: `Seals the plan with its subnets and history, files, profiles, matches, runs, checks and what opens
the devices (age-encryption.org/v1), for the colleague who goes on with it: redstart site import.
The history of every entry says for whom.`,
		Args: cobra.ExactArgs(1), RunE: a.with(func(ctx context.Context, c *client.Client, args []string) error {
			to, err := seal.ask(a)
			if err != nil {
				return err
			}
			return a.saveTo(args[0], func(out io.Writer) error { return c.SealSite(ctx, to, out) })
		})}
	seal.add(c)
	return c
}

// siteImport takes in a site that another service sealed.
func (a *app) siteImport() *cobra.Command {
	var identity, as string
	var preview bool
	c := &cobra.Command{Use: "import FILE", Short: "Take in a site that another service wrote, all or nothing",
		Long: `Opens the file here, with --identity or its passphrase, and takes the site in with its plan, history,
matches and what opens its devices. --preview only says what would come and what stands in the
way. A site of the same key is never touched: --as gives another one.`,
		Args: cobra.ExactArgs(1), RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			open, done, err := a.openSealed(args[0], identity)
			if err != nil {
				return err
			}
			defer done()
			out, err := c.TakeSite(ctx, open, as, preview)
			if damaged := open.Err(); damaged != nil {
				return damaged // which is why it was cut off
			}
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.list(out, []string{"Key", "Site", "Entries", "Devices", "Logins", "Files", "In the way", "Notes"}, [][]any{{out.Key, out.Name, out.Entries,
					out.Devices, out.Logins, out.Files, strings.Join(out.Conflicts, "; "), strings.Join(out.Notes, "; ")}}, "")
			}
			a.say("%s (%s): %s, %s, %s, %s.", out.Name, out.Key, value.Count(out.Entries, "entry"), value.Count(out.Devices, "found device"),
				value.Count(out.Logins, "login"), value.Count(out.Files, "file"))
			for _, note := range out.Notes {
				a.say("Note: %s.", note)
			}
			for _, text := range out.Conflicts {
				a.say("In the way: %s.", text)
			}
			if preview {
				a.say("Nothing was taken in.")
				return nil
			}
			a.say("Taken in. Next: redstart --site %s verify", out.Key)
			return nil
		})}
	c.Flags().StringVar(&identity, "identity", "", "`file` with the key that opens it, as age-keygen writes it")
	c.Flags().StringVar(&as, "as", "", "`key` that the site gets here")
	c.Flags().BoolVar(&preview, "preview", false, "only say what would come, and what stands in the way")
	return c
}

// openSealed opens a sealed file for reading.
func (a *app) openSealed(path, identity string) (open *archive.Opened, done func() error, err error) {
	keys, err := a.identities(identity)
	if err != nil {
		return nil, nil, err
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, nil, problem.Disk(err, "the file cannot be read", path)
	}
	if open, err = archive.Open(file, keys...); err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return open, file.Close, nil
}

// identities reads the keys of a file, or asks for a passphrase.
func (a *app) identities(identity string) ([]age.Identity, error) {
	if identity != "" {
		content, err := readFile(identity)
		if err != nil {
			return nil, err
		}
		keys, err := age.ParseIdentities(strings.NewReader(string(content)))
		if err != nil {
			return nil, problem.New(problem.Usage, "the file holds no key that opens anything", "give what age-keygen wrote").
				About(identity)
		}
		return keys, nil
	}
	passphrase, err := a.ask("passphrase of the file")
	if err != nil {
		return nil, err
	}
	key, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, problem.New(problem.Usage, "this is no passphrase", "type it, or name the key with --identity")
	}
	return []age.Identity{key}, nil
}

// backup seals everything that the service keeps.
func (a *app) backup() *cobra.Command {
	var seal sealFlags
	c := &cobra.Command{Use: "backup FILE", Short: "Write everything that the service keeps, sealed, while it works",
		Long: `Seals all sites with their files, profiles and kept packets, people, tokens and the vault with its key
file, as they are at one moment (age-encryption.org/v1). redstart restore makes a data folder of it.`,
		Args: cobra.ExactArgs(1), RunE: a.anywhere(func(ctx context.Context, c *client.Client, args []string) error {
			to, err := seal.ask(a)
			if err != nil {
				return err
			}
			return a.saveTo(args[0], func(out io.Writer) error { return c.Backup(ctx, to, out) })
		})}
	seal.add(c)
	return c
}

// restore makes a data folder of a backup.
func (a *app) restore() *cobra.Command {
	var identity string
	c := &cobra.Command{Use: "restore FILE", Short: "Make the data folder that a backup is of; there must be none yet",
		Long: `Opens a backup with --identity or its passphrase and makes the data folder of it, which must be empty
or not be there. It is whole, or not there at all. No service may be running on it.`,
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			if list, err := os.ReadDir(a.data); err == nil && len(list) > 0 || err != nil && !errors.Is(err, os.ErrNotExist) {
				return problem.New(problem.Conflict, "there is a data folder already", "choose another one with --data, or put it aside").
					About(a.data).Because(err)
			}
			open, done, err := a.openSealed(args[0], identity)
			if err != nil {
				return err
			}
			defer done()
			whole := filepath.Clean(a.data) + ".restoring"
			if err := os.RemoveAll(whole); err != nil { // of one that was cut off
				return problem.Disk(err, "the folder cannot be made", whole)
			}
			if err := os.MkdirAll(filepath.Dir(whole), 0o700); err != nil {
				return problem.Disk(err, "the folder cannot be made", whole)
			}
			if err := archive.Unpack(open, handing.BackupForm, whole); err != nil {
				return err
			}
			err = store.Sound(cmd.Context(), filepath.Join(whole, "redstart.db"))
			if err == nil {
				_ = os.Remove(a.data) // an empty folder
				err = os.Rename(whole, a.data)
			}
			if err != nil {
				return errors.Join(err, os.RemoveAll(whole))
			}
			a.say("Restored: %s", a.data)
			a.say("Next: redstart serve")
			return nil
		}}
	c.Flags().StringVar(&identity, "identity", "", "`file` with the key that opens it, as age-keygen writes it")
	return c
}
