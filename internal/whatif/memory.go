package whatif

import (
	"slices"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Memory keeps the changes of one comparison for the next, which then compares anew what
// has become different since, and what rests on that. The zero value is ready to use. It
// is for one comparison at a time.
type Memory struct {
	of      remembered
	known   map[string]memo
	secrets *tosca.Secrets // of what is recorded
}

// remembered is what changes rest on beside the resource itself: with another one of
// these, nothing is remembered.
type remembered struct {
	stack               string
	target              stack.Target
	recorded, kept      int
	first               *stack.Recorded
	base                *stack.Wanted
	revision            int
	inputs, baseInputs  *stack.Input
	count               int // of the inputs
	tags                string
	deleting, comparing bool
}

// memo is a change as it was compared by itself.
type memo struct {
	change Change
	ups    []string // whose changes cause it
}

func first[T any](list []T) *T {
	if len(list) == 0 {
		return nil
	}
	return &list[0]
}

// rememberedOf is what the changes of a comparison rest on.
func rememberedOf(s State) remembered {
	r := remembered{stack: s.Stack, target: s.Target, recorded: len(s.Recorded), kept: len(s.Kept), base: s.Base,
		revision: s.BaseRevision, inputs: first(s.Wanted.Inputs), baseInputs: first(s.BaseInputs), count: len(s.Wanted.Inputs),
		tags: s.TagsPos.String(), deleting: s.Deleting, comparing: s.Comparing}
	if len(s.Recorded) > 0 {
		r.first = s.Recorded[0]
	}
	return r
}

// apart is a change whose words can be written anew without touching this one's.
func (ch Change) apart() Change {
	ch.Causes, ch.Because, ch.Properties = slices.Clone(ch.Causes), slices.Clone(ch.Because), slices.Clone(ch.Properties)
	return ch
}

// compareAll compares each wanted resource, or remembers how it compared.
func (c *Comparison) compareAll() {
	m := c.Memory
	if m == nil {
		for _, res := range c.Wanted.Resources {
			told, left := len(c.Set.Findings), len(c.Set.Left)
			ch := c.wanted(res)
			changed := ch.changes()
			there := c.leaveOut(&ch)
			if !there || changed && !ch.changes() { // what it would have said is not said
				c.Set.Findings, c.Set.Left = c.Set.Findings[:told], c.Set.Left[:left]
			}
			if there {
				c.add(ch)
			}
		}
		return
	}
	if of := rememberedOf(c.State); m.of != of || m.known == nil {
		m.of, m.secrets, m.known = of, nil, make(map[string]memo, len(c.Wanted.Resources))
	}
	other := map[string]bool{} // those that look otherwise to what rests on them
	for _, res := range c.Wanted.Resources {
		was, known := m.known[res.Name]
		rec := c.recorded[res.Name]
		same := known && was.change.Wanted == res && was.change.Formerly == "" && rec != nil && was.change.Recorded == rec &&
			was.change.Live == c.Live[rec.ID] && len(other) == 0
		if !same && known && was.change.Wanted == res && was.change.Formerly == "" && rec != nil && was.change.Recorded == rec &&
			was.change.Live == c.Live[rec.ID] {
			same = !slices.ContainsFunc(res.Needs, func(n string) bool { return other[n] })
		}
		if same {
			if len(was.ups) > 0 {
				c.upstream[res.Name] = was.ups
			}
			c.add(was.change.apart())
			continue
		}
		told, left := len(c.Set.Findings), len(c.Set.Left)
		ch := c.wanted(res)
		if !known || was.change.Kind != ch.Kind || was.change.Recorded != ch.Recorded || was.change.Live != ch.Live {
			other[res.Name] = true
		}
		if delete(m.known, res.Name); len(c.Set.Findings) == told && len(c.Set.Left) == left {
			m.known[res.Name] = memo{ch.apart(), c.upstream[res.Name]}
		}
		c.add(ch)
	}
}
