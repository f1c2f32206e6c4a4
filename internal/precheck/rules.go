// Package precheck holds a template against the rules of the cloud before
// anything is touched: what a call would be refused for is a finding with the
// template's line. Rules looks at the template alone; Against looks at the
// Target too, at its quotas, names, ranges, images and permissions.
package precheck

import (
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Knowledge is what is known of resource types by their names.
type Knowledge interface {
	// Type is the type of a cloud by its name there; nil where it is not known.
	Type(name string) *tosca.NodeType
	// Template reports what the cloud would refuse for what stands in the
	// template, and with c.State for what is there.
	Template(c *Checker)
	// Change reports what the target would refuse of a resource that is made or
	// changed.
	Change(c *Checker, ch *whatif.Change)
	// Unique yields a key that no two resources of a type may share, and the
	// property that it is about; "" where it is not known, or there is none.
	Unique(c *Checker, r *stack.Resource) (key, property string)
	// Twin reports whether a resource could not be there beside one that is behind the same connection.
	Twin(c *Checker, r *stack.Resource, l *stack.Live) bool
}

// Extent tells how much of a template is known.
type Extent int

// A template is known as a whole, or parts of it could not be read.
const (
	Whole Extent = iota
	Partial
)

// ExtentOf is how much of a template with such findings is known.
func ExtentOf(list tosca.Findings) Extent {
	if list.HasErrors() {
		return Partial
	}
	return Whole
}

// Checker looks at the resources of one template.
type Checker struct {
	*stack.Wanted
	ByType  map[string][]*stack.Resource
	State   *TargetState      // nil where the target is not asked
	Changes *whatif.ChangeSet // nil then too
	Extent  Extent

	knowledge Knowledge
	findings  tosca.Findings
}

func newChecker(k Knowledge, w *stack.Wanted) *Checker {
	c := &Checker{knowledge: k, Wanted: w, ByType: map[string][]*stack.Resource{}}
	for _, r := range w.Resources {
		c.ByType[r.Type.Name] = append(c.ByType[r.Type.Name], r)
	}
	return c
}

// Rules reports what the cloud would refuse for what stands in the template.
// Values that only the cloud can know are left out.
//
// Of a partial one, what is missing is no finding.
func Rules(k Knowledge, w *stack.Wanted, extent Extent) tosca.Findings {
	c := newChecker(k, w)
	c.Extent = extent
	k.Template(c)
	c.twins()
	c.places()
	c.tags()
	return c.told()
}

// told are the findings without the secrets that the rules had to look at.
func (c *Checker) told() tosca.Findings {
	out := c.Secrets().Findings(c.findings)
	out.Sort()
	return out
}

// Value is a property that is known, also where it is secret; nil otherwise.
func (c *Checker) Value(r *stack.Resource, name string) tosca.Value {
	if p := r.Property(name); p != nil && tosca.IsKnown(p.Value) {
		bare, _ := tosca.Bare(p.Value)
		return bare
	}
	return nil
}

// Text is a property that is known, as text; "" otherwise.
func (c *Checker) Text(r *stack.Resource, name string) string {
	if v := c.Value(r, name); v != nil {
		return tosca.Show(v)
	}
	return ""
}

// At reports something at a property or a requirement of a resource.
func (c *Checker) At(r *stack.Resource, name, code, fix, format string, args ...any) {
	p := r.Pos
	if prop := r.Property(name); prop != nil {
		p = prop.Pos
	}
	for _, l := range r.Links {
		if l.Requirement == name {
			p = l.Pos
		}
	}
	c.findings.Errorf(p, code, fix, format, args...)
}

// Target is the name of the first resource that a requirement names.
func (c *Checker) Target(r *stack.Resource, requirement string) string {
	for _, l := range r.Links {
		if l.Requirement == requirement && len(l.Targets) > 0 {
			return l.Targets[0]
		}
	}
	return ""
}

// Of is a property of a resource by name, wanted or selected; nil where it is
// not known.
func (c *Checker) Of(name, property string) tosca.Value {
	if r := c.Resource(name); r != nil {
		return c.Value(r, property)
	}
	if f := c.Existing(name); f != nil {
		return f.Properties[property]
	}
	return nil
}

// First is the first resource of a type whose requirement names the same
// Target as r's.
func (c *Checker) First(typ, requirement string, r *stack.Resource) *stack.Resource {
	for _, o := range c.ByType[typ] {
		if c.Target(o, requirement) == c.Target(r, requirement) {
			return o
		}
	}
	return r
}

// tags refuses tags that would come back from the cloud as other ones.
func (c *Checker) tags() {
	for _, r := range c.Wanted.Resources {
		given, _ := c.Value(r, "tags").(tosca.Map)
		for _, k := range given.Keys() {
			name, text := tosca.KeyText(k), tosca.Show(given[k])
			if hidden := tosca.Unseen(name + text); hidden != "" {
				c.At(r, "tags", "bad-tag", "write it in one line, of letters that can be seen",
					"the tag %q of %s has %s in it, which the cloud would not give back as it is", name, r.Name, hidden)
			}
		}
	}
}

// places finds resources that rest on something in another cloud: nobody there knows of it.
func (c *Checker) places() {
	for _, r := range c.Resources {
		way := r.Through()
		if r.Connects() {
			if way != "" {
				c.At(r, stack.Through, "other-place", "take the requirement through out", "%s is a connection: it goes out from the target itself", r.Name)
			}
			continue
		}
		for _, l := range r.Links {
			if l.Requirement == stack.Through || r.Type.Requirement(l.Requirement).Metadata["anywhere"] == "true" {
				continue
			}
			for _, name := range l.Targets {
				to := c.Resource(name)
				if to == nil || to.Through() == way {
					continue
				}
				fix := "let it go through the same: through: " + to.Through()
				if to.Through() == "" {
					fix = "take its through out, or let " + to.Name + " go through " + way
				}
				c.At(r, l.Requirement, "other-place", fix, "%s is reached %s, and its %s %s %s", r.Name, wayWords(way), l.Requirement, to.Name, wayWords(to.Through()))
			}
		}
	}
}

func wayWords(way string) string {
	if way == "" {
		return "in the target itself"
	}
	return "through " + way
}

// twins finds resources of the template that cannot both be.
func (c *Checker) twins() {
	seen := map[string]*stack.Resource{}
	for _, r := range c.Resources {
		key, property := c.knowledge.Unique(c, r)
		if key == "" {
			continue
		}
		key = r.Through() + " " + r.Type.Name + " " + key
		if o := seen[key]; o != nil {
			c.At(r, property, "name-taken", "choose another one", "%s: %s '%s' is what %s has already", r.Name,
				property, c.Text(r, property), o.Name)
			continue
		}
		seen[key] = r
	}
}
