package tosca

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// arithmetic is the functions of TOSCA 2.0, section 10.2.5. They take
// integers, floats and numbers with a unit; an integer stays an integer where
// the result is one.
var arithmetic = map[string]function{
	"sum":        {min: 1, max: -1, usage: "{ $sum: [ number, … ] }", eval: evalSum},
	"difference": {min: 2, max: 2, usage: "{ $difference: [ number, number ] }", eval: evalDifference},
	"product":    {min: 1, max: -1, usage: "{ $product: [ number, … ] }", eval: evalProduct},
	"quotient":   {min: 2, max: 2, usage: "{ $quotient: [ number, number ] }", eval: evalQuotient},
	"remainder":  {min: 2, max: 2, usage: "{ $remainder: [ integer, integer ] }", eval: evalRemainder},
	"round":      {min: 1, max: 1, usage: "{ $round: [ number ] }", eval: rounding(math.Round)},
	"floor":      {min: 1, max: 1, usage: "{ $floor: [ number ] }", eval: rounding(math.Floor)},
	"ceil":       {min: 1, max: 1, usage: "{ $ceil: [ number ] }", eval: rounding(math.Ceil)},
}

func evalSum(c *callContext, args []Value) Value {
	return c.foldNumbers(args, func(a, b float64) float64 { return a + b }, addInt)
}

func evalDifference(c *callContext, args []Value) Value {
	return c.foldNumbers(args, func(a, b float64) float64 { return a - b }, func(a, b int64) (int64, bool) {
		if b == math.MinInt64 {
			return 0, false
		}
		return addInt(a, -b)
	})
}

// addInt adds, unless the result does not fit.
func addInt(a, b int64) (int64, bool) {
	sum := a + b
	return sum, (sum > a) == (b > 0)
}

func mulInt(a, b int64) (int64, bool) {
	if a == 0 || b == 0 {
		return 0, true
	}
	p := a * b
	return p, p/b == a && !(a == -1 && b == math.MinInt64) && !(b == -1 && a == math.MinInt64)
}

// foldNumbers combines numbers of one kind from the left: plain ones, or ones
// with a unit, whose result has the unit of the first.
func (c *callContext) foldNumbers(args []Value, f func(a, b float64) float64,
	exact func(a, b int64) (int64, bool)) Value {
	out := args[0]
	if _, scalar := out.(Scalar); !scalar {
		if _, plain := number(out); !plain {
			return c.notNumber(0, out)
		}
	}
	for i, b := range args[1:] {
		if x, ok := out.(Int); ok {
			if y, ok := b.(Int); ok {
				n, fits := exact(int64(x), int64(y))
				if !fits {
					return c.fail("too-large", "", "the result of $%s is too large for an integer", c.call.Name)
				}
				out = Int(n)
				continue
			}
		}
		if s, ok := out.(Scalar); ok {
			t, same := b.(Scalar)
			if !same {
				return c.fail("wrong-type", "give both a unit, or neither", "$%s cannot combine %s with %s",
					c.call.Name, KindName(out), KindName(b))
			}
			out = s.withAmount(f(s.Amount, t.Amount))
			continue
		}
		x, _ := number(out)
		y, ok := number(b)
		if !ok {
			return c.notNumber(i+1, b)
		}
		out = Float(f(x, y))
	}
	return out
}

func (c *callContext) notNumber(i int, v Value) Value {
	return c.fail("wrong-type", "", "argument %d of $%s must be a number, not %s", i+1, c.call.Name, KindName(v))
}

// withAmount is another amount in the unit that s is written in.
func (s Scalar) withAmount(amount float64) Scalar {
	text, unit, _ := strings.Cut(s.Text, " ")
	factor := 1.0
	if n, err := strconv.ParseFloat(text, 64); err == nil && n != 0 {
		factor = s.Amount / n
	}
	return Scalar{Text: strconv.FormatFloat(amount/factor, 'f', -1, 64) + " " + unit, Amount: amount}
}

func evalProduct(c *callContext, args []Value) Value {
	out := Value(Int(1))
	for i, a := range args {
		_, isScalar := a.(Scalar)
		_, isNumber := number(a)
		if !isScalar && !isNumber {
			return c.notNumber(i, a)
		}
		if out = c.times(out, a); isBad(out) {
			return out
		}
	}
	return out
}

func (c *callContext) times(a, b Value) Value {
	s, aScalar := a.(Scalar)
	t, bScalar := b.(Scalar)
	x, _ := number(a)
	y, _ := number(b)
	switch {
	case aScalar && bScalar:
		return c.fail("wrong-type", "", "$product cannot multiply two numbers with units")
	case aScalar:
		return s.withAmount(s.Amount * y)
	case bScalar:
		return t.withAmount(t.Amount * x)
	}
	if i, ok := a.(Int); ok {
		if j, ok := b.(Int); ok {
			n, fits := mulInt(int64(i), int64(j))
			if !fits {
				return c.fail("too-large", "", "the result of $product is too large for an integer")
			}
			return Int(n)
		}
	}
	return Float(x * y)
}

func evalQuotient(c *callContext, args []Value) Value {
	divisor, plain := number(args[1])
	if t, ok := args[1].(Scalar); ok {
		divisor, plain = t.Amount, false
	} else if !plain {
		return c.notNumber(1, args[1])
	}
	if divisor == 0 {
		return c.fail("division-by-zero", "", "$quotient divides by zero")
	}
	if s, ok := args[0].(Scalar); ok {
		if plain {
			return s.withAmount(s.Amount / divisor)
		}
		return Float(s.Amount / divisor)
	}
	x, ok := number(args[0])
	switch {
	case !ok:
		return c.notNumber(0, args[0])
	case !plain:
		return c.fail("wrong-type", "", "$quotient cannot divide %s by a number with a unit", KindName(args[0]))
	}
	return Float(x / divisor)
}

func evalRemainder(c *callContext, args []Value) Value {
	if s, ok := args[0].(Scalar); ok {
		t, same := args[1].(Scalar)
		if !same || t.Amount == 0 {
			return c.fail("wrong-type", "", "$remainder of a number with a unit needs another one, which is not zero")
		}
		return s.withAmount(math.Mod(s.Amount, t.Amount))
	}
	a, okA := args[0].(Int)
	b, okB := args[1].(Int)
	switch {
	case !okA || !okB:
		return c.fail("wrong-type", "", "$remainder takes two integers")
	case b == 0:
		return c.fail("division-by-zero", "", "$remainder divides by zero")
	case b == -1:
		return Int(0)
	}
	return a % b
}

func rounding(f func(float64) float64) func(c *callContext, args []Value) Value {
	return func(c *callContext, args []Value) Value {
		if i, ok := args[0].(Int); ok {
			return i
		}
		x, ok := args[0].(Float)
		if !ok {
			return c.notNumber(0, args[0])
		}
		r := f(float64(x))
		if math.Abs(r) >= 1<<63 || math.IsNaN(r) {
			return c.fail("too-large", "", "%s is too large for an integer", fmt.Sprint(float64(x)))
		}
		return Int(r)
	}
}
