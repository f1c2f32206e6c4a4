package stack

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"brickrow/internal/tosca"
)

// What is left of changes says neither what was put back nor what came and went again.
func TestNet(t *testing.T) {
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	var list []Trace // the newest first
	did := func(id string, kind TraceKind, changes ...string) {
		at = at.Add(time.Minute)
		one := Trace{ID: id, Kind: kind, At: at}
		for i := 0; i+2 < len(changes); i += 3 {
			c := PropertyChange{Path: changes[i], Pointer: "/" + changes[i], Property: changes[i]}
			if changes[i+1] != "" {
				c.Before = tosca.String(changes[i+1])
			}
			if changes[i+2] != "" {
				c.After = tosca.String(changes[i+2])
			}
			one.Differences = append(one.Differences, c)
		}
		list = append([]Trace{one}, list...)
	}
	did("back", WasChanged, "size", "small", "large")
	did("twice", WasChanged, "size", "small", "medium", "kind", "a", "b")
	did("shortly", WasMade)
	did("grown", WasMade)
	did("lost", WasChanged, "size", "small", "large")
	did("again", WasRemoved)
	did("half", WasChanged, "size", "small", "large", "label", "", "x")
	did("back", WasChanged, "size", "large", "small")
	did("twice", WasChanged, "size", "medium", "large")
	did("shortly", WasRemoved)
	did("grown", WasChanged, "size", "small", "large")
	did("lost", WasRemoved)
	did("again", WasMade)
	did("half", WasChanged, "size", "large", "small", "tag", "", "y")
	var got []string
	for _, one := range Net(list) {
		words := one.ID + " " + string(one.Kind)
		for _, c := range one.Differences {
			words += fmt.Sprintf(" %s:%s→%s", c.Path, tosca.Show(c.Before), tosca.Show(c.After))
		}
		got = append(got, words)
	}
	want := []string{"half changed label:–→x tag:–→y", "lost removed", "grown made", "twice changed size:small→large kind:a→b"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if len(list[0].Differences) != 2 {
		t.Error("what was given is other than before")
	}
}
