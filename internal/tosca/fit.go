package tosca

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// misfit says why a value does not suit a type.
type misfit struct{ code, message, fix string }

// hidden is the misfit without the words of the value, which is secret, or has
// secret parts. Only what kind of value it is, and should be, may be said.
func (m *misfit) hidden(t *Type) *misfit {
	fix, _, quotes := strings.Cut(m.fix, ": ")
	if i := strings.Index(m.message, "expected "); i >= 0 {
		return &misfit{m.code, m.message[i:], fix}
	}
	if quotes || m.code == "unknown-property" || m.code == "missing-property" {
		fix = ""
	}
	return &misfit{m.code, "the value, which is secret, is not fit for " + t.article(), fix}
}

// hidesKeys reports whether the keys of a map are secret.
func (t *Type) hidesKeys() bool { return t != nil && t.Key != nil && t.Key.IsA("Secret") }

// HoldsSecret reports whether a value of the type is secret, or has parts that
// are.
func (t *Type) HoldsSecret() bool { return t.holdsSecret(0) }

func (t *Type) holdsSecret(depth int) bool {
	if t == nil || depth > maxDepth {
		return false
	}
	if t.IsA("Secret") || t.Key.holdsSecret(depth+1) || t.Entry.holdsSecret(depth+1) {
		return true
	}
	return slices.ContainsFunc(t.Fields, func(f *Property) bool { return f.Type.holdsSecret(depth + 1) })
}

var (
	versionPattern = regexp.MustCompile(`^\d+(\.\d+){0,3}([.-][0-9A-Za-z]+)*$`)
	scalarPattern  = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?)\s*([A-Za-z%µ°][^\s]*)$`)
)

// fit turns v into a value of the type without looking at validations. It
// leaves unknown and bad values alone, and keeps secrets secret; what the type
// says is secret becomes so, at any depth.
func (t *Type) fit(v Value) (Value, *misfit) {
	switch w := v.(type) {
	case Unknown:
		return v, nil
	case Secret:
		inner, m := t.fit(w.Value)
		if m != nil {
			return v, m.hidden(t)
		}
		return Hide(inner), nil
	}
	if t == nil {
		return v, nil
	}
	out, m := t.fitPlain(v)
	switch {
	case m != nil && t.HoldsSecret():
		return v, m.hidden(t)
	case m == nil && t.Base == BaseString && t.IsA("Secret"):
		return Hide(out), nil
	}
	return out, m
}

// fitPlain does it for a value that is neither unknown nor secret as a whole.
func (t *Type) fitPlain(v Value) (Value, *misfit) {
	fix := ""
	switch t.Base {
	case BaseString:
		switch v := v.(type) {
		case String:
			return v, nil
		case Int, Float, Bool:
			fix = fmt.Sprintf("put it in quotes: %q", Show(v))
		case Scalar:
			return String(v.Text), nil
		case Version:
			return String(v), nil
		}
	case BaseInteger:
		if _, ok := v.(Int); ok {
			return v, nil
		}
		if f, ok := v.(Float); ok && f == Float(int64(f)) {
			return Int(f), nil
		}
	case BaseFloat:
		switch v := v.(type) {
		case Float:
			return v, nil
		case Int:
			return Float(v), nil
		}
	case BaseBoolean:
		if _, ok := v.(Bool); ok {
			return v, nil
		}
		if s, ok := v.(String); ok && slices.Contains([]string{"yes", "no", "on", "off"}, strings.ToLower(string(s))) {
			fix = "write true or false"
		} else if ok && (s == "true" || s == "false") {
			fix = "write it without quotes"
		}
	case BaseNil:
		if _, ok := v.(Null); ok {
			return v, nil
		}
	case BaseVersion:
		text := Show(v)
		switch v.(type) {
		case Version, String, Int, Float:
			if versionPattern.MatchString(text) {
				return Version(text), nil
			}
			return v, &misfit{"bad-version", fmt.Sprintf("'%s' is not a version", text), "write it like 15 or 15.10"}
		}
	case BaseTimestamp:
		if s, ok := v.(String); ok {
			for _, layout := range []string{time.RFC3339Nano, time.DateOnly, "2006-01-02 15:04:05"} {
				if _, err := time.Parse(layout, string(s)); err == nil {
					return v, nil
				}
			}
			return v, &misfit{"bad-timestamp", fmt.Sprintf("'%s' is not a timestamp", string(s)),
				"write it like 2026-11-23T08:00:00Z"}
		}
	case BaseBytes:
		if s, ok := v.(String); ok {
			if _, err := base64.StdEncoding.DecodeString(string(s)); err != nil {
				return v, &misfit{"bad-bytes", "this is not base64", "encode the bytes as base64"}
			}
			return v, nil
		}
	case BaseScalar:
		return t.fitScalar(v)
	case BaseList:
		if l, ok := v.(List); ok {
			out := make(List, len(l))
			for i, e := range l {
				x, m := t.Entry.fit(e)
				if m != nil {
					return v, &misfit{m.code, fmt.Sprintf("element %d: %s", i, m.message), m.fix}
				}
				out[i] = x
			}
			return out, nil
		}
		fix = "write it as a list: [ " + Show(v) + " ]"
	case BaseMap:
		if mp, ok := v.(Map); ok {
			return t.fitMap(mp)
		}
	case BaseStructure:
		if mp, ok := v.(Map); ok {
			return t.fitStructure(mp)
		}
	}
	return v, &misfit{"wrong-type", fmt.Sprintf("expected %s, found %s", t.article(), KindName(v)), fix}
}

// fitMap fits the entries of a map, and its keys. Where the keys are secret, the
// map is.
func (t *Type) fitMap(mp Map) (Value, *misfit) {
	out := make(Map, len(mp))
	for _, k := range mp.Keys() {
		key, m := t.Key.fitKey(k, true)
		if m != nil {
			return mp, &misfit{m.code, "the key " + KeyText(k) + ": " + m.message, m.fix}
		}
		x, m := t.Entry.fit(mp[k])
		if m != nil {
			return mp, &misfit{m.code, KeyText(k) + ": " + m.message, m.fix}
		}
		out[key] = x
	}
	if t.Key != nil && t.Key.IsA("Secret") {
		return Hide(out), nil
	}
	return out, nil
}

// fitKey turns the key of a map into one of the type. What comes from JSON has
// text for keys: with read, text that spells a boolean or a number is one.
func (t *Type) fitKey(key string, read bool) (string, *misfit) {
	if t == nil {
		return key, nil
	}
	v := KeyValue(key)
	_, isText := v.(String)
	switch t.Base {
	case BaseString, BaseVersion, BaseScalar, BaseTimestamp, BaseBytes:
		v = String(KeyText(key))
	case BaseBoolean, BaseInteger, BaseFloat, BaseNil:
		if isText && read {
			v = KeyValue(typedKey + key)
		} else if isText {
			return key, &misfit{"wrong-type", fmt.Sprintf("expected %s, found a string", t.article()),
				"write it without quotes"}
		}
	}
	out, m := t.fit(v)
	if m != nil {
		return key, m
	}
	bare, _ := Bare(out)
	if k, ok := MapKey(bare); ok {
		return k, nil
	}
	return key, nil
}

func (t *Type) fitScalar(v Value) (Value, *misfit) {
	wrong := &misfit{code: "wrong-type"}
	switch v := v.(type) {
	case Scalar:
		return v, nil
	case Int, Float:
		wrong.code, wrong.message = "missing-unit", fmt.Sprintf("%s has no unit", Show(v))
	case String:
		number, unit := splitScalar(string(v))
		factor, ok := t.Units[unit]
		f, err := strconv.ParseFloat(number, 64)
		switch {
		case number == "" || unit == "" || err != nil:
			wrong.code, wrong.message = "bad-scalar", fmt.Sprintf("'%s' is not a number with a unit", string(v))
		case !ok:
			units := make([]string, 0, len(t.Units))
			for u := range t.Units {
				units = append(units, u)
			}
			slices.SortFunc(units, func(a, b string) int { return cmpFloat(t.Units[a], t.Units[b]) })
			return v, &misfit{"unknown-unit", fmt.Sprintf("%s has no unit '%s'", t.Name, unit),
				"the units are " + strings.Join(units, ", ")}
		case t.Whole && f*factor != float64(int64(f*factor)):
			return v, &misfit{"wrong-type", fmt.Sprintf("'%s' is not a whole number of %s", string(v), t.canonical()),
				""}
		default:
			return Scalar{Text: number + " " + unit, Amount: f * factor}, nil
		}
	}
	if wrong.message == "" {
		wrong.message = fmt.Sprintf("expected %s, found %s", t.article(), KindName(v))
	}
	wrong.fix = "write a number and a unit, such as " + t.exampleScalar()
	return v, wrong
}

// splitScalar takes a number with a unit apart; both parts are empty where it
// is none.
func splitScalar(s string) (number, unit string) {
	m := scalarPattern.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return "", ""
	}
	return m[1], m[2]
}

// canonical is the unit that others are counted in.
func (t *Type) canonical() string {
	for u, f := range t.Units {
		if f == 1 {
			return u
		}
	}
	return "units"
}

func (t *Type) exampleScalar() string {
	best := ""
	for u, f := range t.Units {
		if best == "" || f < t.Units[best] || f == t.Units[best] && u < best {
			best = u
		}
	}
	if e := t.Metadata["example"]; e != "" {
		return e
	}
	return "1 " + best
}

func (t *Type) fitStructure(mp Map) (Value, *misfit) {
	out := Map{}
	for _, k := range mp.Keys() {
		f := find(t.Fields, k)
		if f == nil {
			return mp, &misfit{"unknown-property", fmt.Sprintf("%s has no property '%s'", t.Name, k),
				suggest(k, names(t.Fields))}
		}
		x, m := f.Type.fit(mp[k])
		if m != nil {
			return mp, &misfit{m.code, k + ": " + m.message, m.fix}
		}
		out[k] = x
	}
	for _, f := range t.Fields {
		if _, given := out[f.Name]; given {
			continue
		}
		if v, ok := f.Constant(); ok {
			out[f.Name] = v
		} else if f.Required && f.Default == nil {
			return mp, &misfit{"missing-property", fmt.Sprintf("%s needs the property '%s'", t.Name, f.Name),
				"add " + f.Name + ": " + f.Type.Label()}
		}
	}
	return out, nil
}

func (t *Type) article() string {
	label := t.Label()
	if strings.ContainsAny(label[:1], "aeiou") {
		return "an " + label
	}
	return "a " + label
}

// Fit turns v into a value of the type and applies its validations and those
// of its parts. Findings are reported at p; what is the thing in words. The
// value of a Secret type comes out marked as secret.
func (t *Type) Fit(v Value, p Pos, what string, findings *Findings) Value {
	if t != nil {
		if out, ok := t.Seen(v); ok {
			return out
		}
	}
	if isBad(v) {
		return v
	}
	out, m := t.fit(v)
	if m != nil {
		findings.Errorf(p, m.code, m.fix, "%s: %s", what, m.message)
		return Unknown{Bad: true}
	}
	if !t.validate(out, p, what, findings) {
		return Unknown{Bad: true}
	}
	if t != nil {
		t.remember(v, out)
	}
	return out
}

// Read turns what a cloud or a store holds into a value of the type, without
// looking at validations; what does not fit is kept as it is.
func (t *Type) Read(v Value) Value {
	if out, m := t.fit(v); m == nil {
		return out
	}
	if t.HoldsSecret() {
		return Hide(v)
	}
	return v
}

// Unseen names the first letter of a text that cannot be seen; "" is that there is none.
func Unseen(text string) string {
	for _, r := range text {
		switch {
		case r == '\n':
			return "a line break"
		case r == '\t':
			return "a tab"
		case unicode.IsControl(r), unicode.Is(unicode.Cf, r), unicode.Is(unicode.Zl, r), unicode.Is(unicode.Zp, r), r == utf8.RuneError:
			return fmt.Sprintf("the letter U+%04X", r)
		}
	}
	return ""
}
