package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/identity"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

const word = "very-secret-hoarfrost"

func secret(text string) tosca.Value { return tosca.Secret{Value: tosca.String(text)} }

// filled writes something with a secret into every table that may hold one.
func filled(t *testing.T, s *Store, n int) *stack.Stack {
	t.Helper()
	st := ensure(t, s, fmt.Sprint("a-stack-", n))
	rec := &stack.Recorded{Name: "a", Type: "Topic", ID: fmt.Sprint("topic~", n), Properties: tosca.Map{"label": secret(word)}, Attributes: tosca.Map{"url": secret(word)}}
	r := &run.Record{ID: fmt.Sprint("run ", n), StackID: st.ID, State: run.StatusWorking, OnFailure: "undo", By: "somebody"}
	begin(t, s, r, Begin{Revision: &stack.Revision{Text: "password: " + word, Tags: map[string]string{}, Inputs: []stack.Input{{Name: "token", Value: secret(word)}}}})
	e := &run.Entry{Step: run.Step{ID: "update a", Resource: "a"}, State: run.Done, Record: rec,
		Before: &run.Snapshot{Properties: tosca.Map{"label": secret(word)}, Tags: tosca.Map{"x": secret(word)}}}
	old := *rec
	old.ID += "-old"
	for _, note := range []struct {
		e  *run.Entry
		ch []run.Change
	}{{e, []run.Change{run.Put{Record: rec}}}, {nil, []run.Change{run.Keep{Name: "b", Record: &old}}}} {
		if err := s.Note(t.Context(), r, note.e, &run.Event{Resource: "a", State: run.Working}, note.ch); err != nil {
			t.Fatal(err)
		}
	}
	for _, value := range []string{word, word + "2"} {
		if err := s.SetResults(t.Context(), r, []stack.Result{{Name: "token", Value: secret(value)}}); err != nil {
			t.Fatal(err)
		}
	}
	secrets := tosca.SecretsOf(secret(word))
	shape := stack.Shape{Properties: tosca.Map{"label": secret(word)}, Tags: map[string]string{"t": word}}
	seen := Seen{Sight: Sight{ID: fmt.Sprint("topic~", n), Type: "Topic", Stack: st.Name, Node: "a", Digest: "1"}, Shape: &shape,
		Trace: stack.Trace{Kind: "changed", At: time.Now(), Differences: []stack.PropertyChange{{Path: "label", Before: secret(word), After: tosca.String(word)}}}}
	if err := s.NoteSeen(t.Context(), place, []Seen{seen}, secrets, true, 1); err != nil {
		t.Fatal(err)
	}
	return st
}

// readable says how many of the places in which filled put a secret show it.
func readable(t *testing.T, s *Store, st *stack.Stack) (n int) {
	t.Helper()
	see := func(v tosca.Value) {
		bare, hidden := tosca.Bare(v)
		if text, _ := bare.(tosca.String); hidden && strings.HasPrefix(string(text), word) {
			n++
		}
	}
	inputs, err := s.Inputs(t.Context(), st.ID, 1)
	if err != nil || len(inputs) != 1 {
		t.Fatalf("%v %v", inputs, err)
	}
	see(inputs[0].Value)
	current, _, err := s.Recorded(t.Context(), st.ID)
	if err != nil || len(current) != 1 {
		t.Fatalf("%v %v", current, err)
	}
	see(current[0].Properties["label"])
	see(current[0].Attributes["url"])
	kept, err := s.Kept(t.Context(), st.ID)
	if err != nil || len(kept) != 1 {
		t.Fatalf("%v %v", kept, err)
	}
	see(kept[0].Properties["label"])
	results, err := s.Results(t.Context(), st.ID)
	if err != nil || len(results) != 1 {
		t.Fatalf("%v %v", results, err)
	}
	see(results[0].Value)
	see(results[0].Was)
	entries, err := s.Journal(t.Context(), fmt.Sprint("run ", strings.TrimPrefix(st.Name, "a-stack-")))
	if err != nil || len(entries) != 1 {
		t.Fatalf("%v %v", entries, err)
	}
	see(entries[0].Before.Properties["label"])
	see(entries[0].Before.Tags["x"])
	see(entries[0].Record.Properties["label"])
	shape, err := s.Shape(t.Context(), place, current[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	see(shape.Properties["label"])
	return n
}

const places = 10 // in which readable looks

// TestMembers is a team of three: who is a member reads the secrets, who is none reads all else; who is removed
// cannot open what is there now, also with the key that he had, and those who stay notice nothing.
func TestMembers(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	url := postgrestest.Store(t)
	dirs := []string{t.TempDir(), t.TempDir(), t.TempDir()}
	var lines []string
	for _, dir := range dirs {
		me, err := identity.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, me.Public().String())
	}
	first := openAt(t, Place{dirs[0], url})
	st := filled(t, first, 1)
	if n := readable(t, first, st); n != places {
		t.Fatalf("the first member reads %d of %d", n, places)
	}
	second := openAt(t, Place{dirs[1], url})
	if n := readable(t, second, st); n != 0 || second.Member() {
		t.Errorf("who is no member reads %d secrets", n)
	}
	if _, err := second.Revision(t.Context(), st.ID, 1); !errors.Is(err, ErrNoMember) {
		t.Errorf("the text of a revision: %v", err)
	}
	r := &run.Record{ID: "run 1", StackID: st.ID, Token: "the lock"}
	if err := second.SetResults(t.Context(), r, []stack.Result{{Name: "x", Value: secret("x")}}); !errors.Is(err, ErrNoMember) {
		t.Errorf("writing a secret: %v", err)
	}
	if err := second.AddMember(t.Context(), "second", lines[1], ""); !errors.Is(err, ErrNoMember) {
		t.Errorf("who is none adds himself: %v", err)
	}
	if err := first.AddMember(t.Context(), "second", strings.Fields(lines[1])[0], ""); err == nil || !strings.Contains(err.Error(), "age1") {
		t.Errorf("half an identity: %v", err)
	}
	for i, name := range []string{"second", "third"} {
		if err := first.AddMember(t.Context(), name, lines[i+1], ""); err != nil {
			t.Fatal(err)
		}
	}
	if err := first.AddMember(t.Context(), "third", lines[2], ""); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("added twice: %v", err)
	}
	for i, s := range []*Store{openAt(t, Place{dirs[1], url}), openAt(t, Place{dirs[2], url})} {
		if n := readable(t, s, st); n != places {
			t.Errorf("member %d reads %d of %d", i+2, n, places)
		}
	}
	second = openAt(t, Place{dirs[1], url})
	third := openAt(t, Place{dirs[2], url})
	had := *third.keys.of()
	n, err := second.RemoveMember(t.Context(), "third", "")
	if err != nil || n < places {
		t.Fatalf("%d are sealed anew: %v", n, err)
	}
	for name, s := range map[string]*Store{"who removed": second, "who was open": first, "who comes": openAt(t, Place{dirs[0], url})} {
		if n := readable(t, s, st); n != places {
			t.Errorf("%s reads %d of %d", name, n, places)
		}
		if got, err := s.Revision(t.Context(), st.ID, 1); err != nil || got.Text != "password: "+word {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
	for name, s := range map[string]*Store{"who was open": third, "who comes": openAt(t, Place{dirs[2], url})} {
		if n := readable(t, s, st); n != 0 {
			t.Errorf("removed, %s reads %d secrets", name, n)
		}
	}
	thief := openAt(t, Place{dirs[2], url})
	thief.keys.set(&had, "1") // the key that he had
	if err := thief.SetResults(t.Context(), r, []stack.Result{{Name: "x", Value: secret("x")}}); !errors.Is(err, ErrNoMember) {
		t.Errorf("sealed with the old key: %v", err)
	}
	for _, err := range []error{errOf(first.RemoveMember(t.Context(), "third", "")), errOf(open(t, t.TempDir()).RemoveMember(t.Context(), "x", ""))} {
		if err == nil {
			t.Error("nobody was removed, and it went well")
		}
	}
	if _, err := first.RemoveMember(t.Context(), "second", ""); err != nil {
		t.Error(err)
	}
	list, err := first.Members(t.Context())
	if err != nil || len(list) != 1 || !list[0].You {
		t.Fatalf("%v %v", list, err)
	}
	if _, err := first.RemoveMember(t.Context(), list[0].Name, ""); err == nil || !strings.Contains(err.Error(), "only member") {
		t.Errorf("the last one: %v", err)
	}
}

func errOf(_ int, err error) error { return err }

// TestRemovingWhileOthersWrite seals anew while two others note secrets all the time: none of these is lost, or
// sealed with the old key.
func TestRemovingWhileOthersWrite(t *testing.T) {
	url := postgrestest.Store(t)
	dirs := []string{t.TempDir(), t.TempDir()}
	first := openAt(t, Place{dirs[0], url})
	leaver, err := identity.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	second, err := identity.Open(dirs[1])
	if err != nil {
		t.Fatal(err)
	}
	if err := first.AddMember(t.Context(), "second", second.Public().String(), ""); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	for i, dir := range dirs {
		s := openAt(t, Place{dir, url})
		st := ensure(t, s, fmt.Sprint("stack-", i))
		r := &run.Record{ID: fmt.Sprint("r", i), StackID: st.ID}
		begin(t, s, r, Begin{})
		wait.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				rec := &stack.Recorded{Name: fmt.Sprint("a", n%5), Type: "Topic", ID: "x", Properties: tosca.Map{"label": secret(fmt.Sprint(word, n))}}
				if err := s.Note(t.Context(), r, nil, &run.Event{Resource: rec.Name}, []run.Change{run.Put{Record: rec}}); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	for i := range 3 {
		if err := first.AddMember(t.Context(), "leaver", leaver.Public().String(), ""); err != nil {
			t.Fatal(err)
		}
		if _, err := first.RemoveMember(t.Context(), "leaver", ""); err != nil {
			t.Fatalf("%d: %v", i, err)
		}
	}
	stop()
	wait.Wait()
	for _, dir := range dirs {
		s := openAt(t, Place{dir, url})
		for i := range dirs {
			current, _, err := s.Recorded(t.Context(), ensure(t, s, fmt.Sprint("stack-", i)).ID)
			if err != nil || len(current) == 0 {
				t.Fatalf("%v %v", current, err)
			}
			for _, r := range current {
				if bare, _ := tosca.Bare(r.Properties["label"]); !strings.HasPrefix(tosca.Show(bare), word) {
					t.Errorf("%s is %v", r.Name, bare)
				}
			}
		}
	}
}

// TestMove brings a store to a server, on to another one and back into a file: all of it, secrets and members with
// it, is the same; the old ones say where it is. Broken off, it goes on.
func TestMove(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	dir, other := t.TempDir(), t.TempDir()
	from := open(t, dir)
	for i := range 3 {
		filled(t, from, i)
	}
	from.Close()
	first, second := Place{dir, postgrestest.Store(t)}, Place{dir, postgrestest.Store(t)}
	quiet := func(MovedTable) {}
	full := openAt(t, Place{t.TempDir(), postgrestest.Store(t)})
	filled(t, full, 7)
	if _, err := Move(t.Context(), Place{Dir: dir}, Place{dir, full.Place().URL}, types, quiet); err == nil || !strings.Contains(err.Error(), "another store") {
		t.Errorf("to where one is: %v", err)
	}
	s := open(t, dir)
	var locked *LockedError
	if _, err := Move(t.Context(), Place{Dir: dir}, first, types, quiet); !errors.As(err, &locked) {
		t.Errorf("while a run is under way: %v", err)
	}
	for i := range int64(3) {
		if err := s.Unlock(t.Context(), i+1, "the lock"); err != nil {
			t.Fatal(err)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	_, err := Move(ctx, Place{Dir: dir}, first, types, func(m MovedTable) {
		if m.Name == "resources" {
			stop()
		}
	})
	if err == nil {
		t.Fatal("it was broken off, and went well")
	}
	var moved *MovedError
	if err := s.NoteDiffers(t.Context(), 1, 5); !errors.As(err, &moved) {
		t.Errorf("who was open writes while it is moved: %v", err)
	}
	s.Close()
	if _, err := Open(t.Context(), Place{Dir: dir}, types); !errors.As(err, &moved) || !strings.Contains(err.Error(), "is being moved") {
		t.Errorf("half moved: %v", err)
	}
	if err := GiveUpMove(t.Context(), Place{Dir: dir}, types); err != nil {
		t.Fatal(err)
	}
	open(t, dir).Close()
	for i, step := range [][2]Place{{{Dir: dir}, first}, {first, second}, {second, {Dir: other}}} {
		out, err := Move(t.Context(), step[0], step[1], types, quiet)
		if err != nil {
			t.Fatalf("move %d: %v", i, err)
		}
		if len(out.Tables) != len(tables) || out.Tables[0].Rows != 3 {
			t.Errorf("%+v", out)
		}
		if _, err := Open(t.Context(), step[0], types); !errors.As(err, &moved) || !strings.Contains(err.Error(), step[1].String()) {
			t.Errorf("the old place: %v", err)
		}
		s := openAt(t, step[1])
		list, err := s.Stacks(t.Context())
		if err != nil || len(list) != 3 {
			t.Fatalf("%v %v", list, err)
		}
		for _, st := range list {
			if n := readable(t, s, st); n != places {
				t.Errorf("after move %d %d of %d are readable", i, n, places)
			}
		}
		ensure(t, s, fmt.Sprint("new-", i)) // its number is a new one
		if i == 0 {
			me, err := identity.Open(other)
			if err != nil {
				t.Fatal(err)
			}
			if err := s.AddMember(t.Context(), "other", me.Public().String(), ""); err != nil {
				t.Fatal(err)
			}
		}
		if i == 1 && !openAt(t, Place{other, second.URL}).Member() {
			t.Error("a member did not come along")
		}
		if i < 2 {
			if err := s.exec1(t.Context(), `delete from stacks where name like 'new-%'`); err != nil {
				t.Fatal(err)
			}
		}
		s.Close()
	}
}

func (s *Store) exec1(ctx context.Context, query string) error {
	_, err := s.exec(ctx, query)
	return err
}

// TestTheTablesAreAllMoved holds the list of what is moved against the tables that there are.
func TestTheTablesAreAllMoved(t *testing.T) {
	onBoth(t, func(t *testing.T, open opener) {
		s := open(t, t.TempDir())
		query := `select m.name, c.name from sqlite_master m join pragma_table_info(m.name) c where m.type = 'table'`
		if s.place.URL != "" {
			query = `select table_name::text, column_name::text from information_schema.columns where table_schema = current_schema()`
		}
		rows, err := s.db.QueryContext(t.Context(), query)
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		there := map[string][]string{}
		for rows.Next() {
			var table, column string
			if err := rows.Scan(&table, &column); err != nil {
				t.Fatal(err)
			}
			there[table] = append(there[table], column)
		}
		for _, name := range []string{"about", "members", "locks", "goose_db_version", "writers", "workers", "acts", "sqlite_sequence"} {
			delete(there, name)
		}
		for _, table := range tables {
			names, _ := table.columnsOf()
			is := slices.DeleteFunc(there[table.name], func(name string) bool { return strings.HasPrefix(name, "sign") }) // signed anew
			delete(there, table.name)
			slices.Sort(names)
			slices.Sort(is)
			if !slices.Equal(names, is) {
				t.Errorf("%s has %v, and is moved with %v", table.name, is, names)
			}
		}
		for name := range there {
			t.Errorf("%s is not moved", name)
		}
	})
}

// TestAFormerProgram opens a store that a newer program has brought forward: it reads where that one says that it
// can, and writes nothing; else it is refused.
func TestAFormerProgram(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	onBoth(t, func(t *testing.T, open opener) {
		dir := t.TempDir()
		s := open(t, dir)
		st := filled(t, s, 1)
		forward := func(readable string) {
			for _, text := range []string{`insert into goose_db_version(version_id, is_applied) values(99, true)`,
				`update about set value = '` + readable + `' where name = 'readable_from'`} {
				if err := s.exec1(t.Context(), text); err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := s.exec1(t.Context(), `alter table stacks add column more text`); err != nil {
			t.Fatal(err)
		}
		forward("12")
		former := open(t, dir)
		if n := readable(t, former, st); n != places {
			t.Errorf("it reads %d of %d", n, places)
		}
		_, lock := former.Lock(t.Context(), st.ID, "x")
		for name, err := range map[string]error{"a write": former.NoteDiffers(t.Context(), st.ID, 1), "a lock": lock} {
			if err == nil || !strings.Contains(err.Error(), "writes nothing") {
				t.Errorf("%s: %v", name, err)
			}
		}
		forward("99")
		if _, err := Open(t.Context(), former.place, types); err == nil || !strings.Contains(err.Error(), "newer Brick Row") {
			t.Errorf("not readable any more: %v", err)
		}
	})
}

// TestNothingSecretIsInASharedStore looks for secrets in all that the server holds.
func TestNothingSecretIsInASharedStore(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	s := postgrestest.Start(t)
	dir := t.TempDir()
	st := openAt(t, Place{dir, s.Database(t, "stores")})
	filled(t, st, 1)
	key := st.keys.of().String()
	st.Close()
	for _, text := range []string{s.Log(t), s.Dump(t, "stores")} {
		if strings.Contains(text, word) || strings.Contains(text, key) {
			t.Error("a secret is on the server")
		}
	}
	if _, err := os.Stat(filepath.Join(dir, File)); err == nil {
		t.Error("there is a file beside the shared store")
	}
}
