package app

import (
	"context"
	"slices"
	"sync"
	"time"

	"brickrow/internal/assist"
	"brickrow/internal/bundle"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Assist is the help for texts, with what is known of the targets. ctx ends the
// asking of them.
func (a *App) Assist(ctx context.Context) *assist.Work {
	w := assist.New(bundle.Disk, a.Profile.Library, tosca.Shipped...)
	w.Load = a.Profile.Load
	there := &known{ask: func(target string) map[string][]string { return a.inTarget(ctx, target) }}
	w.There = func(target, typ string) []string { return there.of(target)[typ] }
	recorded := &known{ask: func(of string) map[string][]string { return map[string][]string{"": a.recordedNames(ctx, of)} }}
	w.Recorded = func(name, target string) []string { return recorded.of(name + "@" + target)[""] }
	results := &known{ask: func(target string) map[string][]string { return a.resultNames(ctx, target) }}
	w.Results = results.of
	targets := &known{ask: func(string) map[string][]string {
		list, err := a.Cloud.Targets(ctx)
		if err != nil {
			return nil
		}
		names := []string{}
		for _, t := range list {
			names = append(names, t.String())
		}
		return map[string][]string{"": names}
	}}
	w.Targets = func() []string { return targets.of("")[""] }
	return w
}

// recordedNames lists what is deployed of a stack, by its name@account/region.
func (a *App) recordedNames(ctx context.Context, of string) []string {
	st, err := a.store.Find(ctx, of)
	if err != nil {
		return []string{}
	}
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return nil
	}
	out := []string{}
	for _, r := range current {
		out = append(out, r.Name)
	}
	return out
}

// resultNames lists the results of the stacks that have some, by the names that a stack
// in a target finds them under.
func (a *App) resultNames(ctx context.Context, target string) map[string][]string {
	list, err := a.store.Stacks(ctx)
	if err != nil {
		return nil
	}
	out, times := map[string][]string{}, map[string]int{}
	for _, st := range list {
		times[st.Name]++
	}
	for _, st := range list {
		results, err := a.Results(ctx, st)
		if err != nil || len(results) == 0 {
			continue
		}
		name := st.Name
		if times[name] > 1 && st.Target.String() != target {
			name += "@" + st.Target.String()
		}
		for _, r := range results {
			out[name] = append(out[name], r.Name)
		}
	}
	return out
}

// inTarget lists the names of what there is in a target, by type; nil where it cannot
// be asked.
func (a *App) inTarget(ctx context.Context, target string) map[string][]string {
	t, ok := stack.ParseTarget(target)
	if !ok {
		return nil
	}
	s, err := a.survey(ctx, t, "")
	if err != nil {
		return nil
	}
	out := map[string][]string{}
	for _, l := range append(a.Profile.There(s.TargetState, "Image"), s.All...) {
		for _, name := range []string{"name", "label"} {
			v := l.Properties[name]
			if v == nil || tosca.HasSecret(v) || tosca.Show(v) == "" {
				continue
			}
			if !slices.Contains(out[l.Type], tosca.Show(v)) {
				out[l.Type] = append(out[l.Type], tosca.Show(v))
			}
			break
		}
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out
}

// known remembers what was asked for. Who asks gets what is known by then, so that
// nobody waits for a cloud for longer than a moment.
type known struct {
	ask func(key string) map[string][]string

	mu      sync.Mutex
	answers map[string]map[string][]string
	asked   map[string]time.Time
	coming  map[string]chan struct{}
}

// lasting is how long an answer counts, and patience how long it is waited for.
const (
	lasting  = 30 * time.Second
	patience = 50 * time.Millisecond
)

func (k *known) of(key string) map[string][]string {
	k.mu.Lock()
	if k.answers == nil {
		k.answers, k.asked, k.coming = map[string]map[string][]string{}, map[string]time.Time{}, map[string]chan struct{}{}
	}
	coming := k.coming[key]
	if coming == nil && time.Since(k.asked[key]) > lasting {
		coming = make(chan struct{})
		k.coming[key] = coming
		go func() {
			answer := k.ask(key)
			k.mu.Lock()
			defer k.mu.Unlock()
			if answer != nil {
				k.answers[key] = answer
			}
			k.asked[key] = time.Now()
			delete(k.coming, key)
			close(coming)
		}()
	}
	answer, have := k.answers[key]
	k.mu.Unlock()
	if have || coming == nil {
		return answer
	}
	select {
	case <-coming:
	case <-time.After(patience):
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.answers[key]
}

// FindingsPage is what findings mean, as it is written into the data folder for editors
// to link to.
const FindingsPage = "findings.md"
