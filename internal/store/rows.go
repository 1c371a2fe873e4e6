package store

import (
	"context"
	"encoding/json"
	"slices"
	"sync"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"

	"redstart/internal/core/device"
)

// rows keeps the rows of one table of one site, decoded, for as long as they are what the
// records say: whoever writes marks the rows that it touched, and only those are read anew.
type rows[T any] struct {
	// read reads the rows that are named, or all for nil.
	read func(ctx context.Context, ids []int64) ([]row[T], error)
	// order is that of the list.
	order func(a, b T) int

	mu      sync.Mutex
	kept    map[int64]T // by rowid; nil before the first reading
	list    []T         // in order; nil when it is to be made anew
	touched map[int64]bool
	version uint64
	readAt  uint64      // the version that list is
	lately  []change[T] // what was read anew where no row came, went or moved, one after another
}

// change is what came of rows between two readings.
type change[T any] struct {
	from, to      uint64
	before, after []T
}

// mostLately bounds how many readings back one is told what changed.
const mostLately = 16

// row is a decoded row with its rowid.
type row[T any] struct {
	id    int64
	value T
}

// touch marks rows as not what was read.
func (r *rows[T]) touch(ids []int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	if r.kept == nil {
		return
	}
	for _, id := range ids {
		r.touched[id] = true
	}
}

// now gives the number of the latest change.
func (r *rows[T]) now() uint64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.version
}

// all gives the rows in order, in a list of the caller's own whose members are shared.
func (r *rows[T]) all(ctx context.Context) ([]T, error) {
	return listed(ctx, r, func(one *T) T { return *one })
}

// listed gives something of each row, in order.
func listed[T, U any](ctx context.Context, r *rows[T], of func(*T) U) ([]U, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.bringUp(ctx); err != nil {
		return nil, err
	}
	list := make([]U, len(r.list))
	for i := range r.list {
		list[i] = of(&r.list[i])
	}
	return list, nil
}

// bringUp reads what was touched.
func (r *rows[T]) bringUp(ctx context.Context) error {
	switch {
	case r.kept == nil || len(r.touched) > len(r.kept)/4+mostAnew:
		list, err := r.read(ctx, nil)
		if err != nil {
			return err
		}
		r.kept = make(map[int64]T, len(list))
		for _, one := range list {
			r.kept[one.id] = one.value
		}
		r.list, r.touched, r.lately = nil, map[int64]bool{}, nil
	case len(r.touched) > 0:
		ids := make([]int64, 0, len(r.touched))
		for id := range r.touched {
			ids = append(ids, id)
		}
		list, err := r.read(ctx, ids)
		if err != nil {
			return err
		}
		r.replace(ids, list)
		r.touched = map[int64]bool{}
	}
	r.readAt = r.version
	if r.list == nil {
		r.list = make([]T, 0, len(r.kept))
		for _, v := range r.kept {
			r.list = append(r.list, v)
		}
		slices.SortFunc(r.list, r.order)
	}
	return nil
}

// replace puts rows in the place of those that were read anew. Where none came, went or moved,
// the list stays in order.
func (r *rows[T]) replace(ids []int64, list []row[T]) {
	same := len(ids) == len(list) && r.list != nil
	now := change[T]{from: r.readAt, to: r.version}
	for _, one := range list {
		before, known := r.kept[one.id]
		now.before, now.after = append(now.before, before), append(now.after, one.value)
		if same = same && known && r.order(before, one.value) == 0; same {
			i, found := slices.BinarySearchFunc(r.list, before, r.order)
			if same = found; same {
				r.list[i] = one.value
			}
		}
	}
	for _, id := range ids {
		delete(r.kept, id)
	}
	for _, one := range list {
		r.kept[one.id] = one.value
	}
	if !same {
		r.list = nil
	}
	if !same || len(list) > mostAnew { // many would be held for long
		r.lately = nil
		return
	}
	r.lately = append(r.lately, now)
	r.lately = r.lately[max(0, len(r.lately)-mostLately):]
}

// since gives the rows that were written since a version, as they were and as they are; not ok
// where it is not known any more, or rows came, went or moved.
func (r *rows[T]) since(version uint64) (before, after []T, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.lately {
		if c.from == version {
			before, after = append(before, c.before...), append(after, c.after...)
			version = c.to
		}
	}
	return before, after, version == r.readAt && r.readAt == r.version
}

// mostAnew is how many rows are read one by one however few there are.
const mostAnew = 64

// named makes a list of rowids for a query: rowid IN (SELECT value FROM json_each(?)).
func named(ids []int64) string {
	text, err := json.Marshal(ids)
	if err != nil {
		panic(err) // numbers
	}
	return string(text)
}

// touching is what the transaction under way touched, by table and site.
type touching map[string]map[int64][]int64

// watched are the tables that Versions numbers; the rows of some are kept decoded, and their
// first column is the site.
var watched = map[string]bool{"entries": true, "devices": true, "sites": false, "files": false, "credentials": false,
	"secrets": false, "surveys": false}

// note is told by SQLite of every row that is about to change on the writer's connection.
func (t touching) note(d sqlite.SQLitePreUpdateData) {
	rows, numbered := watched[d.TableName]
	if !rows {
		if numbered {
			t[d.TableName] = nil
		}
		return
	}
	mark := func(read func(...any) error, id int64) {
		column := make([]any, 1)
		if read(column...) != nil {
			return // there is no such row before, or after
		}
		site, _ := column[0].(int64)
		if t[d.TableName] == nil {
			t[d.TableName] = map[int64][]int64{}
		}
		t[d.TableName][site] = append(t[d.TableName][site], id)
	}
	mark(d.Old, d.OldRowID)
	mark(d.New, d.NewRowID)
}

// decoded are the decoded rows of one site.
type decoded struct {
	entries *rows[placed]
	devices *rows[*device.Found]
}

// placed is an entry with where it stands in the plan.
type placed struct {
	Entry
	position int
}

// decoded gives the decoded rows of the site.
func (s *Site) decoded() *decoded {
	s.in.keeping.Lock()
	defer s.in.keeping.Unlock()
	d := s.in.sites[s.ID]
	if s.in.sites == nil { // of a file that was opened aside
		s.in.sites = map[int64]*decoded{}
	}
	if d == nil {
		d = &decoded{entries: s.entryRows(), devices: s.deviceRows()}
		s.in.sites[s.ID] = d
	}
	return d
}

// Versions number what was written: as long as a number is the same, so is what it numbers.
type Versions struct {
	Entries, Devices uint64
	// Others numbers what else a plan is checked against, of all sites: their own data, files,
	// logins, surveys.
	Others uint64
}

// Versions gives the numbers of now.
func (s *Site) Versions() Versions {
	d := s.decoded()
	return Versions{d.entries.now(), d.devices.now(), s.in.others.Load()}
}

// touchedRows marks what a transaction touched.
func (s *Store) touchedRows() {
	s.keeping.Lock()
	defer s.keeping.Unlock()
	for table, sites := range s.touching {
		if !watched[table] {
			s.others.Add(1)
		}
		for site, ids := range sites {
			d := s.sites[site]
			switch {
			case d == nil:
			case table == "entries":
				d.entries.touch(ids)
			default:
				d.devices.touch(ids)
			}
		}
	}
	clear(s.touching)
}

// begin begins a transaction on the writer's own connection, which tells what it touches.
func (s *Store) begin(ctx context.Context) (*sqlx.Tx, error) {
	if s.writing == nil {
		c, err := s.db.Connx(ctx)
		if err != nil {
			return nil, err
		}
		if err := c.Raw(func(raw any) error {
			raw.(sqlite.HookRegisterer).RegisterPreUpdateHook(s.touching.note)
			return nil
		}); err != nil {
			return nil, err
		}
		s.writing = c
	}
	return s.writing.BeginTxx(ctx, nil)
}
