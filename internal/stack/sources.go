package stack

import (
	"slices"

	"brickrow/internal/tosca"
)

// Sources is what a value comes from in the end: inputs of the template, and
// nodes that are looked up in the cloud. Names stand in order, each once.
// Along the way there are properties of other nodes, and inputs of templates
// that fill nodes.
type Sources struct {
	Inputs, Lookups []string
	Along           []*Property
}

// Sources finds out what a property comes from, along all it refers to.
func (w *Wanted) Sources(p *Property) Sources {
	f := w.finder()
	f.property(p)
	f.out.Along = f.out.Along[1:] // not itself
	return f.done()
}

// CountSources finds out what the count of a resource's node comes from.
func (w *Wanted) CountSources(resource string) Sources {
	n, f := w.node(resource), w.finder()
	if n.NodeTemplate != nil && n.Count != nil {
		f.expr(context{scope: n.scope}, n.Count)
	}
	return f.done()
}

// LinkSources finds out what decides how many a resource rests on by a requirement, and on which.
func (w *Wanted) LinkSources(res *Resource, requirement string) Sources {
	f := w.finder()
	for _, q := range res.Template().Requirements {
		if q.Name == requirement {
			for _, x := range []*tosca.Expr{q.Index, q.Count, q.Filter, q.Optional} {
				f.expr(context{scope: res.scope, self: res}, x)
			}
		}
	}
	return f.done()
}

// OutputSources finds out what a result comes from.
func (w *Wanted) OutputSources(o Output) Sources {
	f := w.finder()
	f.expr(context{scope: w.root}, o.def.Value)
	return f.done()
}

// finder follows expressions to where their values come from.
type finder struct {
	*resolver
	seen map[*Property]bool
	out  Sources
}

func (w *Wanted) finder() *finder {
	return &finder{resolver: w.resolver.apart(nil, new(tosca.Findings)), seen: map[*Property]bool{}}
}

func (f *finder) done() Sources {
	slices.Sort(f.out.Inputs)
	slices.Sort(f.out.Lookups)
	return Sources{slices.Compact(f.out.Inputs), slices.Compact(f.out.Lookups), f.out.Along}
}

func (f *finder) property(p *Property) {
	if p == nil || f.seen[p] {
		return
	}
	f.seen[p] = true
	f.out.Along = append(f.out.Along, p)
	f.property(p.from)
	if p.Expr != nil {
		f.expr(p.at, p.Expr)
	}
}

func (f *finder) expr(c context, x *tosca.Expr) {
	x.Walk(func(x *tosca.Expr) {
		if x.Kind != tosca.CallExpr {
			return
		}
		switch x.Name {
		case "get_input":
			name := tosca.Show(x.Args[0].Value)
			if c.scope.outer == nil {
				f.out.Inputs = append(f.out.Inputs, name)
			} else {
				f.property(c.scope.defaults[name])
			}
		case "get_property", "get_attribute":
			var found ends
			f.ends = &found
			f.env(c).Eval(x)
			f.ends = nil
			for _, e := range found.list {
				switch {
				case e.property != nil:
					f.property(e.property)
				case e.output != nil:
					f.expr(context{scope: e.scope}, e.output.Value)
				case f.w.byName[e.resource] == nil:
					f.out.Lookups = append(f.out.Lookups, e.resource)
				}
			}
		}
	})
}
