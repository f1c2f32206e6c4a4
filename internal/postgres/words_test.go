package postgres

import (
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
	"brickrow/internal/ways"
)

// What the server keeps of a password is of that password alone, and the same again where it was kept.
func TestPasswords(t *testing.T) {
	// The example of RFC 7677.
	const kept = "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU="
	if !fits(kept, "pencil") || fits(kept, "Pencil") || fits(kept, "") {
		t.Error("the example does not fit")
	}
	for _, other := range []string{"", "md5abc", "SCRAM-SHA-256$", "SCRAM-SHA-256$x:y$z", "SCRAM-SHA-256$99999999999:W22ZaJ0SNY7soEsUEjb6gQ==$a:b"} {
		if fits(other, "pencil") {
			t.Errorf("%s fits", other)
		}
	}
	a, err := verifier("wörd's", nil)
	if err != nil || !fits(a, "wörd's") || strings.Contains(a, "rd's") {
		t.Fatalf("%v %s", err, a)
	}
	if b, err := verifier("wörd's", nil); err != nil || a == b {
		t.Errorf("two have the same salt: %v %s", err, b)
	}
	if b, err := verifier("wörd's", []string{kept, a}); err != nil || a != b {
		t.Errorf("what was kept is not taken: %v %s", err, b)
	}
}

func TestQuoting(t *testing.T) {
	for given, want := range map[string]string{"a": `"a"`, `we"ird`: `"we""ird"`, `x"; drop database y; --`: `"x""; drop database y; --"`} {
		if got := name(given); got != want {
			t.Errorf("%s is %s", given, got)
		}
	}
	for given, want := range map[string]string{"a": `'a'`, "it's": `'it''s'`, `\'; drop`: ` E'\\''; drop'`, "x\x00y": `'xy'`} {
		if got := literal(given); got != want {
			t.Errorf("%s is %s", given, got)
		}
	}
	got := settings("role x", map[string]any{"search_path": `"$user", gauges`, "app.name": "it's"}, map[string]any{"TimeZone": "UTC", "Search_Path": "old"})
	want := []string{`alter role x reset "TimeZone"`, `alter role x set "app"."name" to 'it''s'`, `alter role x set "search_path" to '$user', 'gauges'`}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}

func TestPrivileges(t *testing.T) {
	for _, c := range []struct {
		have, asked, want string
	}{
		{"connect temporary", "TEMP connect", "TEMP connect"},
		{"connect create temporary", "all", "all"},
		{"connect", "connect temp", "connect"},
		{"connect create", "connect", "connect create"},
		{"connect create", "", "connect create"},
		{"connect create", "all", "connect create"},
	} {
		if got := strings.Join(asPrivileges(strings.Fields(c.have), strings.Fields(c.asked), true), " "); got != c.want {
			t.Errorf("%s, of which was asked %s, is %s", c.have, c.asked, got)
		}
	}
}

func TestIDs(t *testing.T) {
	if got := id(Grant, 1, 2, 3); got != "grant~1.2.3" || !slices.Equal(numbers(Grant, got), []uint32{1, 2, 3}) {
		t.Error(got)
	}
	for _, wrong := range []string{"", "role~", "role~x", "role~1.2", "schema~1", "grant~1", "role~99999999999", "schema~1.2"} {
		if n := numbers(Role, wrong); n != nil {
			t.Errorf("%s is %v", wrong, n)
		}
	}
	if !sameTime("2031-01-31 00:00:00+00", "2031-01-31 01:00:00+01:00") || sameTime("2031-01-31", "2031-02-01") {
		t.Error("times")
	}
}

// An address that cannot be is said without the password.
func TestBadSettings(t *testing.T) {
	for _, s := range []ways.Settings{given("host", "a", "port", "x", "user", "u", "password", "hoarfrost"), given("host", "a", "port", "99999999", "user", "u", "password", "hoarfrost")} {
		if _, err := newServer(s); err == nil || strings.Contains(err.Error(), "hoarfrost") {
			t.Errorf("%v", err)
		}
	}
	s, err := newServer(given("host", "/run/it's here", "port", "5433", "user", `a\b'c`, "password", "hoarfrost", "database", "x y", "tls", "off"))
	if err != nil || s.config.Host != "/run/it's here" || s.config.User != `a\b'c` || s.config.Database != "x y" || s.config.Password != "hoarfrost" {
		t.Errorf("%v %+v", err, s)
	}
	if s, err = newServer(given("host", "127.0.0.1", "port", "1", "user", "u")); err != nil {
		t.Fatal(err)
	}
	if err := s.Answers(t.Context()); !cloud.IsUnanswered(err) {
		t.Errorf("nobody is there: %v", err)
	}
}

func given(pairs ...string) ways.Settings {
	s := ways.Settings{}
	for i := 0; i < len(pairs); i += 2 {
		s[pairs[i]] = tosca.String(pairs[i+1])
	}
	return s
}
