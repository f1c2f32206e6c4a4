package tosca

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
)

func TestSecretsAreFoundInWords(t *testing.T) {
	secret := "hoar<frost>&\"77\"/ü é"
	quoted, err := json.Marshal(secret)
	if err != nil {
		t.Fatal(err)
	}
	s := SecretsOf(Map{"a": List{Secret{String(secret)}, String("open")},
		"b": Secret{Map{"a-key": String("inner-secret")}}, "n": Secret{Int(12345678)}, "short": Secret{String("abc")}})
	for name, text := range map[string]string{
		"clear": secret, "quoted": fmt.Sprintf("%q", secret), "json": string(quoted), "url": url.QueryEscape(secret),
		"path": url.PathEscape(secret), "hex": hex.EncodeToString([]byte(secret)),
		"HEX":                      strings.ToUpper(hex.EncodeToString([]byte(secret))),
		"base64":                   base64.StdEncoding.EncodeToString([]byte(secret)),
		"base64 behind one letter": base64.StdEncoding.EncodeToString([]byte("u" + secret + "v")),
		"base64 behind two":        base64.URLEncoding.EncodeToString([]byte("us" + secret + "vw")),
		"a part":                   "inner-secret", "a key": "a-key", "a number": "no 12345678 is free",
	} {
		if got := s.Hide("before " + text + " behind"); !strings.Contains(got, SecretText) ||
			!strings.HasPrefix(got, "before ") || !strings.HasSuffix(got, " behind") || strings.Contains(got, text) {
			t.Errorf("%s: %s", name, got)
		}
	}
	for name, text := range map[string]string{"in capitals": "INNER-SECRET", "mixed": "Inner-Secret", "one escape": "inner%2Dsecret", "small": "inner%2dsecret",
		"all": "%69%6E%6e%65%72%2d%73%65%63%72%65%74", "json": `inner\u002dsecret`, "json capital": `INNER\u002Dsecret`, "hexadecimal": `inner\x2dsecret`,
		"html": "inner&#45;secret", "html hexadecimal": "inner&#x2D;secret"} {
		if got := s.Hide("A %41 " + text + " b%2D&#45; é" + text); got != "A %41 "+SecretText+" b%2D&#45; é"+SecretText {
			t.Errorf("%s: %s", name, got)
		}
		if s.Longest() < len(text) {
			t.Errorf("%s is longer than what is held back", name)
		}
	}
	for _, text := range []string{"", "open", "100 %", `\`, "&#", "%2", "İ", "\xff\xfe", "abc stands in many a word", "1234"} {
		if got := s.Hide(text); got != text {
			t.Errorf("%q became %q", text, got)
		}
	}
	marked := s.Mark(Map{"words": String("it is " + secret), "list": List{String("x"), String("inner-secret")},
		"plain": String("x")})
	if got := Show(marked); got != "{list: [x, (secret)], plain: x, words: (secret)}" {
		t.Error(got)
	}
	if _, whole := s.Mark(Map{"a-key": String("x")}).(Secret); !whole {
		t.Error("a map with a secret key is not secret")
	}
	base := errors.New("no " + secret)
	if err := s.Error(fmt.Errorf("tried: %w", base)); !errors.Is(err, base) || strings.Contains(err.Error(), secret) {
		t.Error(err)
	}
	var none *Secrets
	if none.Hide(secret) != secret || !none.Empty() || none.Clone().In(secret) {
		t.Error("nothing hides something")
	}
	lines := SecretsOf(Secret{String("first line of it\nsecond line of it\n")})
	if got := lines.Hide("the cloud says second line of it"); got != "the cloud says (secret)" {
		t.Error(got)
	}
}

// TestMessagesTellNoSecret makes every kind of mistake with a secret in it.
func TestMessagesTellNoSecret(t *testing.T) {
	const secret = "hoarfrost-[77"
	types := NewLibrary().Data
	hidden := &Type{Name: "Secret", Base: BaseString, Parent: types["string"]}
	list := &Type{Name: "list", Base: BaseList, Entry: hidden}
	structure := &Type{Name: "Login", Base: BaseStructure,
		Fields: []*Property{{Name: "word", Type: hidden, Required: true}}}
	scalar := &Type{Name: "Size", Base: BaseScalar, Units: map[string]float64{"B": 1}}
	keys := &Type{Name: "map", Base: BaseMap, Key: hidden, Entry: types["integer"]}
	for name, test := range map[string]struct {
		t *Type
		v Value
	}{
		"text for a list of secrets": {list, String(secret)}, "a number for a secret": {hidden, Int(77777777)},
		"a list for a secret":            {hidden, List{String(secret)}},
		"an unknown part":                {structure, Map{secret: String("x")}},
		"text for a structure":           {structure, String(secret)},
		"no scalar":                      {scalar, Secret{String(secret)}},
		"no version":                     {types["version"], Secret{String(secret)}},
		"no unit":                        {scalar, Secret{String("8 hoarfrost")}},
		"no time":                        {types["timestamp"], Secret{String(secret)}},
		"text for a number":              {types["integer"], Secret{String(secret)}},
		"a bad entry under a secret key": {keys, Map{secret: String("x")}},
	} {
		var findings Findings
		test.t.Fit(test.v, Pos{}, "it", &findings)
		if text := fmt.Sprint(findings); len(findings) == 0 || strings.Contains(text, "hoarfrost") ||
			strings.Contains(text, "77777777") {
			t.Errorf("%s: %s", name, text)
		}
	}
	for name, call := range map[string]*Expr{
		"a bad pattern": {Kind: CallExpr, Name: "matches",
			Args: []*Expr{{Value: String("x")}, {Value: Secret{String(secret)}}}},
		"a missing element": {Kind: CallExpr, Name: "token",
			Args: []*Expr{{Value: Secret{String(secret)}}, {Value: String("-")}, {Value: Int(9)}}},
		"what is no number": {Kind: CallExpr, Name: "sum",
			Args: []*Expr{{Value: Int(1)}, {Value: Secret{String(secret)}}}},
		"what is too large": {Kind: CallExpr, Name: "round", Args: []*Expr{{Value: Secret{Float(1e300)}}}},
		"what has no order": {Kind: CallExpr, Name: "less_than",
			Args: []*Expr{{Value: List{}}, {Value: Secret{String(secret)}}}},
		"what is not boolean": {Kind: CallExpr, Name: "not", Args: []*Expr{{Value: Secret{String(secret)}}}},
	} {
		var findings Findings
		(&Env{Index: -1, Findings: &findings}).Eval(call)
		if text := fmt.Sprint(findings); len(findings) == 0 || strings.Contains(text, "hoarfrost") ||
			strings.Contains(text, "1e+300") {
			t.Errorf("%s: %s", name, text)
		}
	}
}

// TestKeysOfMapsKeepTheirType goes from text to values and back.
func TestKeysOfMapsKeepTheirType(t *testing.T) {
	for _, v := range []Value{String("a"), String("true"), Bool(true), Int(8080), Int(-1), Float(1.5), Null{}} {
		key, ok := MapKey(v)
		if !ok || KeyValue(key) != v {
			t.Errorf("%#v becomes %q and %#v", v, key, KeyValue(key))
		}
	}
	if _, ok := MapKey(List{}); ok {
		t.Error("a list is a key")
	}
	number, _ := MapKey(Int(1))
	yes, _ := MapKey(Bool(true))
	m := Map{number: String("one"), yes: String("yes"), "true": String("text")}
	for key, want := range map[Value]string{Int(1): "one", Bool(true): "yes", String("true"): "text"} {
		if got, ok := At(m, key); !ok || Show(got) != want {
			t.Errorf("%#v: %v", key, got)
		}
	}
	boolean := &Type{Name: "map", Base: BaseMap, Key: &Type{Name: "boolean", Base: BaseBoolean},
		Entry: &Type{Name: "integer", Base: BaseInteger}}
	if got, m := boolean.fit(Map{"true": Int(1)}); m != nil || got.(Map)[yes] != Int(1) { // as JSON has it
		t.Errorf("%v %v", got, m)
	}
	text, err := json.Marshal(Map{number: Int(1)})
	if err != nil || string(text) != `{"1":1}` {
		t.Errorf("%s %v", text, err)
	}
}
