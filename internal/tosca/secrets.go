package tosca

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"html"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// Secrets is a set of secret texts that are looked for in what comes from
// outside: in the words of a cloud, in its attributes, in messages. Each is
// known in clear and in its usual encodings: base64, at any place of a longer
// text, URL, JSON, hexadecimal, HTML. The zero value is empty and ready to
// use; it may be used from several goroutines. A nil *Secrets is empty.
type Secrets struct {
	mu    sync.RWMutex
	texts map[string]bool
	hide  *strings.Replacer // nil until it is asked for
	plain *strings.Replacer // of the texts as plainly writes them; nil as hide
}

// The shortest texts that are looked for: shorter ones stand in many a word by
// chance.
const (
	shortestSecret   = 4
	shortestNumber   = 6
	shortestEncoding = 6 // in base64
	shortestLine     = 8 // of a secret of several lines
)

// SecretsOf is the set of all secrets in some values.
func SecretsOf(values ...Value) *Secrets {
	s := &Secrets{}
	s.Add(values...)
	return s
}

// Clone is a set of its own with the same secrets.
func (s *Secrets) Clone() *Secrets {
	out := &Secrets{}
	if s != nil {
		s.mu.RLock()
		defer s.mu.RUnlock()
		out.texts, out.hide, out.plain = maps.Clone(s.texts), s.hide, s.plain
	}
	return out
}

// Add adds every secret in some values.
func (s *Secrets) Add(values ...Value) {
	for _, v := range values {
		s.collect(v, false)
	}
}

// Merge adds all of another set.
func (s *Secrets) Merge(o *Secrets) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.texts == nil {
		s.texts = map[string]bool{}
	}
	for text := range o.texts {
		s.texts[text] = true
	}
	s.hide = nil
}

// AddText adds texts that are secret.
func (s *Secrets) AddText(texts ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range texts {
		s.add(t, shortestSecret)
	}
}

func (s *Secrets) collect(v Value, secret bool) {
	switch v := v.(type) {
	case Secret:
		s.collect(v.Value, true)
	case List:
		for _, e := range v {
			s.collect(e, secret)
		}
	case Map:
		for k, e := range v {
			if secret {
				s.AddText(KeyText(k))
			}
			s.collect(e, secret)
		}
	case String:
		if secret {
			s.AddText(string(v))
		}
	case Version, Scalar, Int, Float:
		if secret {
			s.mu.Lock()
			s.add(Show(v), shortestNumber)
			s.mu.Unlock()
		}
	}
}

func (s *Secrets) add(text string, shortest int) {
	text = strings.TrimFunc(text, unicode.IsSpace)
	if len(text) < shortest || s.texts[text] || text == SecretText {
		return
	}
	if s.texts == nil {
		s.texts = map[string]bool{}
	}
	s.texts[text], s.hide = true, nil
	if strings.Contains(text, "\n") {
		for line := range strings.Lines(text) {
			s.add(line, shortestLine)
		}
	}
}

// Empty reports whether there is nothing to look for.
func (s *Secrets) Empty() bool {
	if s == nil {
		return true
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.texts) == 0
}

// replacers find the secrets as they are encoded, and those in a text that plainly has written.
func (s *Secrets) replacers() (encoded, plain *strings.Replacer) {
	if s.Empty() {
		return nil, nil
	}
	s.mu.RLock()
	r, plain := s.hide, s.plain
	s.mu.RUnlock()
	if r != nil {
		return r, plain
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hide == nil {
		seen := map[string]bool{}
		for t := range s.texts {
			for _, f := range encodings(t) {
				seen[f] = true
			}
		}
		forms := make([]string, 0, len(seen))
		for f := range seen {
			forms = append(forms, f)
		}
		slices.SortFunc(forms, func(a, b string) int { // the longest first, as it holds others
			if len(a) != len(b) {
				return len(b) - len(a)
			}
			return strings.Compare(a, b)
		})
		pairs := make([]string, 0, 2*len(forms))
		for _, f := range forms {
			pairs = append(pairs, f, SecretText)
		}
		s.hide = strings.NewReplacer(pairs...)
		pairs = pairs[:0]
		for t := range s.texts {
			t, _ = plainly(t, false)
			pairs = append(pairs, t, found)
		}
		s.plain = strings.NewReplacer(pairs...)
	}
	return s.hide, s.plain
}

// Longest is the length of the longest text that is looked for, in bytes; 0 is that there is none.
func (s *Secrets) Longest() int {
	n := 0
	if s.Empty() {
		return 0
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for t := range s.texts {
		for _, form := range encodings(t) {
			n = max(n, len(form))
		}
		n = max(n, longestEscape*len(t))
	}
	return n
}

// Hide is a text without the secrets in it.
func (s *Secrets) Hide(text string) string {
	encoded, plain := s.replacers()
	if encoded == nil || text == "" {
		return text
	}
	text = encoded.Replace(text)
	if written, _ := plainly(text, false); plain.Replace(written) != written {
		return s.hidePlainly(text)
	}
	return text
}

// hidePlainly hides what only its case or its escapes tell from a secret.
func (s *Secrets) hidePlainly(text string) string {
	written, at := plainly(text, true)
	s.mu.RLock()
	secret := make([]bool, len(written))
	for t := range s.texts {
		t, _ = plainly(t, false)
		for from := 0; from < len(written); {
			i := strings.Index(written[from:], t)
			if i < 0 || t == "" {
				break
			}
			for j := range len(t) {
				secret[from+i+j] = true
			}
			from += i + len(t)
		}
	}
	s.mu.RUnlock()
	var out strings.Builder
	for i := 0; i < len(written); {
		end := i + 1
		for end < len(written) && secret[end] == secret[i] {
			end++
		}
		if secret[i] {
			out.WriteString(SecretText)
		} else {
			out.WriteString(text[at[i]:at[end]])
		}
		i = end
	}
	return out.String()
}

// found stands where a replacer has found something; no text has it.
const found = "\xff"

// longestEscape is how long one character may be when it is escaped, in bytes.
const longestEscape = len("&#x0000;")

// escape is a character of one byte that is written in another way: %2D, \u002d, \x2d, &#x2d; or &#45;.
var escape = regexp.MustCompile(`^(?:%([0-9A-Fa-f]{2})|\\u00([0-7][0-9A-Fa-f])|\\x([0-7][0-9A-Fa-f])|&#[xX]0{0,4}([0-9A-Fa-f]{2});|&#0{0,4}([0-9]{2,3});)`)

// plainly is a text in small letters and without escapes. at, where it is asked for, says
// from where in the text each byte comes, and where the text ends.
func plainly(text string, places bool) (written string, at []int) {
	if !places && !strings.ContainsAny(text, `%\&`) {
		return strings.ToLower(text), nil
	}
	out := make([]byte, 0, len(text))
	put := func(i int, b ...byte) {
		for range b {
			if places {
				at = append(at, i)
			}
		}
		out = append(out, b...)
	}
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '%' || c == '\\' || c == '&':
			m := escape.FindStringSubmatch(text[i:min(len(text), i+longestEscape+4)])
			if m == nil {
				put(i, c)
				i++
				continue
			}
			code, err := uint64(0), error(nil)
			for j, digits := range m[1:] {
				if digits != "" {
					base := 16
					if j == 4 {
						base = 10
					}
					code, err = strconv.ParseUint(digits, base, 8)
				}
			}
			if err != nil {
				code = ' '
			}
			put(i, []byte(strings.ToLower(string([]byte{byte(code)})))...)
			i += len(m[0])
		default:
			r, n := utf8.DecodeRuneInString(text[i:])
			if r == utf8.RuneError && n < 2 {
				put(i, c)
				i++
				continue
			}
			put(i, utf8.AppendRune(nil, unicode.ToLower(r))...)
			i += n
		}
	}
	if places {
		at = append(at, len(text))
	}
	return string(out), at
}

// HideIn is what encoding/json decodes, without the secrets in its texts.
func (s *Secrets) HideIn(m map[string]any) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[s.Hide(k)] = s.hideIn(v)
	}
	return out
}

func (s *Secrets) hideIn(x any) any {
	switch x := x.(type) {
	case string:
		return s.Hide(x)
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = s.hideIn(e)
		}
		return out
	case map[string]any:
		return s.HideIn(x)
	}
	return x
}

// In reports whether a text repeats a secret.
func (s *Secrets) In(text string) bool { return s.Hide(text) != text }

// Mark is a value in which every text that repeats a secret is secret itself.
// A map with a key that does is secret as a whole.
func (s *Secrets) Mark(v Value) Value {
	if s.Empty() {
		return v
	}
	switch w := v.(type) {
	case String:
		if s.In(string(w)) {
			return Secret{v}
		}
	case Version, Scalar, Int, Float:
		if s.In(Show(v)) {
			return Secret{v}
		}
	case List:
		out := make(List, len(w))
		for i, e := range w {
			out[i] = s.Mark(e)
		}
		return out
	case Map:
		out := make(Map, len(w))
		for k, e := range w {
			if s.In(KeyText(k)) {
				return Hide(v)
			}
			out[k] = s.Mark(e)
		}
		return out
	}
	return v
}

// Findings are findings without the secrets in their words.
func (s *Secrets) Findings(list Findings) Findings {
	if s.Empty() {
		return list
	}
	list = slices.Clone(list)
	for i := range list {
		list[i].Message, list[i].Fix = s.Hide(list[i].Message), s.Hide(list[i].Fix)
	}
	return list
}

// Error is an error without the secrets in its words; what it wraps can still
// be asked for.
func (s *Secrets) Error(err error) error {
	if err == nil || !s.In(err.Error()) {
		return err
	}
	return &hiddenError{err, s.Hide(err.Error())}
}

// hiddenError says its words without the secrets.
type hiddenError struct {
	err  error
	text string
}

func (e *hiddenError) Error() string { return e.text }

func (e *hiddenError) Is(target error) bool { return errors.Is(e.err, target) }

func (e *hiddenError) As(target any) bool { return errors.As(e.err, target) }

// encodings are the forms in which a secret may stand in a text.
func encodings(text string) []string {
	out := []string{text, html.EscapeString(text), strings.ReplaceAll(text, "'", "''"),
		strings.ReplaceAll(text, "'", `'\''`)}
	one := strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case r < 0x20 || r == 0x7f:
			return '·'
		}
		return r
	}, text)
	out = append(out, one, strings.Join(strings.Fields(text), " "))
	for _, quoted := range []string{strconv.Quote(text), strconv.QuoteToASCII(text), jsonText(text, true),
		jsonText(text, false)} {
		if len(quoted) > 2 {
			out = append(out, quoted[1:len(quoted)-1])
		}
	}
	lower := hex.EncodeToString([]byte(text))
	query := url.QueryEscape(text)
	out = append(out, lower, strings.ToUpper(lower), query, strings.ReplaceAll(query, "+", "%20"),
		url.PathEscape(text), lowerEscapes(query), lowerEscapes(strings.ReplaceAll(query, "+", "%20")))
	for shift := range 3 {
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			if part := inBase64(e, text, shift); len(part) >= shortestEncoding {
				out = append(out, part)
			}
		}
	}
	return out
}

// inBase64 is what is always the same of a text in base64 when shift bytes stand
// before it: without the characters that its neighbours have a part in.
func inBase64(e *base64.Encoding, text string, shift int) string {
	whole := e.EncodeToString(append(make([]byte, shift), text...))
	return whole[(8*shift+5)/6 : 8*(shift+len(text))/6]
}

func jsonText(text string, escapeHTML bool) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(escapeHTML)
	if e.Encode(text) != nil {
		return ""
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// lowerEscapes writes %2F as %2f.
func lowerEscapes(s string) string {
	b := []byte(s)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			b[i+1], b[i+2] = byte(unicode.ToLower(rune(b[i+1]))), byte(unicode.ToLower(rune(b[i+2])))
		}
	}
	return string(b)
}

// ReplaceSecrets is a value in which something else stands in the place of each secret.
func ReplaceSecrets(v Value, with func(Secret) Value) Value {
	switch w := v.(type) {
	case Secret:
		return with(w)
	case List:
		out := make(List, len(w))
		for i, e := range w {
			out[i] = ReplaceSecrets(e, with)
		}
		return out
	case Map:
		out := make(Map, len(w))
		for k, e := range w {
			out[k] = ReplaceSecrets(e, with)
		}
		return out
	}
	return v
}
