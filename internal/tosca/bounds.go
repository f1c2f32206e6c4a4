package tosca

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"sync"
)

// Bounds on what a small text may come to, so that none holds the machine up.
const (
	MaxValue    = 1 << 20  // bytes of one value
	MaxResolved = 64 << 20 // bytes of all properties of a template together

	maxWork    = 128 << 20 // units of work for all expressions of a template: bytes made, and stepWork for a step of a match
	maxPattern = 1_000     // bytes of a regular expression
	maxSteps   = 1_000_000 // instructions of a regular expression times bytes of the text it looks at
	stepWork   = 10
	partSize   = 16 // bytes that a part of a list or a map counts, whatever it is
)

// Bounds are what the expressions of one template may still come to.
type Bounds struct {
	work, resolved int64
	told           bool
}

// NewBounds are those at the beginning.
func NewBounds() *Bounds { return &Bounds{work: maxWork, resolved: MaxResolved} }

// size is how many bytes a value has about; more than most is some number above it, which is
// found without going through the rest.
func size(v Value, most int) int {
	switch v := v.(type) {
	case Secret:
		return size(v.Value, most)
	case String:
		return len(v)
	case List:
		n := 0
		for _, e := range v {
			if n += partSize + size(e, most-n); n > most {
				break
			}
		}
		return n
	case Map:
		n := 0
		for k, e := range v {
			if n += partSize + len(KeyText(k)) + size(e, most-n); n > most {
				break
			}
		}
		return n
	}
	return partSize
}

// fits reports what is too large; it is a bad Unknown then.
func (env *Env) fits(x *Expr, v Value) Value {
	n := size(v, MaxValue)
	if n > MaxValue {
		env.Findings.Errorf(x.Pos, "value-too-large", "make it of less",
			"what stands here comes to more than %d MiB, which is the most that a value can have", MaxValue>>20)
		return Unknown{Bad: true}
	}
	return env.spend(x, v, n)
}

// spend takes work off what a template may do.
func (env *Env) spend(x *Expr, v Value, units int) Value {
	b := env.Bounds
	if b == nil {
		return v
	}
	if b.work -= int64(units); b.work >= 0 {
		return v
	}
	return b.over(env.Findings, x.Pos, v)
}

// Keep counts a value that stays, such as that of a property.
func (b *Bounds) Keep(v Value, at Pos, findings *Findings) Value {
	if b == nil {
		return v
	}
	if b.resolved -= int64(size(v, MaxValue)); b.resolved >= 0 {
		return v
	}
	return b.over(findings, at, v)
}

// over tells once that it is too much.
func (b *Bounds) over(findings *Findings, at Pos, _ Value) Value {
	if !b.told {
		b.told = true
		findings.Errorf(at, "value-too-large", "make it of less",
			"all that the template comes to is more than can be taken (%d MiB); here it was reached", MaxResolved>>20)
	}
	return Unknown{Bad: true}
}

// pattern is a regular expression that was read, with how many instructions it has.
type pattern struct {
	*regexp.Regexp
	instructions int
}

var patterns sync.Map // of string to pattern

// compile reads a regular expression, each once.
func compile(text string) (pattern, error) {
	if p, ok := patterns.Load(text); ok {
		return p.(pattern), nil
	}
	if len(text) > maxPattern {
		return pattern{}, fmt.Errorf("it has %d letters; up to %d are read", len(text), maxPattern)
	}
	re, err := regexp.Compile(text)
	if err != nil {
		return pattern{}, err
	}
	parsed, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return pattern{}, err
	}
	prog, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return pattern{}, err
	}
	p := pattern{re, len(prog.Inst)}
	patterns.Store(text, p)
	return p, nil
}

// costs is how many steps a match may take at most.
func (p pattern) costs(text string) int { return p.instructions * (len(text) + 1) }

// errCostly says that a match could take too long.
var errCostly = fmt.Errorf("with a text this long it could take too long: write a simpler one, or hold it against a shorter text")

// Matches reports whether a text matches a regular expression. The error says that the expression
// cannot be read, or that looking could take too long.
func Matches(expression, text string) (bool, error) {
	p, err := compile(expression)
	if err == nil && p.costs(text) > maxSteps {
		err = errCostly
	}
	return err == nil && p.MatchString(text), err
}

func evalMatches(c *callContext, args []Value) Value {
	expression, ok := args[1].(String)
	if !ok {
		return c.fail("wrong-type", "", "the second argument of $matches must be a regular expression, not %s",
			KindName(args[1]))
	}
	text := Show(args[0])
	matches, err := Matches(string(expression), text)
	switch {
	case err == errCostly:
		return c.fail("costly-pattern", "write a simpler one, or hold it against a shorter text",
			"the regular expression could take too long with a text of %d letters", len(text))
	case err != nil && len(c.secrets) > 0:
		return c.fail("bad-pattern", "",
			"the regular expression, which is secret or is held against a secret, cannot be read")
	case err != nil:
		return c.fail("bad-pattern", "", "the regular expression %q cannot be read: %v", shortened(string(expression)), err)
	}
	p, _ := compile(string(expression))
	return c.env.spend(c.call, Bool(matches), stepWork*p.costs(text))
}

// shortened is a text that can stand in a sentence.
func shortened(text string) string {
	if r := []rune(text); len(r) > 80 {
		return strings.TrimSpace(string(r[:80])) + "…"
	}
	return text
}
