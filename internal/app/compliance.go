package app

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// Kept is how a rule stands to a resource that is there, and since when.
type Kept struct {
	Rule     *rules.Rule
	Resource *There
	Complies bool
	Since    time.Time // of the look at which it became so; zero where it was never otherwise
	Text     string    // what is wrong; "" where it complies
}

// Compliance holds what is there against the rules: what a stack has against those of the team
// beside its template, what is nobody's against those of all stacks of its target, and all of
// it against the built-in ones that nobody has left out. What is another verdict than the last
// one is noted.
func (a *App) Compliance(ctx context.Context, v *Inventory) ([]Kept, tosca.Findings, error) {
	c := &complying{App: a, inv: v, sets: map[int64]*rules.Set{}, images: map[stack.Target][]string{}}
	left, err := a.leftRules()
	if err != nil {
		return nil, nil, err
	}
	var out []Kept
	var change []store.Verdict
	for _, in := range v.Targets {
		if in.Problem != "" {
			continue
		}
		last, err := a.store.Verdicts(ctx, in.Target)
		if err != nil {
			return nil, nil, err
		}
		for _, r := range v.There {
			if r.Target != in.Target || r.Gone || r.Unread() { // what could not be read neither keeps a rule nor does not
				continue
			}
			set, err := c.setOf(ctx, r)
			if err != nil {
				return nil, nil, err
			}
			running, err := c.running(ctx, r)
			if err != nil {
				return nil, nil, err
			}
			for _, h := range set.Hold(running) {
				if slices.Contains(left, h.Rule.ID) {
					continue
				}
				k := Kept{Rule: h.Rule, Resource: r, Complies: h.Complies, Text: h.Text}
				was, known := last[[2]string{r.ID, h.Rule.ID}]
				if k.Since = was.Since; known && was.Complies != h.Complies || !known && !h.Complies {
					if k.Since = v.Asked; r.Changed.After(k.Since) { // it came, or became so, while it was looked
						k.Since = r.Changed
					}
					change = append(change, store.Verdict{Target: in.Target, ID: r.ID, Rule: h.Rule.ID, Complies: h.Complies, Since: k.Since})
				}
				out = append(out, k)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Kept) int { return strings.Compare(a.Rule.ID, b.Rule.ID) })
	if len(change) == 0 {
		return out, c.findings, nil
	}
	if err := a.store.NoteVerdicts(ctx, change); err != nil {
		return nil, nil, err
	}
	if !a.store.Member() {
		return out, c.findings, nil
	}
	for _, in := range v.Targets { // somebody else may have said it first: what all are told is what is noted
		now, err := a.store.Verdicts(ctx, in.Target)
		if err != nil {
			return nil, nil, err
		}
		for i := range out {
			if is, known := now[[2]string{out[i].Resource.ID, out[i].Rule.ID}]; known && out[i].Resource.Target == in.Target && is.Complies == out[i].Complies {
				out[i].Since = is.Since
			}
		}
	}
	return out, c.findings, nil
}

// complying finds the rules for what is there.
type complying struct {
	*App
	inv      *Inventory
	sets     map[int64]*rules.Set // by the id of the stack; 0 is nobody's
	images   map[stack.Target][]string
	findings tosca.Findings
}

// setOf is the rules for a resource.
func (c *complying) setOf(ctx context.Context, r *There) (*rules.Set, error) {
	id := int64(0)
	if r.Owner != nil && r.Owner.Of != nil {
		id = r.Owner.Of.ID
	}
	if set := c.sets[id]; set != nil {
		return set, nil
	}
	paths := []string{rules.BuiltIn}
	add := func(st *stack.Stack) error {
		if st.StackFile == "" {
			return nil
		}
		text, err := files.Read(st.StackFile, tosca.MaxBytes)
		if err != nil {
			return nil // the files are not here any more, and so are their rules
		}
		file, _ := stack.ReadFile(st.StackFile, text, "")
		template := file.Template
		if !filepath.IsAbs(template) {
			template = filepath.Join(filepath.Dir(st.StackFile), template)
		}
		more, err := ruleFiles(bundle.Disk, template, file)
		paths = append(paths, more...)
		return err
	}
	if id > 0 {
		if err := add(r.Owner.Of); err != nil {
			return nil, err
		}
	} else {
		all, err := c.store.Stacks(ctx)
		if err != nil {
			return nil, err
		}
		for _, st := range all {
			if st.State != stack.Removed {
				if err := add(st); err != nil {
					return nil, err
				}
			}
		}
	}
	slices.Sort(paths)
	set := rules.Read(bundle.Disk, c.Profile.Library, slices.Compact(paths))
	for _, f := range set.Findings {
		if !slices.Contains(c.findings, f) {
			c.findings = append(c.findings, f)
		}
	}
	c.sets[id] = set
	return set, nil
}

func (c *complying) running(ctx context.Context, r *There) (rules.Running, error) {
	out := rules.Running{Live: r.Live, Target: r.Target, Name: r.Name(), Links: map[string][]string{}}
	if r.Owner != nil {
		out.Stack = r.Owner.Stack
		if rec := r.Owner.Recorded; rec != nil {
			out.Policies, out.Pos = rec.Policies, rec.Pos
		}
	}
	for q, ids := range r.Live.Links {
		for _, id := range ids {
			name := id
			if to := c.inv.At(Place{r.Target, id}); to != nil {
				name = to.Name()
			}
			out.Links[q] = append(out.Links[q], name)
		}
	}
	if _, asked := c.images[r.Target]; !asked {
		about, err := c.Cloud.About(ctx, r.Target)
		if err != nil {
			return out, err
		}
		c.images[r.Target] = oldImages(about.Images)
	}
	out.OldImages = c.images[r.Target]
	return out, nil
}

// oldImages names the images of which there is a newer one of their family.
func oldImages(list []cloud.Resource) []string {
	newest := map[string]float64{}
	number := func(r cloud.Resource) float64 {
		n, _ := tosca.FromJSON(r.Properties["number"]).(tosca.Float)
		if i, is := tosca.FromJSON(r.Properties["number"]).(tosca.Int); is {
			return float64(i)
		}
		return float64(n)
	}
	family := func(r cloud.Resource) string { return tosca.InClear(tosca.FromJSON(r.Properties["family"])) }
	for _, r := range list {
		newest[family(r)] = max(newest[family(r)], number(r))
	}
	out := []string{}
	for _, r := range list {
		if number(r) < newest[family(r)] {
			out = append(out, tosca.InClear(tosca.FromJSON(r.Properties["name"])))
		}
	}
	slices.Sort(out)
	return out
}

// leftRules are the rules that the team has left out.
func (a *App) leftRules() ([]string, error) {
	in, err := a.settings()
	return in.LeftRules, err
}

// LeaveRule leaves a built-in rule out of what runs is held against, or takes it again.
func (a *App) LeaveRule(ctx context.Context, id string, leave bool) error {
	set := rules.Read(bundle.Disk, a.Profile.Library, []string{rules.BuiltIn})
	i := slices.IndexFunc(set.Rules, func(r *rules.Rule) bool { return r.ID == id })
	if i < 0 {
		var names []string
		for _, r := range set.Rules {
			names = append(names, r.ID)
		}
		return refusal("there is no built-in rule %s%s", id, suggested(id, names))
	}
	return a.setSettings(ctx, func(in *targetSettings) {
		in.LeftRules = slices.DeleteFunc(in.LeftRules, func(s string) bool { return s == id })
		if leave {
			in.LeftRules = append(in.LeftRules, id)
			slices.Sort(in.LeftRules)
		}
	})
}

// BuiltInRules lists the built-in rules, and which of them are left out.
func (a *App) BuiltInRules() (list []*rules.Rule, left []string, err error) {
	left, err = a.leftRules()
	return rules.Read(bundle.Disk, a.Profile.Library, []string{rules.BuiltIn}).Rules, left, err
}

// Broken sorts what is not kept: by rule, then by resource.
func Broken(list []Kept) []Kept {
	out := slices.DeleteFunc(slices.Clone(list), func(k Kept) bool { return k.Complies })
	slices.SortStableFunc(out, func(a, b Kept) int {
		return cmp.Or(strings.Compare(a.Rule.ID, b.Rule.ID), compareTargets(a.Resource.Target, b.Resource.Target),
			stack.CompareNames(a.Resource.Name(), b.Resource.Name()))
	})
	return out
}
