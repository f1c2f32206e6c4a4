package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"strings"

	"github.com/google/uuid"

	"brickrow/internal/shareddb"
	"brickrow/internal/tosca"
)

// A table of the store: what is in its columns, and by which its rows are told apart. A column is a name and
// i for a number, b for yes or no, f for a fraction, t for a text, n for a text or nothing, s and z for such
// with secrets in them.
type table struct {
	name    string
	columns string
	key     int // so many columns at the beginning tell rows apart
}

// tables are all that is moved with a store, each behind those that it refers to.
var tables = []table{
	{"stacks", "id:i name:t account:t region:t state:t revision:i description:t stack_file:t careful:b created_ms:i updated_ms:i throwaway:b approvers:t differs:i fleet:t seen:t", 1},
	{"revisions", "stack_id:i number:i template:t text:s inputs:s tags:t created_by:t created_ms:i note:t origin:t", 2},
	{"resources", "stack_id:i name:t old:i position:i body:s cloud_id:t", 3},
	{"kept", "stack_id:i cloud_id:t name:t body:s", 2},
	{"results", "stack_id:i name:t description:t value:s command:t was:z run_id:t", 2},
	{"runs", "id:t stack_id:i number:i kind:t state:t revision:i base:i prior:t on_failure:t plan:t tally:t estimate:f started_by:t started_ms:i ended_ms:i reason:t cancel:b back:b pause:b only_of:t origin:t queue:t priority:i ask:t receipt:s", 1},
	{"journal", "run_id:t step:t state:t attempt:i body:s", 2},
	{"events", "run_id:t seq:i time_ms:i resource:t type:t state:t step:t reason:t elapsed_ms:i cloud_id:t attempt:i problem:t fix:t", 2},
	{"timings", "run_id:t step:t type:t action:t ratio:f at_ms:i", 2},
	{"targets", "target:t at_once:i runs:i", 1},
	{"sights", "target:t cloud_id:t type:t stack:t node:t digest:t body:s", 2},
	{"traces", "number:i target:t cloud_id:t type:t stack:t node:t kind:t at_ms:i seen_ms:i by_whom:t run:i body:s", 1},
	{"readings", "number:i target:t at_ms:i resources:i changed:i", 1},
	{"rollouts", "id:t fleet:t number:i kind:t file:t state:t at_once:i tolerate:i on_failure:t pause_ms:i asks:b behind:i ended_wave:i wave_ms:i wish:t " +
		"reason:t started_by:t started_ms:i ended_ms:i origin:t queue:t priority:i ask:t token:t holder:t host:t pid:i until_ms:i", 1},
	{"parts", "rollout:t digest:t body:s", 2},
	{"places", "rollout:t position:i account:t region:t stack:t wave:i kind:t state:t careful:b attempt:i run_id:t reason:t tally:t body:s part:t " +
		"approvals:t begun_ms:i ended_ms:i", 2},
	{"asked", "shelf:t name:t body:s at_ms:i", 2},
	{"secrets", "name:t body:s", 1},
	{"settings", "name:t body:t", 1},
	{"verdicts", "number:i target:t cloud_id:t rule:t complies:b at_ms:i", 1},
	{"programs", "identity:t file:t by_whom:t at_ms:i", 1},
}

// columnsOf are the names and kinds of the columns of a table.
func (t table) columnsOf() (names []string, kinds []byte) {
	for c := range strings.FieldsSeq(t.columns) {
		name, kind, _ := strings.Cut(c, ":")
		names, kinds = append(names, name), append(kinds, kind[0])
	}
	return names, kinds
}

// placeFor is where to put a value of a kind, to be read.
func placeFor(kind byte) any {
	switch kind {
	case 'i':
		return new(int64)
	case 'b':
		return new(bool)
	case 'f':
		return new(float64)
	case 'n', 'z':
		return new(*string)
	}
	return new(string)
}

// valueAt is what was read into a place.
func valueAt(p any) any {
	switch p := p.(type) {
	case *int64:
		return *p
	case *bool:
		return *p
	case *float64:
		return *p
	case **string:
		if *p == nil {
			return nil
		}
		return **p
	case *string:
		return *p
	}
	return nil
}

// chunk is how many rows are read at a time.
const chunk = 500

// read reads rows of a table behind one, in the order of their keys; nil is from the beginning.
func (t table) read(ctx context.Context, from queryer, behind []any) ([][]any, error) {
	names, kinds := t.columnsOf()
	by := strings.Join(names[:t.key], ", ")
	query := "select " + strings.Join(names, ", ") + " from " + t.name
	if behind != nil {
		query += " where (" + by + ") > (" + marks(t.key) + ")"
	}
	rows, err := from.QueryContext(ctx, query+" order by "+by+fmt.Sprintf(" limit %d", chunk), behind...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out [][]any
	for rows.Next() {
		places := make([]any, len(kinds))
		for i, k := range kinds {
			places[i] = placeFor(k)
		}
		if err := rows.Scan(places...); err != nil {
			return nil, err
		}
		for i, p := range places {
			places[i] = valueAt(p)
		}
		out = append(out, places)
	}
	return out, rows.Err()
}

// each calls something with all rows of a table, some at a time.
func (t table) each(ctx context.Context, from queryer, do func([][]any) error) error {
	var behind []any
	for {
		rows, err := t.read(ctx, from, behind)
		if err != nil {
			return err
		}
		if len(rows) > 0 {
			if err := do(rows); err != nil {
				return err
			}
		}
		if len(rows) < chunk {
			return nil
		}
		behind = rows[len(rows)-1][:t.key]
	}
}

func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?, ", n), ", ") }

// digest tells whether two tables hold the same.
func (t table) digest(ctx context.Context, of queryer) (string, int, error) {
	sum, n := sha256.New(), 0
	err := t.each(ctx, of, func(rows [][]any) error {
		n += len(rows)
		for _, r := range rows {
			note(sum, r)
		}
		return nil
	})
	return hex.EncodeToString(sum.Sum(nil)), n, err
}

func note(sum hash.Hash, row []any) { fmt.Fprintf(sum, "%q\n", fmt.Sprintf("%#v", row)) }

// MovedError says that a store is somewhere else now.
type MovedError struct{ From, To string }

func (e *MovedError) Error() string {
	if to, moving := strings.CutPrefix(e.To, moving); moving {
		return fmt.Sprintf("the store %s is being moved to %s: wait until that has come to its end; where it was broken off, give the same "+
			"'brickrow store move' again, or give it up with 'brickrow store move --give-up'", e.From, to)
	}
	return fmt.Sprintf("the store %s has been moved to %s: set BRICKROW_STORE to that, or 'store:' in the configuration", e.From, e.To)
}

const moving = "(moving) "

// Moved says what was moved.
type Moved struct {
	From   string       `json:"from"`
	To     string       `json:"to"`
	Tables []MovedTable `json:"tables"`
}

// MovedTable is a table whose rows are the same at both places, as was looked at behind it.
type MovedTable struct {
	Name   string `json:"name"`
	Rows   int    `json:"rows"`
	Digest string `json:"sha256"`
}

// Move brings all that is in a store to another place that is empty, or where the same was begun before. It
// is over when both have been read once more and hold the same; from then on the old one refuses to be used.
// Told is called with each table that is there.
func Move(ctx context.Context, from, to Place, library func() *tosca.Library, told func(MovedTable)) (out Moved, err error) {
	if from.String() == to.String() {
		return out, errors.New("the store is there already")
	}
	a, err := openAny(ctx, from, library)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, a.Close()) }()
	switch {
	case a.older != nil:
		return out, a.older
	case !a.Member():
		return out, ErrNoMember
	}
	where, err := a.about(ctx, movedTo)
	if err != nil {
		return out, err
	}
	if where != "" && where != moving+to.String() {
		return out, &MovedError{from.String(), where}
	}
	b, err := openAny(ctx, to, library)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	if err := b.receive(ctx, a); err != nil {
		return out, err
	}
	unlock, err := a.standStill(ctx, moving+to.String())
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	out.From, out.To = from.String(), to.String()
	for _, t := range tables {
		m, err := copyTable(ctx, t, a, b)
		if err != nil {
			return out, fmt.Errorf("%s: %w", t.name, err)
		}
		out.Tables = append(out.Tables, m)
		told(m)
	}
	if err := b.arrived(ctx, a); err != nil {
		return out, err
	}
	return out, a.setAbout(ctx, movedTo, to.String())
}

// receive makes a store ready to be moved to: it must be empty, or the same was begun before. It gets the key
// of what comes.
func (s *Store) receive(ctx context.Context, from *Store) error {
	if s.older != nil {
		return s.older
	}
	was, err := s.about(ctx, movingFrom)
	if err != nil {
		return err
	}
	var stacks int
	if err := s.db.QueryRowContext(ctx, `select count(*) from stacks`).Scan(&stacks); err != nil {
		return err
	}
	if where, err := s.about(ctx, movedTo); err != nil || where != "" && was == "" {
		return errors.Join(err, fmt.Errorf("%s was moved from there to %s: move to a new place, or remove what is left of it", s.place, where))
	}
	if was != "" && was != from.place.String() || was == "" && stacks > 0 {
		return fmt.Errorf("%s holds another store already, with %d stacks: a store is moved to where none is", s.place, stacks)
	}
	if !s.Member() {
		return fmt.Errorf("%s: %w", s.place, ErrNoMember)
	}
	key := from.keys.of()
	if id, err := from.ID(ctx); err != nil {
		return err
	} else if err := s.setAbout(ctx, storeID, id); err != nil { // its resources say whose they are
		return err
	}
	s.idMu.Lock()
	s.id = ""
	s.idMu.Unlock()
	if s.keys.of().String() == key.String() {
		return s.setAbout(ctx, movingFrom, from.place.String())
	}
	if s.place.URL == "" {
		err = s.keepKey(ctx, key)
	} else {
		err = s.sealFor(ctx, key, from)
	}
	if err != nil {
		return err
	}
	return s.setAbout(ctx, movingFrom, from.place.String())
}

// arrived lets numbers go on behind those that came, and who moves them stand for what members stood for where they come
// from. What was done there to the store as a whole comes along.
func (s *Store) arrived(ctx context.Context, from *Store) error {
	doings, err := from.Acts(ctx)
	if err != nil {
		return err
	}
	var good signedSet // nil is all: nobody else can write to a file
	if from.me != nil {
		if err := from.db.Write(ctx, func(tx transaction) (err error) {
			good, err = from.signedRows(ctx, tx)
			return err
		}); err != nil {
			return err
		}
	}
	return s.db.Write(ctx, func(tx transaction) error {
		var came []Act
		for _, a := range doings {
			if a.Act != MemberIn && a.Act != MemberOut {
				came = append(came, Act{Act: a.Act, On: a.On, Body: a.Body, By: a.By, At: a.At, Note: a.Note})
			}
		}
		if len(doings) == 0 { // a file of a former version has none
			more, err := from.settingActs(ctx, from.db)
			if err != nil {
				return err
			}
			came = append(came, more...)
		}
		if err := s.act(ctx, tx, came...); err != nil {
			return err
		}
		if s.me != nil {
			if err := s.signAll(ctx, tx, good); err != nil {
				return err
			}
		}
		if s.place.URL != "" {
			if err := tx.Do(`select setval(pg_get_serial_sequence('stacks', 'id'), (select coalesce(max(id), 1) from stacks))`); err != nil {
				return err
			}
		}
		return tx.Do(`delete from about where name = ?`, movingFrom)
	})
}

func (s *Store) setAbout(ctx context.Context, name, value string) error {
	return s.db.Write(ctx, func(tx transaction) error {
		if err := tx.Alone("about"); err != nil { // waits for what is being written
			return err
		}
		return tx.Do(`insert into about(name, value) values (?, ?) on conflict (name) do update set value = excluded.value`, name, value)
	})
}

// GiveUpMove lets a store be used again whose moving was broken off.
func GiveUpMove(ctx context.Context, at Place, library func() *tosca.Library) (err error) {
	s, err := openAny(ctx, at, library)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	where, err := s.about(ctx, movedTo)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(where, moving) {
		return fmt.Errorf("the store %s is not being moved", at)
	}
	return s.db.Write(ctx, func(tx transaction) error { return tx.Do(`delete from about where name = ?`, movedTo) })
}

// standStill sees to it that nothing is written any more: where a run is under way it is refused.
func (s *Store) standStill(ctx context.Context, why string) (unlock func() error, err error) {
	token := uuid.NewString()
	var locked []int64
	unlock = func() error {
		var errs []error
		for _, id := range locked {
			errs = append(errs, s.db.Write(context.WithoutCancel(ctx), func(tx transaction) error {
				return tx.Do(`delete from locks where stack_id = ? and token = ?`, id, token)
			}))
		}
		return errors.Join(errs...)
	}
	list, err := s.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	for _, st := range list {
		if _, err := s.Lock(ctx, st.ID, token); err != nil {
			return nil, errors.Join(fmt.Errorf("%s: %w", st.Name, err), unlock())
		}
		locked = append(locked, st.ID)
	}
	if err := s.setAbout(ctx, movedTo, why); err != nil {
		return nil, errors.Join(err, unlock())
	}
	return unlock, nil
}

// copyTable brings the rows of a table to another store, and looks whether they are the same there.
func copyTable(ctx context.Context, t table, from, to *Store) (MovedTable, error) {
	out := MovedTable{Name: t.name}
	was, n, err := t.digest(ctx, from.db)
	if err != nil {
		return out, err
	}
	if is, _, err := t.digest(ctx, to.db); err != nil || is == was { // as an earlier try left it
		return MovedTable{t.name, n, was}, err
	}
	names, _ := t.columnsOf()
	insert := "insert into " + t.name + "(" + strings.Join(names, ", ") + ") values(" + marks(len(names)) + ") on conflict do nothing"
	if err := t.each(ctx, from.db, func(rows [][]any) error {
		return to.db.Write(ctx, func(tx transaction) error {
			for _, r := range rows {
				if err := tx.Do(insert, r...); err != nil {
					return err
				}
			}
			return nil
		})
	}); err != nil {
		return out, err
	}
	is, _, err := t.digest(ctx, to.db)
	if err == nil && is != was {
		err = errors.New("what arrived is not what was sent: empty the new place, and move again")
	}
	return MovedTable{t.name, n, was}, err
}

// InFile means the file in the folder of the data, whatever else is set.
const InFile = "file"

// ParsePlace reads where a store is: a URL, the word for a file, or a folder.
func ParsePlace(text, dir string) Place {
	if text == InFile {
		return Place{Dir: dir}
	}
	if shareddb.IsURL(text) {
		return Place{Dir: dir, URL: text}
	}
	return Place{Dir: text}
}
