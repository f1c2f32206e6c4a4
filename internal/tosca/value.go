package tosca

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Value is what an expression comes to. The set is closed: Null, Bool, Int,
// Float, String, Scalar, Version, List, Map, Unknown and Secret.
//
// Encoding a Value as JSON never shows a secret: Secret encodes as
// "(secret)" and Unknown as null.
type Value interface{ value() }

type (
	// Null is YAML's null.
	Null struct{}
	// Bool is a boolean.
	Bool bool
	// Int is an integer, 64 bits wide.
	Int int64
	// Float is a floating point number.
	Float float64
	// String is text, and also carries timestamps and bytes (base64).
	String string
	// Scalar is a number with a unit. Amount is in the canonical unit of its
	// type; Text is how it was written, such as "8 GiB".
	Scalar struct {
		Text   string
		Amount float64
	}
	// Version is a version such as 15.10, compared part by part.
	Version string
	// List is an ordered list.
	List []Value
	// Map holds values by key. A key is text; one that is a boolean, a number
	// or null in the template keeps that: MapKey makes such a key of a value,
	// KeyValue and KeyText go back.
	Map map[string]Value
	// Unknown is a value that the cloud sets, or that depends on one. Of
	// names the attributes it waits for. Bad marks a value that could not be
	// computed and was reported already, so that nothing else complains.
	Unknown struct {
		Of  []Attribute
		Bad bool
	}
	// Secret wraps a value that must not be written, shown or logged.
	Secret struct{ Value Value }
)

// Attribute names one attribute of one resource.
type Attribute struct{ Resource, Name string }

func (Null) value()    {}
func (Bool) value()    {}
func (Int) value()     {}
func (Float) value()   {}
func (String) value()  {}
func (Scalar) value()  {}
func (Version) value() {}
func (List) value()    {}
func (Map) value()     {}
func (Unknown) value() {}
func (Secret) value()  {}

// Unreadable is a secret that this user has not the key of. Nobody knows whether it is the same as another
// value, and so it counts as the same.
var Unreadable Value = Secret{Value: Unknown{Bad: true}}

// IsUnreadable reports whether a value is such a secret.
func IsUnreadable(v Value) bool {
	s, secret := v.(Secret)
	if !secret {
		return false
	}
	u, ok := s.Value.(Unknown)
	return ok && u.Bad
}

// SecretText stands for a secret wherever a value is shown.
const SecretText = "(secret)"

// MarshalJSON hides the secret.
func (Secret) MarshalJSON() ([]byte, error) { return []byte(`"` + SecretText + `"`), nil }

// String hides the secret, also under %v.
func (Secret) String() string { return SecretText }

// GoString hides the secret under %#v.
func (Secret) GoString() string { return SecretText }

// MarshalJSON encodes an unknown as null.
func (Unknown) MarshalJSON() ([]byte, error) { return []byte("null"), nil }

// MarshalJSON encodes null.
func (Null) MarshalJSON() ([]byte, error) { return []byte("null"), nil }

// MarshalJSON encodes a scalar as it was written.
func (s Scalar) MarshalJSON() ([]byte, error) { return json.Marshal(s.Text) }

// Show is the value as one line of text for people, secrets hidden.
func Show(v Value) string {
	switch v := v.(type) {
	case nil:
		return "–"
	case Unknown:
		return "set by the cloud"
	case String:
		return string(v)
	case Secret:
		return SecretText
	case Scalar:
		return v.Text
	case Version:
		return string(v)
	case List:
		parts := make([]string, len(v))
		for i, e := range v {
			parts[i] = Show(e)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case Map:
		parts := make([]string, 0, len(v))
		for _, k := range v.Keys() {
			parts = append(parts, KeyText(k)+": "+Show(v[k]))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	b, err := json.Marshal(v)
	if err != nil {
		return "?"
	}
	return string(b)
}

// Keys lists the keys in order.
func (m Map) Keys() []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// typedKey begins a key that is no text. What follows is the value as YAML
// writes it.
const typedKey = "\x00"

// MapKey is the key of a Map that a value is; ok is false for lists, maps and
// other values that cannot be a key.
func MapKey(v Value) (key string, ok bool) {
	switch v := v.(type) {
	case String:
		return string(v), true
	case Version:
		return string(v), true
	case Scalar:
		return v.Text, true
	case nil, Null:
		return typedKey + "null", true
	case Bool, Int, Float:
		return typedKey + Show(v), true
	}
	return "", false
}

// KeyValue is the value that a key of a Map is.
func KeyValue(key string) Value {
	text, typed := strings.CutPrefix(key, typedKey)
	if !typed {
		return String(key)
	}
	switch text {
	case "null":
		return Null{}
	case "true", "false":
		return Bool(text == "true")
	}
	if i, err := strconv.ParseInt(text, 10, 64); err == nil {
		return Int(i)
	}
	if f, err := strconv.ParseFloat(text, 64); err == nil {
		return Float(f)
	}
	return String(text)
}

// KeyText is a key of a Map as text, for people and for JSON, which knows text
// alone.
func KeyText(key string) string { return strings.TrimPrefix(key, typedKey) }

// Pointer is the JSON Pointer (RFC 6901) to a part of a part: Pointer("tags",
// "crew/desk") is /tags/crew~1desk.
func Pointer(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString("/" + pointerEscapes.Replace(p))
	}
	return b.String()
}

var pointerEscapes = strings.NewReplacer("~", "~0", "/", "~1")

// MarshalJSON encodes the map; keys that are no text become text.
func (m Map) MarshalJSON() ([]byte, error) {
	plain := make(map[string]Value, len(m))
	for k, v := range m {
		plain[KeyText(k)] = v
	}
	return json.Marshal(plain)
}

// has finds a value by a key as it stands in a path: of its type first, and
// otherwise by its text.
func (m Map) has(key Value) (Value, bool) {
	k, ok := MapKey(key)
	if !ok {
		return nil, false
	}
	v, ok := m[k]
	if !ok && strings.HasPrefix(k, typedKey) {
		v, ok = m[KeyText(k)]
	}
	return v, ok
}

// FromJSON makes a Value of what encoding/json decodes. Numbers without a
// fraction become Int.
func FromJSON(x any) Value {
	switch x := x.(type) {
	case nil:
		return Null{}
	case bool:
		return Bool(x)
	case string:
		return String(x)
	case json.Number:
		if i, err := x.Int64(); err == nil {
			return Int(i)
		}
		f, _ := x.Float64()
		return Float(f)
	case float64:
		if x == math.Trunc(x) && math.Abs(x) < 1<<53 {
			return Int(int64(x))
		}
		return Float(x)
	case []any:
		l := make(List, len(x))
		for i, e := range x {
			l[i] = FromJSON(e)
		}
		return l
	case map[string]any:
		m := make(Map, len(x))
		for k, e := range x {
			m[k] = FromJSON(e)
		}
		return m
	}
	return Unknown{Bad: true}
}

// Reveal is the value with secrets in clear, ready for encoding/json. It is
// for calls to the cloud and for nothing else.
func Reveal(v Value) any {
	switch v := v.(type) {
	case Secret:
		return Reveal(v.Value)
	case List:
		l := make([]any, len(v))
		for i, e := range v {
			l[i] = Reveal(e)
		}
		return l
	case Map:
		m := make(map[string]any, len(v))
		for k, e := range v {
			m[KeyText(k)] = Reveal(e)
		}
		return m
	}
	return v
}

// Stored is the value with secrets in clear for an encrypted store, ready for
// encoding/json: keys of maps stay what they are.
func Stored(v Value) any {
	switch v := v.(type) {
	case Secret:
		return Stored(v.Value)
	case List:
		l := make([]any, len(v))
		for i, e := range v {
			l[i] = Stored(e)
		}
		return l
	case Map:
		m := make(map[string]any, len(v))
		for k, e := range v {
			m[k] = Stored(e)
		}
		return m
	}
	return v
}

// IsKnown reports whether no part of v is unknown.
func IsKnown(v Value) bool { return !Waits(v) && !isBad(v) }

// Awaits lists the attributes that v waits for.
func Awaits(v Value) []Attribute {
	switch v := v.(type) {
	case Unknown:
		return v.Of
	case Secret:
		return Awaits(v.Value)
	case List:
		var of []Attribute
		for _, e := range v {
			of = append(of, Awaits(e)...)
		}
		return of
	case Map:
		var of []Attribute
		for _, k := range v.Keys() {
			of = append(of, Awaits(v[k])...)
		}
		return of
	}
	return nil
}

// Waits reports whether a value has parts that wait for the cloud.
func Waits(v Value) bool {
	switch v := v.(type) {
	case Unknown:
		return len(v.Of) > 0
	case Secret:
		return Waits(v.Value)
	case List:
		return slices.ContainsFunc(v, Waits)
	case Map:
		for _, e := range v {
			if Waits(e) {
				return true
			}
		}
	}
	return false
}

func isBad(v Value) bool {
	switch v := v.(type) {
	case Unknown:
		return v.Bad
	case Secret:
		return isBad(v.Value)
	case List:
		return slices.ContainsFunc(v, isBad)
	case Map:
		for _, e := range v {
			if isBad(e) {
				return true
			}
		}
	}
	return false
}

// HasSecret reports whether any part of v is secret.
func HasSecret(v Value) bool {
	switch v := v.(type) {
	case Secret:
		return true
	case List:
		return slices.ContainsFunc(v, HasSecret)
	case Map:
		for _, e := range v {
			if HasSecret(e) {
				return true
			}
		}
	}
	return false
}

// InClear is the text of a value, also of what is secret: it is for comparing.
func InClear(v Value) string {
	bare, _ := Bare(v)
	return Show(bare)
}

// Bare strips the mark of a secret, and says whether there was one anywhere
// in v.
func Bare(v Value) (Value, bool) {
	if !HasSecret(v) {
		return v, false
	}
	switch v := v.(type) {
	case Secret:
		b, _ := Bare(v.Value)
		return b, true
	case List:
		l := make(List, len(v))
		for i, e := range v {
			l[i], _ = Bare(e)
		}
		return l, true
	case Map:
		m := make(Map, len(v))
		for k, e := range v {
			m[k], _ = Bare(e)
		}
		return m, true
	}
	return v, true
}

// Hide marks v as secret.
func Hide(v Value) Value {
	b, _ := Bare(v)
	return Secret{b}
}

// Equal compares two values. An unknown equals nothing, numbers compare by
// amount, and a secret compares by what it hides.
func Equal(a, b Value) bool {
	if s, ok := a.(Secret); ok {
		if IsUnreadable(s) {
			return true
		}
		return Equal(s.Value, b)
	}
	if s, ok := b.(Secret); ok {
		if IsUnreadable(s) {
			return true
		}
		return Equal(a, s.Value)
	}
	switch a := a.(type) {
	case nil, Null:
		return b == nil || b == Value(Null{})
	case Int:
		switch b := b.(type) {
		case Int:
			return a == b
		case Float:
			return Float(a) == b
		}
	case Float:
		switch b := b.(type) {
		case Int:
			return a == Float(b)
		case Float:
			return a == b
		}
	case Bool:
		y, ok := b.(Bool)
		return ok && a == y
	case String:
		switch b := b.(type) {
		case String:
			return a == b
		case Version:
			return string(a) == string(b)
		case Scalar:
			return string(a) == b.Text
		}
	case Version:
		switch b := b.(type) {
		case Version:
			return compareVersions(string(a), string(b)) == 0
		case String:
			return string(a) == string(b)
		}
	case Scalar:
		switch b := b.(type) {
		case Scalar:
			return a.Amount == b.Amount
		case String:
			return a.Text == string(b)
		}
	case List:
		y, ok := b.(List)
		return ok && slices.EqualFunc(a, y, Equal)
	case Map:
		y, ok := b.(Map)
		if !ok || len(a) != len(y) {
			return false
		}
		for k, e := range a {
			if f, ok := y[k]; !ok || !Equal(e, f) {
				return false
			}
		}
		return true
	}
	return false
}

// Compare orders two numbers, texts, scalars or versions: -1, 0 or 1. It is
// not ok for values that have no common order.
func Compare(a, b Value) (order int, ok bool) {
	a, _ = Bare(a)
	b, _ = Bare(b)
	if x, isNumber := number(a); isNumber {
		y, same := number(b)
		return cmpFloat(x, y), same
	}
	switch a := a.(type) {
	case Scalar:
		y, same := b.(Scalar)
		return cmpFloat(a.Amount, y.Amount), same
	case Version:
		switch b := b.(type) {
		case Version:
			return compareVersions(string(a), string(b)), true
		case Int, Float, String:
			return compareVersions(string(a), Show(b)), true
		}
	case String:
		y, same := b.(String)
		return strings.Compare(string(a), string(y)), same
	}
	return 0, false
}

func number(v Value) (float64, bool) {
	switch v := v.(type) {
	case Int:
		return float64(v), true
	case Float:
		return float64(v), true
	}
	return 0, false
}

func cmpFloat(a, b float64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func compareVersions(a, b string) int {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(as), len(bs)) {
		var x, y string
		if i < len(as) {
			x = as[i]
		}
		if i < len(bs) {
			y = bs[i]
		}
		m, errM := strconv.Atoi("0" + x)
		n, errN := strconv.Atoi("0" + y)
		if errM != nil || errN != nil {
			if c := strings.Compare(x, y); c != 0 {
				return c
			}
			continue
		}
		if m != n {
			return cmpFloat(float64(m), float64(n))
		}
	}
	return 0
}

// KindName is the word for the kind of v in a message.
func KindName(v Value) string {
	switch v := v.(type) {
	case nil, Null:
		return "null"
	case Bool:
		return "a boolean"
	case Int:
		return "an integer"
	case Float:
		return "a float"
	case String:
		return "a string"
	case Scalar:
		return "a number with a unit"
	case Version:
		return "a version"
	case List:
		return "a list"
	case Map:
		return "a map"
	case Secret:
		return KindName(v.Value)
	}
	return fmt.Sprintf("%T", v)
}

// At follows keys and indexes into v. What lies behind a secret, or is found by
// one, is secret.
func At(v Value, path ...Value) (Value, bool) {
	if len(path) == 0 {
		return v, true
	}
	step, secret := Bare(path[0])
	var next Value
	found := false
	switch w := v.(type) {
	case Secret:
		x, ok := At(w.Value, path...)
		if !ok {
			return nil, false
		}
		return Hide(x), true
	case Unknown:
		return w, true
	case Map:
		next, found = w.has(step)
	case List:
		if i, ok := step.(Int); ok && i >= 0 && int(i) < len(w) {
			next, found = w[i], true
		}
	}
	if !found {
		return nil, false
	}
	if next, found = At(next, path[1:]...); found && secret { // which one it is tells something
		next = Hide(next)
	}
	return next, found
}
