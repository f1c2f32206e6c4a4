package nameserver

import (
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"

	"brickrow/internal/ways"
)

func wantedOf(t *testing.T, name, kind string, values ...string) set {
	t.Helper()
	one, err := wanted(map[string]any{"zone": "hut.example", "name": name, "kind": kind, "ttl": "5 m", "values": values})
	if err != nil {
		t.Fatal(err)
	}
	return one
}

// Values are read as a zone file has them, and shown as they were asked for.
func TestValues(t *testing.T) {
	for _, c := range []struct{ name, kind, value, want string }{
		{"@", "TXT", `it's "snow"; \ more`, `hut.example. 300 IN TXT "it's \"snow\"; \\ more"`},
		{"a", "TXT", `"one" "two"`, `a.hut.example. 300 IN TXT "one" "two"`},
		{"a", "TXT", "gr\u00fc\u00df\n", `a.hut.example. 300 IN TXT "gr\195\188\195\159\010"`},
		{"a", "TXT", strings.Repeat("x", 300), `a.hut.example. 300 IN TXT "` + strings.Repeat("x", 255) + `" "` + strings.Repeat("x", 45) + `"`},
		{"A.Hut.Example.", "CNAME", "B", "a.hut.example. 300 IN CNAME B.hut.example."},
		{"_s._tcp", "SRV", "0 5 443 @", "_s._tcp.hut.example. 300 IN SRV 0 5 443 hut.example."},
		{"a", "CAA", `0 issue "ca.example"`, `a.hut.example. 300 IN CAA 0 issue "ca.example"`},
		{"a", "AAAA", "2001:DB8:0::1", "a.hut.example. 300 IN AAAA 2001:db8::1"},
	} {
		one := wantedOf(t, c.name, c.kind, c.value)
		if got := strings.ReplaceAll(one.records[0].String(), "\t", " "); got != c.want {
			t.Errorf("%s: %s", c.value, got)
		}
		o := object(one, ways.Known{Properties: map[string]any{"zone": "hut.example", "name": c.name, "ttl": "5 m", "values": []any{c.value}}})
		if got := o.Properties["values"].([]string); !slices.Equal(got, []string{c.value}) || o.Properties["name"] != c.name || o.Properties["ttl"] != "5 m" {
			t.Errorf("%s is shown as %v", c.value, o.Properties)
		}
	}
}

func TestWrongRecords(t *testing.T) {
	for _, c := range []struct{ name, kind, ttl, value, want string }{
		{"a", "A", "5 m", "192.0.2.1\nb IN A 192.0.2.2", "more than one line"},
		{"a", "A", "5 m", "2001:db8::1", "is no value of the kind A"},
		{"a", "A", "5 m", "", "is no value of the kind A"},
		{"a", "MX", "5 m", "post", "is no value of the kind MX"},
		{"hütte", "A", "5 m", "192.0.2.1", "is no name"},
		{"a b", "A", "5 m", "192.0.2.1", "is no name"},
		{"a~b", "A", "5 m", "192.0.2.1", "is no name"},
		{"a.other.example.", "A", "5 m", "192.0.2.1", "not in the zone"},
		{"a", "A", "1500 ms", "192.0.2.1", "cannot be a ttl"},
		{"a", "A", "soon", "192.0.2.1", "cannot be a ttl"},
	} {
		_, err := wanted(map[string]any{"zone": "hut.example", "name": c.name, "kind": c.kind, "ttl": c.ttl, "values": []string{c.value}})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %s %s: %v", c.name, c.kind, c.value, err)
		}
	}
	if _, err := wanted(map[string]any{"zone": "hut.example", "name": "a", "kind": "CNAME", "ttl": "5 m", "values": []string{"b", "c"}}); err == nil {
		t.Error("two names for one")
	}
	one := wantedOf(t, "a", "A", "192.0.2.1", "192.0.2.1", "192.0.2.2")
	if len(one.records) != 2 {
		t.Errorf("%v", one.records)
	}
	// What is there beside is shown behind what was asked for.
	rr, _ := dns.NewRR("a.hut.example. 300 IN A 192.0.2.0")
	one.records = append(one.records, rr)
	o := object(one, ways.Known{Properties: map[string]any{"values": []any{"192.0.2.2", "192.0.2.9", "192.0.2.1"}}})
	if got := strings.Join(o.Properties["values"].([]string), " "); got != "192.0.2.2 192.0.2.1 192.0.2.0" {
		t.Error(got)
	}
}

func TestIDs(t *testing.T) {
	for _, name := range []string{"@", "www", "0/25.pool", "*.x"} {
		one := wantedOf(t, name, "TXT", "x")
		if back, ok := parsed(one.id()); !ok || back.name != one.name || back.zone != one.zone || back.kind != one.kind || strings.Contains(one.id(), "/") {
			t.Errorf("%s is %s, and back %+v", name, one.id(), back)
		}
	}
	for _, wrong := range []string{"", "records~", "records~A~b", "records~NONE~a.~a.", "role~1"} {
		if _, ok := parsed(wrong); ok {
			t.Errorf("%s is read", wrong)
		}
	}
}

// FuzzValue reads any value without ever making another record than the one that was asked for.
func FuzzValue(f *testing.F) {
	for _, s := range []string{"192.0.2.1", `"a" "b`, "1 x ( 2", "$INCLUDE /etc/passwd", "a ; b", "\\# 4 c0000201"} {
		f.Add(s, "A")
		f.Add(s, "TXT")
		f.Add(s, "MX")
	}
	f.Fuzz(func(t *testing.T, value, kind string) {
		one := set{zone: "hut.example.", name: "a.hut.example.", kind: dns.StringToType[kind]}
		if one.kind == 0 {
			return
		}
		rr, err := record(one, value, 60)
		if err == nil && (rr.Header().Rrtype != one.kind || dns.CanonicalName(rr.Header().Name) != one.name || rr.Header().Class != dns.ClassINET) {
			t.Errorf("%q makes %s", value, rr)
		}
	})
}
