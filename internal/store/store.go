// Package store keeps the records in SQLite.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/gofrs/flock"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver "sqlite", without cgo
	sqlite3 "modernc.org/sqlite/lib"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is one open data folder. Writes go through one goroutine, which
// commits what has gathered together; each caller returns after its own data
// is on disk.
type Store struct {
	db     *sqlx.DB
	kept   sync.Map // statements by their text
	dir    string
	lock   *flock.Flock
	writes chan write
	once   sync.Once
	ending chan struct{} // closes when the store does
	ended  chan struct{} // closes when the last write is done

	writing  *sqlx.Conn // of the writer alone
	touching touching   // by the transaction under way; of the writer alone

	keeping sync.Mutex
	sites   map[int64]*decoded // under keeping
	others  atomic.Uint64

	written sync.Map // when this run of the service wrote to a box last, by its MAC

	sweeping sync.Mutex // held by whoever brings files or deletes those that nothing lists
}

// readers is how many connections to the records are open at most, and kept open:
// opening one anew costs more than what it is asked.
const readers = 16

// ErrClosed is what writes to a closed store return.
var ErrClosed = errors.New("the records are closed")

type write struct {
	do   func(*sqlx.Tx) error
	done chan error
}

const maxBatch = 256

// Open opens the data folder, makes it if needed, and locks it: two services
// on one folder would undo each other's work.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, problem.Disk(err, "the data folder cannot be made", dir)
	}
	if err := private(dir); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, "lock"))
	switch got, err := lock.TryLock(); {
	case err != nil:
		return nil, problem.Disk(err, "the data folder cannot be locked", dir)
	case !got:
		return nil, problem.New(problem.Machine, "another Redstart service is using this data folder",
			"stop it, or choose another folder with --data").About(dir)
	}
	// The database gives the files beside it the rights that it has itself.
	file, err := os.OpenFile(filepath.Join(dir, "redstart.db"), os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = file.Close()
	}
	if err != nil {
		return nil, errors.Join(problem.Disk(err, "the records cannot be opened", dir), lock.Unlock())
	}
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "redstart.db")+
		"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(ON)&_pragma=secure_delete(ON)&_txlock=immediate")
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	db.SetMaxOpenConns(readers)
	db.SetMaxIdleConns(readers)
	s := &Store{db: db, dir: dir, lock: lock, writes: make(chan write), ending: make(chan struct{}),
		ended: make(chan struct{}), touching: touching{}, sites: map[int64]*decoded{}}
	if err = s.migrate(ctx); err == nil {
		err = s.arrange()
	}
	if err != nil {
		return nil, problem.Disk(plainly(errors.Join(err, db.Close(), lock.Unlock())), "the records cannot be opened",
			dir)
	}
	go s.writer()
	return s, nil
}

// private makes the data folder and the records in it readable by their owner alone, also
// where they were there before. A folder in which everybody may write is not ours to close.
func private(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return problem.Disk(err, "the data folder cannot be read", dir)
	}
	if info.Mode().Perm()&0o002 != 0 {
		return problem.New(problem.Machine, "everybody may write into the data folder",
			"choose a folder of its own with --data, or take that right away: chmod o-w "+dir).About(dir)
	}
	if info.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(dir, 0o700); err != nil {
			return problem.Disk(err, "the data folder cannot be made private", dir)
		}
	}
	for _, name := range []string{"redstart.db", "redstart.db-wal", "redstart.db-shm", "lock"} {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
			if err := os.Chmod(path, 0o600); err != nil {
				return problem.Disk(err, "the records cannot be made private", path)
			}
		}
	}
	return nil
}

func (s *Store) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.db.DB, sub)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// versions tells of which version the records are, and which this service writes.
func (s *Store) versions(ctx context.Context) (is, newest int64, err error) {
	if err := s.db.GetContext(ctx, &is, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied`); err != nil {
		return 0, 0, err
	}
	list, err := migrations.ReadDir("migrations")
	return is, int64(len(list)), err
}

// Close waits for writes under way and closes the folder. Closing again does nothing.
func (s *Store) Close() (err error) {
	s.once.Do(func() {
		close(s.ending)
		<-s.ended
		if s.writing != nil {
			err = s.writing.Close()
		}
		err = errors.Join(err, s.db.Close(), s.lock.Unlock())
	})
	return err
}

func (s *Store) writer() {
	defer close(s.ended)
	for {
		var batch []write
		select {
		case w := <-s.writes:
			batch = append(batch, w)
		case <-s.ending:
			return
		}
	gather:
		for len(batch) < maxBatch {
			select {
			case w := <-s.writes:
				batch = append(batch, w)
			default:
				break gather
			}
		}
		s.commit(batch)
	}
}

// commit puts a batch into one transaction, each write within a savepoint of its own, so that one
// caller's mistake is no other's.
func (s *Store) commit(batch []write) {
	if len(batch) == 1 {
		batch[0].done <- s.transact(batch[0].do)
		return
	}
	own := make([]error, len(batch))
	err := s.transact(func(tx *sqlx.Tx) (lost error) {
		for i, w := range batch {
			if own[i], lost = within(tx, w.do); lost != nil {
				return lost
			}
		}
		return nil
	})
	for i, w := range batch {
		if own[i] == nil {
			own[i] = err
		}
		w.done <- own[i]
	}
}

// within does one write within a savepoint. Its own error undoes it alone; lost says that the
// whole transaction is.
func within(tx *sqlx.Tx, do func(*sqlx.Tx) error) (own, lost error) {
	if _, err := tx.Exec(`SAVEPOINT one`); err != nil {
		return nil, err
	}
	if own = do(tx); own != nil {
		if _, err := tx.Exec(`ROLLBACK TO one`); err != nil {
			return own, own // what fails for the whole, such as a full disk, has undone it already
		}
	}
	_, err := tx.Exec(`RELEASE one`)
	return own, err
}

func (s *Store) transact(do func(*sqlx.Tx) error) error {
	tx, err := s.begin(context.Background())
	if err != nil {
		return err
	}
	defer s.touchedRows() // whether it was committed or not: to read anew is never wrong
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// write runs do in a transaction and returns once it is on disk.
func (s *Store) write(ctx context.Context, do func(*sqlx.Tx) error) error {
	w := write{do, make(chan error, 1)}
	select {
	case s.writes <- w:
	case <-s.ending:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := <-w.done; err != nil {
		return s.explained(err)
	}
	return nil
}

// explained makes an error of the disk one that says so, and leaves others alone.
func (s *Store) explained(err error) error {
	if plain := plainly(err); plain != err {
		return problem.Disk(plain, "the records cannot be written", s.dir).Kinds(ErrUnwritable)
	}
	return err
}

// ErrUnwritable is what writes return while the disk takes nothing: nothing was
// lost that was written before, and writing may work again.
var ErrUnwritable = errors.New("the records cannot be written")

// plainly translates what SQLite says of the disk into the system's errors.
func plainly(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff { // the primary result code
	case sqlite3.SQLITE_FULL:
		return syscall.ENOSPC
	case sqlite3.SQLITE_READONLY:
		return syscall.EROFS
	case sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN:
		return syscall.EIO
	case sqlite3.SQLITE_PERM:
		return syscall.EACCES
	}
	return err
}

// Writable tries whether the records can be written; nil when they can.
func (s *Store) Writable(ctx context.Context) error {
	return s.exec(ctx, `UPDATE probe SET at = :at`, map[string]any{"at": stamp.Now()})
}

// exec is a write of one statement with named parameters.
func (s *Store) exec(ctx context.Context, statement string, arg any) error {
	kept, err := keep(s, statement, s.db.PrepareNamed)
	if err != nil {
		return s.explained(err)
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedStmt(kept).Exec(arg)
		return err
	})
}

// keep prepares a statement once and keeps it: to prepare one costs more than what
// most of them do.
func keep[T io.Closer](s *Store, text string, prepare func(string) (T, error)) (T, error) {
	if kept, ok := s.kept.Load(text); ok {
		return kept.(T), nil
	}
	fresh, err := prepare(text)
	if err != nil {
		return fresh, err
	}
	kept, late := s.kept.LoadOrStore(text, fresh)
	if late { // another was faster
		err = fresh.Close()
	}
	return kept.(T), err
}

// one reads one row; ok is false when there is none.
func (s *Store) one(ctx context.Context, into any, query string, args ...any) (ok bool, err error) {
	kept, err := keep(s, query, s.db.Preparex)
	if err != nil {
		return false, err
	}
	err = kept.GetContext(ctx, into, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}

// all reads the rows of a query into a list.
func (s *Store) all(ctx context.Context, into any, query string, args ...any) error {
	kept, err := keep(s, query, s.db.Preparex)
	if err != nil {
		return err
	}
	return kept.SelectContext(ctx, into, args...)
}
