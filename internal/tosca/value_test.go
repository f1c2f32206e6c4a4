package tosca

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

func TestEqualAndCompare(t *testing.T) {
	gib, mib := Scalar{"1 GiB", 1 << 30}, Scalar{"1024 MiB", 1 << 30}
	for _, test := range []struct {
		a, b  Value
		equal bool
		order int // 2: no order
	}{
		{Int(3), Int(3), true, 0},
		{Int(3), Float(3), true, 0},
		{Float(2.5), Int(3), false, -1},
		{Int(3), String("3"), false, 2},
		{String("a"), String("b"), false, -1},
		{Bool(true), Bool(true), true, 2},
		{Null{}, nil, true, 2},
		{Null{}, String(""), false, 2},
		{gib, mib, true, 0},
		{gib, Scalar{"2 GiB", 2 << 30}, false, -1},
		{gib, String("1 GiB"), true, 2},
		{Version("15.10"), Version("15.9"), false, 1},
		{Version("15"), Version("15.0"), true, 0},
		{Version("15.1-beta"), Version("15.1-alpha"), false, 1},
		{Version("15"), Int(15), false, 0},
		{List{Int(1), Int(2)}, List{Int(1), Int(2)}, true, 2},
		{List{Int(1)}, List{Int(1), Int(2)}, false, 2},
		{Map{"a": Int(1)}, Map{"a": Float(1)}, true, 2},
		{Map{"a": Int(1)}, Map{"b": Int(1)}, false, 2},
		{Secret{String("x")}, Secret{String("x")}, true, 0},
		{Secret{String("x")}, String("y"), false, -1},
		{String("x"), Secret{String("x")}, true, 0},
		{Unknown{}, Unknown{}, false, 2},
	} {
		if got := Equal(test.a, test.b); got != test.equal {
			t.Errorf("Equal(%#v, %#v) is %v", test.a, test.b, got)
		}
		order, ok := Compare(test.a, test.b)
		if !ok {
			order = 2
		}
		if order != test.order {
			t.Errorf("Compare(%#v, %#v) is %d", test.a, test.b, order)
		}
	}
}

func TestSecretsDoNotShow(t *testing.T) {
	secret := Map{"password": Secret{String("hoarfrost")}, "list": List{Secret{Int(4711)}}, "open": String("yes")}
	encoded, err := json.Marshal(secret)
	if err != nil {
		t.Fatal(err)
	}
	for _, shown := range []string{string(encoded), Show(secret), fmt.Sprint(secret),
		fmt.Sprintf("%+v %#v", secret, secret["password"])} {
		if strings.Contains(shown, "hoarfrost") || strings.Contains(shown, "4711") {
			t.Errorf("a secret shows in %s", shown)
		}
		if !strings.Contains(shown, "(secret)") {
			t.Errorf("nothing says that there is a secret in %s", shown)
		}
	}
	clear, err := json.Marshal(Reveal(secret))
	if err != nil || string(clear) != `{"list":[4711],"open":"yes","password":"hoarfrost"}` {
		t.Errorf("revealed: %s %v", clear, err)
	}
	bare, had := Bare(secret)
	if !had || HasSecret(bare) || !HasSecret(secret) {
		t.Errorf("bare: %v %v", bare, had)
	}
	if v := Hide(Hide(String("x"))); Show(v) != SecretText || HasSecret(v.(Secret).Value) {
		t.Errorf("hidden twice: %#v", v)
	}
}

func TestUnknowns(t *testing.T) {
	of := Unknown{Of: []Attribute{{"db", "endpoint"}}}
	for _, v := range []Value{of, List{Int(1), of}, Map{"a": of}, Secret{of}} {
		if IsKnown(v) || len(Awaits(v)) != 1 || Awaits(v)[0].Resource != "db" {
			t.Errorf("%#v: known %v, awaits %v", v, IsKnown(v), Awaits(v))
		}
	}
	for _, v := range []Value{Int(1), List{}, Map{"a": String("")}, Secret{Int(1)}, Null{}} {
		if !IsKnown(v) {
			t.Errorf("%#v is not known", v)
		}
	}
	if IsKnown(Unknown{Bad: true}) || !isBad(Map{"a": List{Unknown{Bad: true}}}) {
		t.Error("a bad value counts as known")
	}
}

func TestJSONRoundTrip(t *testing.T) {
	const text = `{"a":[1,2.5,true,null,"x"],"b":{"c":9007199254740993}}`
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var x any
	if err := d.Decode(&x); err != nil {
		t.Fatal(err)
	}
	out, err := json.Marshal(FromJSON(x))
	if err != nil || string(out) != text {
		t.Errorf("%s became %s (%v)", text, out, err)
	}
	if v := FromJSON(3.0); v != Int(3) {
		t.Errorf("3.0 became %#v", v)
	}
}

func TestAt(t *testing.T) {
	v := Map{"list": List{Map{"x": Int(7)}}, "secret": Secret{Map{"k": String("s")}}}
	for _, test := range []struct {
		path []Value
		want string
		ok   bool
	}{
		{nil, Show(v), true},
		{[]Value{String("list"), Int(0), String("x")}, "7", true},
		{[]Value{String("list"), Int(1)}, "–", false},
		{[]Value{String("list"), String("0")}, "–", false},
		{[]Value{String("nothing")}, "–", false},
		{[]Value{String("secret"), String("k")}, "(secret)", true},
	} {
		got, ok := At(v, test.path...)
		if ok != test.ok || Show(got) != test.want {
			t.Errorf("At(%v) is %v, %v", test.path, Show(got), ok)
		}
	}
}

// eval evaluates the text of one value.
func eval(t *testing.T, text string, env *Env) (Value, Findings) {
	t.Helper()
	var findings Findings
	root := ParseYAML("x.yaml", []byte("v: "+text+"\n"), &findings)
	if root == nil {
		t.Fatalf("%s: %v", text, findings)
	}
	r := &reader{shared: &shared{}, file: "x.yaml", budget: 10000}
	x := r.expr(root.Content[1])
	findings = append(findings, r.findings...)
	if env == nil {
		env = &Env{Index: -1}
	}
	env.Findings = &findings
	return env.Eval(x), findings
}

func TestFunctions(t *testing.T) {
	inputs := map[string]Value{"n": Int(3), "names": List{String("hut"), String("gate")},
		"token": Secret{String("tok")}, "late": Unknown{Of: []Attribute{{"a", "b"}}},
		"table": Map{"alder-1": String("fern-12")}, "size": Scalar{"1.5 GiB", 1.5 * (1 << 30)},
		"gib": Scalar{"1 GiB", 1 << 30}}
	for _, test := range []struct{ text, want string }{
		{"plain", "plain"},
		{"17", "17"},
		{"017", "17"},
		{"0x1F", "31"},
		{"0o17", "15"},
		{"1_000", "1000"},
		{"2.50", "2.5"},
		{"[ 1, { a: b } ]", "[1, {a: b}]"},
		{"$$value", "$value"},
		{"{ $$get_input: n }", "{$get_input: n}"},
		{"{ $get_input: n }", "3"},
		{"{ $get_input: [ names, 1 ] }", "gate"},
		{"{ $get_input: [ table, alder-1 ] }", "fern-12"},
		{"{ $concat: [ a, 1, true, { $get_input: n } ] }", "a1true3"},
		{"{ $concat: [ [ 1 ], [ 2, 3 ] ] }", "[1, 2, 3]"},
		{"{ $concat: [ a, { $get_input: token } ] }", "(secret)"},
		{"{ $concat: [ a, { $get_input: late } ] }", "set by the cloud"},
		{`{ $join: [ [ a, b, c ], "-" ] }`, "a-b-c"},
		{"{ $join: [ [ a, b ] ] }", "ab"},
		{"{ $length: [ hällo ] }", "5"},
		{"{ $length: [ { $get_input: names } ] }", "2"},
		{"{ $length: [ [ 1, { $get_input: late } ] ] }", "2"},
		{"{ $length: { $get_input: names } }", "2"},
		{"{ $equal: [ 1, 1.0 ] }", "true"},
		{"{ $equal: [ [ 1 ], [ 1 ] ] }", "true"},
		{"{ $equal: [ a, b ] }", "false"},
		{"{ $greater_than: [ 2, 1 ] }", "true"},
		{"{ $greater_or_equal: [ 1, 1 ] }", "true"},
		{"{ $less_than: [ a, b ] }", "true"},
		{"{ $less_or_equal: [ 2, 1 ] }", "false"},
		{"{ $and: [ true, true, false ] }", "false"},
		{"{ $or: [ false, true ] }", "true"},
		{"{ $xor: [ true, true ] }", "false"},
		{"{ $not: [ false ] }", "true"},
		{"{ $not: true }", "false"},
		{"{ $valid_values: [ b, [ a, b ] ] }", "true"},
		{"{ $valid_values: [ 2, [ 1, 3 ] ] }", "false"},
		{"{ $matches: [ kestrel, '^k.*l$' ] }", "true"},
		{"{ $equal: [ { $get_input: token }, tok ] }", "(secret)"},
		{"{ $token: [ 10.40.1.0/24, /, 1 ] }", "24"},
		{"{ $has_suffix: [ kestrel, rel ] }", "true"},
		{"{ $has_suffix: [ [ 1, 2, 3 ], [ 2, 3 ] ] }", "true"},
		{"{ $has_prefix: [ kestrel, rel ] }", "false"},
		{"{ $has_prefix: [ [ 1 ], [ 1, 2 ] ] }", "false"},
		{"{ $contains: [ kestrel, str ] }", "true"},
		{"{ $contains: [ [ 1, 2, 3 ], [ 1, 3 ] ] }", "false"},
		{"{ $contains: [ [ 1, 2, 3 ], [ 2 ] ] }", "true"},
		{"{ $has_entry: [ { $get_input: names }, hut ] }", "true"},
		{"{ $has_entry: [ { a: 1 }, 2 ] }", "false"},
		{"{ $has_key: [ { $get_input: table }, alder-1 ] }", "true"},
		{"{ $has_all_entries: [ [ 1, 2, 3 ], [ 3, 1 ] ] }", "true"},
		{"{ $has_all_entries: [ [ 1, 2 ], [ 3, 1 ] ] }", "false"},
		{"{ $has_any_entry: [ [ 1, 2 ], [ 3, 1 ] ] }", "true"},
		{"{ $has_all_keys: [ { a: 1, b: 2 }, [ a, b ] ] }", "true"},
		{"{ $has_any_key: [ { a: 1 }, [ b, c ] ] }", "false"},
		{"{ $union: [ [ 1, 2 ], [ 2, 3 ], [ 1 ] ] }", "[1, 2, 3]"},
		{"{ $intersection: [ [ 1, 2, 2, 3 ], [ 3, 2 ] ] }", "[2, 3]"},
		{"{ $sum: [ 1, 2, 3 ] }", "6"},
		{"{ $sum: [ 1, 0.5 ] }", "1.5"},
		{"{ $sum: [ { $get_input: size }, { $get_input: size } ] }", "3 GiB"},
		{"{ $difference: [ 5, 7 ] }", "-2"},
		{"{ $difference: [ { $get_input: size }, { $get_input: size } ] }", "0 GiB"},
		{"{ $product: [ 2, 3, { $get_input: n } ] }", "18"},
		{"{ $product: [ { $get_input: size }, 3 ] }", "4.5 GiB"},
		{"{ $product: [ 2, { $get_input: size } ] }", "3 GiB"},
		{"{ $product: [ 2, 0.25 ] }", "0.5"},
		{"{ $quotient: [ 7, 2 ] }", "3.5"},
		{"{ $quotient: [ { $get_input: size }, 3 ] }", "0.5 GiB"},
		{"{ $quotient: [ { $get_input: size }, { $get_input: size } ] }", "1"},
		{"{ $remainder: [ 7, 4 ] }", "3"},
		{"{ $remainder: [ { $get_input: size }, { $get_input: gib } ] }", "0.5 GiB"},
		{"{ $round: [ 2.5 ] }", "3"},
		{"{ $floor: [ { $quotient: [ 7, 2 ] } ] }", "3"},
		{"{ $ceil: 2.1 }", "3"},
		{"{ $ceil: 4 }", "4"},
	} {
		env := &Env{Index: -1, Input: func(n string) (Value, bool) { v, ok := inputs[n]; return v, ok }}
		got, findings := eval(t, test.text, env)
		if Show(got) != test.want || len(findings) > 0 {
			t.Errorf("%s is %s %v, want %s", test.text, Show(got), findings, test.want)
		}
	}
}

func TestFunctionsRefuse(t *testing.T) {
	for _, test := range []struct{ text, code string }{
		{"{ $concat: [ a, [ b ] ] }", "wrong-type"},
		{"{ $concat: [ [ a ], b ] }", "wrong-type"},
		{"{ $join: [ a, b ] }", "wrong-type"},
		{"{ $length: [ 5 ] }", "wrong-type"},
		{"{ $and: [ true, 1 ] }", "wrong-type"},
		{"{ $greater_than: [ 1, a ] }", "wrong-type"},
		{"{ $valid_values: [ 1, 2 ] }", "wrong-type"},
		{"{ $matches: [ a, '[' ] }", "bad-pattern"},
		{"{ $matches: [ a, 1 ] }", "wrong-type"},
		{"$node_index", "index-outside-node"},
		{"$value", "value-outside-validation"},
		{"{ $get_property: [ a, b ] }", "no-nodes-here"},
		{"{ $get_input: [ list, 5 ] }", "no-such-element"},
		{"{ $get_input: [ [ a ] ] }", "wrong-type"},
		{"{ $xor: [ true ] }", "wrong-arguments"},
		{"{ $length: [] }", "wrong-arguments"},
		{"{ $nothing: [] }", "unknown-function"},
		{"{ $available_allocation: [ a ] }", "not-supported-yet"},
		{"{ $get_artifact: [ a, b ] }", "no-nodes-here"},
		{"$relationship_index", "index-outside-relationship"},
		{"{ $token: [ a, b ] }", "wrong-arguments"},
		{"{ $token: [ a, b, c ] }", "wrong-type"},
		{"{ $token: [ a.b, ., 2 ] }", "no-such-element"},
		{`{ $token: [ a, "", 0 ] }`, "wrong-type"},
		{"{ $contains: [ abc, [ a ] ] }", "wrong-type"},
		{"{ $has_entry: [ abc, a ] }", "wrong-type"},
		{"{ $has_key: [ [ a ], a ] }", "wrong-type"},
		{"{ $has_all_keys: [ { a: 1 }, a ] }", "wrong-type"},
		{"{ $union: [ [ 1 ], 2 ] }", "wrong-type"},
		{"{ $intersection: [ a, [ 1 ] ] }", "wrong-type"},
		{"{ $sum: [ 1, a ] }", "wrong-type"},
		{"{ $sum: [ a ] }", "wrong-type"},
		{"{ $sum: [ 9223372036854775807, 1 ] }", "too-large"},
		{"{ $difference: [ -9223372036854775807, 2 ] }", "too-large"},
		{"{ $product: [ 9223372036854775807, 2 ] }", "too-large"},
		{"{ $product: [ 2, a ] }", "wrong-type"},
		{"{ $quotient: [ 1, 0 ] }", "division-by-zero"},
		{"{ $quotient: [ a, 1 ] }", "wrong-type"},
		{"{ $quotient: [ 1, a ] }", "wrong-type"},
		{"{ $remainder: [ 1, 0 ] }", "division-by-zero"},
		{"{ $remainder: [ 1.5, 2 ] }", "wrong-type"},
		{"{ $round: [ a ] }", "wrong-type"},
		{"{ $floor: [ 1e300 ] }", "too-large"},
	} {
		env := &Env{Index: -1, Input: func(string) (Value, bool) { return List{Int(1)}, true }}
		got, findings := eval(t, test.text, env)
		if len(findings) != 1 || findings[0].Code != test.code || !isBad(got) {
			t.Errorf("%s is %s with %v, want %s", test.text, Show(got), findings, test.code)
		}
	}
}

func TestFit(t *testing.T) {
	lib := NewLibrary()
	lib.Data["Size"] = &Type{Name: "Size", Base: BaseScalar,
		Units: map[string]float64{"B": 1, "KiB": 1024, "GiB": 1 << 30}}
	lib.Data["Secret"] = &Type{Name: "Secret", Base: BaseString, Parent: lib.Data["string"]}
	lib.Data["Point"] = &Type{Name: "Point", Base: BaseStructure, Fields: []*Property{
		{Name: "x", Type: lib.Data["integer"], Required: true},
		{Name: "y", Type: lib.Data["integer"], Required: true, Default: &Expr{Value: Int(0)}},
	}}
	lib.Data["numbers"] = &Type{Name: "list", Base: BaseList, Entry: lib.Data["integer"]}
	lib.Data["sizes"] = &Type{Name: "map", Base: BaseMap, Entry: lib.Data["Size"]}
	for _, test := range []struct {
		typ  string
		v    Value
		want string // or the code of the finding
	}{
		{"string", String("a"), "a"},
		{"string", Int(5), "wrong-type"},
		{"string", Null{}, "wrong-type"},
		{"integer", Int(5), "5"},
		{"integer", Float(5), "5"},
		{"integer", Float(5.5), "wrong-type"},
		{"integer", String("5"), "wrong-type"},
		{"float", Int(5), "5"},
		{"float", String("x"), "wrong-type"},
		{"boolean", Bool(true), "true"},
		{"boolean", String("yes"), "wrong-type"},
		{"nil", Null{}, "null"},
		{"nil", Int(0), "wrong-type"},
		{"version", String("15.10"), "15.10"},
		{"version", Int(15), "15"},
		{"version", String("new"), "bad-version"},
		{"version", Bool(true), "wrong-type"},
		{"timestamp", String("2026-11-23T08:00:00Z"), "2026-11-23T08:00:00Z"},
		{"timestamp", String("2026-11-23"), "2026-11-23"},
		{"timestamp", String("soon"), "bad-timestamp"},
		{"bytes", String("aGk="), "aGk="},
		{"bytes", String("!"), "bad-bytes"},
		{"Size", String("8 GiB"), "8 GiB"},
		{"Size", String("8GiB"), "8 GiB"},
		{"Size", String("1.5e3 KiB"), "1.5e3 KiB"},
		{"Size", Int(8), "missing-unit"},
		{"Size", String("8 parsec"), "unknown-unit"},
		{"Size", String("large"), "bad-scalar"},
		{"Size", List{}, "wrong-type"},
		{"numbers", List{Int(1), Int(2)}, "[1, 2]"},
		{"numbers", List{Int(1), String("x")}, "wrong-type"},
		{"numbers", Int(1), "wrong-type"},
		{"sizes", Map{"a": String("1 B")}, "{a: 1 B}"},
		{"sizes", Map{"a": String("1 X")}, "unknown-unit"},
		{"sizes", List{}, "wrong-type"},
		{"Point", Map{"x": Int(1)}, "{x: 1, y: 0}"},
		{"Point", Map{"y": Int(1)}, "missing-property"},
		{"Point", Map{"x": Int(1), "z": Int(1)}, "unknown-property"},
		{"Point", String("x"), "wrong-type"},
		{"Secret", String("x"), "(secret)"},
		{"integer", Secret{String("x")}, "wrong-type"},
		{"string", Unknown{Of: []Attribute{{"a", "b"}}}, "set by the cloud"},
	} {
		var findings Findings
		got := Show(lib.Data[test.typ].Fit(test.v, Pos{File: "f", Line: 1}, "it", &findings))
		if len(findings) > 0 {
			got = findings[0].Code
		}
		if got != test.want {
			t.Errorf("%s as %s: %s, want %s", Show(test.v), test.typ, got, test.want)
		}
		for _, f := range findings {
			if test.v == (Secret{String("x")}) && strings.Contains(f.Message, "'x'") {
				t.Errorf("a finding shows a secret: %s", f.Message)
			}
		}
	}
}

func TestDescribe(t *testing.T) {
	for text, want := range map[string]string{
		"{ $and: [ { $greater_or_equal: [ $value, 1 ] }, { $less_or_equal: [ $value, 20 ] } ] }": "at least 1 and at most 20",
		"{ $valid_values: [ $value, [ small, large ] ] }":                                        "one of small, large",
		"{ $matches: [ $value, '^a' ] }":                                                         "text that matches ^a",
		"{ $greater_or_equal: [ { $length: [ $value ] }, 8 ] }":                                  "of length at least 8",
		"{ $not: [ { $equal: [ $value, x ] } ] }":                                                "not x",
		"{ $or: [ { $less_than: [ $value, 1 ] }, { $greater_than: [ $value, 5 ] } ] }":           "less than 1 or more than 5",
	} {
		var findings Findings
		r := &reader{shared: &shared{}, file: "x", budget: 1000}
		x := r.expr(ParseYAML("x", []byte("v: "+text), &findings).Content[1])
		if got := Describe(x); got != want {
			t.Errorf("%s is %q, want %q", text, got, want)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"cidr", "public", "label", "tags", "visible_after"}
	for name, want := range map[string]string{"cdir": "cidr", "Cidr": "cidr", "publik": "public", "lable": "label",
		"visible": "visible_after", "zzz": "", "x": ""} {
		if got := nearest(name, known); got != want {
			t.Errorf("nearest to %s is %q, want %q", name, got, want)
		}
	}
	if s := suggest("zzz", []string{"b", "a"}); s != "known here: a, b" {
		t.Errorf("with nothing near: %q", s)
	}
	if d := distance("kestrel", strings.Repeat("k", 200), 3); d <= 3 {
		t.Errorf("the distance to a long word is %d", d)
	}
}

func TestFindingsSort(t *testing.T) {
	var l Findings
	l.Warnf(Pos{"b", 1, 1}, "w", "", "w")
	l.Errorf(Pos{"a", 2, 1}, "x", "fix it", "second")
	l.Errorf(Pos{"a", 1, 9}, "y", "", "first")
	l.Errorf(Pos{"a", 1, 9}, "y", "", "first")
	l.Sort()
	if len(l) != 3 || l[0].Message != "first" || l[2].File != "b" || !l.HasErrors() {
		t.Errorf("sorted: %v", l)
	}
	if s := l[1].String(); s != "a:2:1: error: second [x]; fix it" {
		t.Errorf("a finding reads %q", s)
	}
	if (Findings{{Severity: Warning}}).HasErrors() {
		t.Error("a warning counts as an error")
	}
}
