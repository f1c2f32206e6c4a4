package store

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"

	"brickrow/internal/identity"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// byHand changes the database as somebody does who may write to it, and is perhaps no member.
func byHand(t *testing.T, s *Store, statements ...string) {
	t.Helper()
	if err := s.db.Write(t.Context(), func(tx transaction) error {
		for _, q := range statements {
			if err := tx.Do(q); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}

func (s *Store) unsignedWords(t *testing.T) string {
	t.Helper()
	list, err := s.Unsigned(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, u := range list {
		out = append(out, u.What+" "+u.Name)
	}
	return strings.Join(out, "; ")
}

// TestWhoMayWriteToTheDatabaseAlone puts rows into the tables of members, settings, runs and revisions, and changes some: nobody
// gets a key by it, nothing of it is carried out or heeded, and it is listed.
func TestWhoMayWriteToTheDatabaseAlone(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	url := postgrestest.Store(t)
	home := t.TempDir()
	s := openAt(t, Place{home, url})
	thief, err := identity.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	leaver, err := identity.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if err := s.AddMember(t.Context(), "leaver", leaver.Public().String(), "for the winter"); err != nil {
		t.Fatal(err)
	}
	st, err := s.Ensure(t.Context(), "bulletin", stack.Target{Account: "workshop", Region: "alder-1"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Lock(t.Context(), st.ID, "lock"); err != nil {
		t.Fatal(err)
	}
	start := func(id string) {
		t.Helper()
		r := &run.Record{ID: id, StackID: st.ID, Kind: run.KindDeploy, State: run.StatusQueued, OnFailure: stack.Undo, Token: "lock", By: "warden",
			Plan: run.Plan{Steps: []run.Step{{ID: "create gate", Resource: "gate"}}}}
		rev := &stack.Revision{Template: "t.yaml", Text: "text", By: "warden", Inputs: []stack.Input{{Name: "readers", Value: tosca.Int(2)}}}
		if err := s.StartRun(t.Context(), r, Begin{Revision: rev}); err != nil {
			t.Fatal(err)
		}
	}
	if done, err := s.Set(t.Context(), "targets", "", "approval: [ workshop/alder-1 ]\n", Act{Act: ApprovalOn, On: "workshop/alder-1"}); err != nil || !done {
		t.Fatal(err, done)
	}
	if err := s.SetRuns(t.Context(), st.Target, 3, ""); err != nil {
		t.Fatal(err)
	}
	if err := s.NotePrograms(t.Context(), []ProgramOf{{"own:1", "rota"}}); err != nil {
		t.Fatal(err)
	}
	start("one")
	if got := s.unsignedWords(t); got != "" {
		t.Fatalf("of what a member made is not signed: %s", got)
	}
	for _, attack := range []string{`update runs set plan = replace(plan, 'gate', 'bait')`, `update runs set plan = replace(plan, 'bait', 'gate'), base = 1`} {
		byHand(t, s, attack)
		if err := s.Genuine(t.Context(), "one"); !errors.Is(err, ErrNotSigned) {
			t.Errorf("%s: %v", attack, err)
		}
	}
	byHand(t, s, `update runs set base = 0`)
	if err := s.Genuine(t.Context(), "one"); err != nil {
		t.Fatalf("as it was made it is refused: %v", err)
	}
	byHand(t, s, `update revisions set inputs = replace(inputs, '2', '9')`)
	if err := s.Genuine(t.Context(), "one"); !errors.Is(err, ErrNotSigned) {
		t.Errorf("with other inputs: %v", err)
	}
	if got := s.unsignedWords(t); got != "revision bulletin in workshop/alder-1, revision 1" {
		t.Errorf("listed: %s", got)
	}
	byHand(t, s, `update revisions set inputs = replace(inputs, '9', '2')`)

	byHand(t, s, `insert into members(recipient, name, signing, wrapped, added_by, added_ms) values('`+thief.Public().Recipient+`', 'thief', '`+
		thief.Public().Key+`', '', 'warden', 1)`, `update settings set body = ''`, `update targets set runs = 50`,
		`insert into programs(identity, file, by_whom, at_ms) values('own:2', 'bait', 'warden', 1)`)
	if text, err := s.Setting(t.Context(), "targets"); err != nil || !strings.Contains(text, "approval") {
		t.Errorf("the setting is %q %v", text, err)
	}
	if limits, err := s.RunsAtOnce(t.Context()); err != nil || limits["workshop/alder-1"] != 3 {
		t.Errorf("limits %v %v", limits, err)
	}
	if is, err := s.ProgramDeployed(t.Context(), "own:2"); err != nil || is {
		t.Errorf("a program that nobody deployed counts: %v", err)
	}
	byHand(t, s, `delete from settings`)
	if text, err := s.Setting(t.Context(), "targets"); err != nil || !strings.Contains(text, "approval") {
		t.Errorf("taken away, the setting is %q %v", text, err)
	}
	if got := s.unsignedWords(t); got != "member thief; program bait; setting targets; setting limit of workshop/alder-1" {
		t.Errorf("listed: %s", got)
	}
	if _, err := s.RemoveMember(t.Context(), "leaver", "spring"); err != nil {
		t.Fatal(err)
	}
	var wrapped string
	if err := s.db.QueryRowContext(t.Context(), `select wrapped from members where name = 'thief'`).Scan(&wrapped); err != nil || wrapped != "" {
		t.Errorf("the thief is given the key: %v", err)
	}
	if err := s.Genuine(t.Context(), "one"); err != nil { // sealed and signed anew
		t.Errorf("after somebody was removed: %v", err)
	}
	// An act of somebody who is no member, and others behind it.
	forged := Act{Number: 6, Act: MemberIn, On: "thief", By: "warden", key: thief.Public().Key, former: s.circle.hash,
		Body: body(memberBody{"thief", thief.Public().Recipient, thief.Public().Key, s.circle.print})}
	forged.signature = thief.Sign(forged.content())
	byHand(t, s, `insert into acts(number, act, subject, body, by_whom, by_key, at_ms, note, former, signature) values(6, 'member-in', 'thief', '`+forged.Body+
		`', 'warden', '`+forged.key+`', 0, '', '`+forged.former+`', '`+forged.signature+`')`)
	again := openAt(t, Place{home, url})
	if !again.Member() || !strings.Contains(again.unsignedWords(t), "acts members and settings") {
		t.Errorf("a forged act: member %v, %s", again.Member(), again.unsignedWords(t))
	}
	if err := again.AddMember(t.Context(), "second", leaver.Public().String(), ""); err != nil {
		t.Errorf("behind a forged act: %v", err)
	}
	if got := again.unsignedWords(t); strings.Contains(got, "acts") {
		t.Errorf("it is there still: %s", got)
	}
	// What was done is taken away: who has seen it notices, and carries nothing out.
	byHand(t, s, `delete from acts where number > 3`)
	again = openAt(t, Place{home, url})
	if again.Member() || again.Distrust() == nil {
		t.Errorf("acts that were seen are gone, and nobody notices: %v", again.Distrust())
	}
	if _, err := again.Lock(t.Context(), st.ID, "x"); err == nil {
		if err := again.SetOnFailure(t.Context(), "one", stack.Hold); !errors.Is(err, ErrNoMember) {
			t.Errorf("it is written to: %v", err)
		}
	}
	byHand(t, s, `delete from acts`)
	if again = openAt(t, Place{home, url}); again.Member() {
		t.Error("all acts are gone, and the store is vouched for again")
	}
	if files, err := filepath.Glob(filepath.Join(home, SeenFolder, "*")); err != nil || len(files) != 1 {
		t.Errorf("%v %v", files, err)
	}
}

// TestKeysThatSomebodyExchanged puts another key into the place of the one that members made: secrets would be sealed for whoever
// made that.
func TestKeysThatSomebodyExchanged(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	url := postgrestest.Store(t)
	home := t.TempDir()
	s := openAt(t, Place{home, url})
	other, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	wrapped, err := identity.Seal([]byte(other.String()), []string{s.me.Public().Recipient})
	if err != nil {
		t.Fatal(err)
	}
	byHand(t, s, `update members set wrapped = '`+wrapped+`'`)
	if _, err := Open(t.Context(), Place{home, url}, tosca.NewLibrary); err == nil || !strings.Contains(err.Error(), "not the one that its members made") {
		t.Errorf("a key that somebody exchanged: %v", err)
	}
}
