package app

import (
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/rules"
)

// The built-in rules have tests of their own, which all are good.
func TestBuiltInRules(t *testing.T) {
	b := newBench(t, 5000)
	set := rules.Read(nil, b.Profile.Library, []string{rules.BuiltIn})
	if len(set.Findings) > 0 || len(set.Rules) < 12 || len(set.Untested()) > 0 {
		t.Fatalf("%d rules, %v, without tests: %v", len(set.Rules), set.Findings, set.Untested())
	}
	seen := map[string]int{}
	for _, o := range set.Try() {
		if !o.Good {
			t.Errorf("%s: %s: %s", o.Rule, o.Name, o.Reason)
		}
		seen[o.Rule]++
	}
	for id, n := range seen {
		if n < 2 {
			t.Errorf("%s has not both kinds of tests", id)
		}
	}
}

// Over three days, what does not keep a rule is told with the look since which that is so, and
// what keeps it again with that one; nothing else is noted.
func TestComplianceOverTime(t *testing.T) {
	long(t)
	b := newMeadow(t)
	at := b.stack("terrace").Target
	day := time.Now().Add(24 * time.Hour).Truncate(time.Second) // the cloud has the real time, and nothing is looked at before it is there
	b.clock = func() time.Time { return day }
	b.write("rules/team.yaml", "rules:\n  - { id: small-posts, message: posts are small, types: [ Server ], require: after.size == 'small' }\n"+
		"  - { id: few-drops, message: few at once, each: stack, require: stack.tally.drop < 3 }\n"+
		"  - { id: stays, message: it stays, types: [ Bucket ], changes: [ drop, swap ], require: 'false' }\n")
	var looks []time.Time
	look := func() map[string]Kept {
		t.Helper()
		day = day.Add(5 * time.Hour)
		looks = append(looks, day)
		list, findings, err := b.Compliance(t.Context(), b.look(at))
		if err != nil || len(findings) > 0 {
			t.Fatal(err, findings)
		}
		out := map[string]Kept{}
		for _, k := range list {
			out[k.Rule.ID+" "+k.Resource.Name()] = k
			if k.Rule.ID == "few-drops" || k.Rule.ID == "stays" {
				t.Errorf("%s is about what is done, not about what is", k.Rule.ID)
			}
		}
		return out
	}
	wants := func(got map[string]Kept, key string, complies bool, look int) {
		t.Helper()
		k, told := got[key]
		since := time.Time{}
		if look >= 0 {
			since = looks[look]
		}
		if !told || k.Complies != complies || !k.Since.Equal(since) {
			t.Errorf("after look %d, %s: complies %t since %s, want %t since look %d", len(looks)-1, key, k.Complies, k.Since, complies, look)
		}
	}
	first := look()
	wants(first, "small-posts post", true, -1)
	wants(first, "private-buckets box", true, -1)
	wants(first, "kept-versions box", false, 0)
	wants(first, "closed-ports gate", true, -1)
	wants(look(), "kept-versions box", false, 0)
	v := b.look(at)
	named := func(name string) *There {
		for _, r := range v.There {
			if r.Name() == name {
				return r
			}
		}
		t.Fatal(name)
		return nil
	}
	do := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	do(b.ChangeByHand(t.Context(), named("post"), "size=medium"))
	do(b.ChangeByHand(t.Context(), named("box"), "public_read=true"))
	do(b.ChangeByHand(t.Context(), named("box"), "versioned=true"))
	nobodys := b.make(at, cloud.Request{Type: "Rules", Properties: props("allow", []any{rule("22", "0.0.0.0/0")}), Links: map[string][]string{"network": {named("net").ID}}})
	third := look()
	wants(third, "small-posts post", false, 2)
	wants(third, "private-buckets box", false, 2)
	wants(third, "kept-versions box", true, 2)
	wants(third, "closed-ports "+nobodys, false, 2)
	wants(third, "tagged "+nobodys, false, 2)
	do(b.ChangeByHand(t.Context(), named("box"), "public_read=false"))
	for range 9 {
		look()
	}
	last := look()
	wants(last, "private-buckets box", true, 3)
	wants(last, "small-posts post", false, 2)
	wants(last, "kept-versions box", true, 2)
	list, err := b.store.VerdictsOf(t.Context(), at, named("box").ID)
	if err != nil || len(list) != 4 {
		t.Errorf("%v %+v", err, list)
	}
	do(b.LeaveRule(t.Context(), "closed-ports", true))
	if _, told := look()["closed-ports "+nobodys]; told {
		t.Error("a rule that is left out is told")
	}
	do(b.LeaveRule(t.Context(), "closed-ports", false))
	wants(look(), "closed-ports "+nobodys, false, 2)
	if err := b.LeaveRule(t.Context(), "closed-port", true); err == nil || !strings.Contains(err.Error(), "closed-ports") {
		t.Error(err)
	}
	overview, err := b.Stacks(t.Context())
	do(err)
	for _, o := range overview {
		if o.Stack.Name == "terrace" && o.Broken == 0 {
			t.Errorf("%+v", o)
		}
	}
}
