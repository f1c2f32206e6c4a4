package cloud

import (
	"context"
	"strings"
	"testing"

	"brickrow/internal/stack"
)

func TestClean(t *testing.T) {
	for text, want := range map[string]string{
		"plain":            "plain",
		"two\nlines\there": "two lines here",
		"\x1b[2Jgone":      "·[2Jgone",
		"\x9b31m":          "�31m",
		"\u009b31m":        "·31m",
		"a\u202eb":         "a·b",
		"zero\u200bwidth":  "zero·width",
		"Zürich ▲ 山":       "Zürich ▲ 山",
	} {
		if got := Clean(text); got != want {
			t.Errorf("%q became %q, want %q", text, got, want)
		}
	}
}

// memory is a cloud that keeps what it has in a list.
type memory struct {
	Cloud
	name  string
	has   []Resource
	calls []string
	about *About
}

func (m *memory) said(call, id string) { m.calls = append(m.calls, call+" "+id) }

func (m *memory) About(context.Context, stack.Target) (*About, error) {
	if m.about == nil {
		return nil, NotFound("such a target")
	}
	return m.about, nil
}

func (m *memory) List(context.Context, stack.Target, string) ([]Resource, error) { return m.has, nil }

func (m *memory) Get(_ context.Context, r Ref) (Resource, error) {
	m.said("get", r.ID)
	return Resource{ID: r.ID}, nil
}

func (m *memory) Create(_ context.Context, _ stack.Target, _ string, r Request) (Operation, error) {
	m.said("create", r.Type)
	return Operation{State: "done"}, nil
}

func (m *memory) Update(_ context.Context, r Ref, _ string, _ Request) (Operation, error) {
	m.said("update", r.ID)
	return Operation{}, nil
}

func (m *memory) Delete(_ context.Context, r Ref, _ string) (Operation, error) {
	m.said("delete", r.ID)
	return Operation{}, nil
}

func (m *memory) Operation(_ context.Context, r Ref, id string) (Operation, error) {
	m.said("operation", id)
	return Operation{}, nil
}

func (m *memory) NameTaken(_ context.Context, _ stack.Target, typ, name string) (bool, string, error) {
	m.said("name", name)
	return true, m.name, nil
}

// TestMux sends each call to the cloud that the type belongs to, and asks all where
// it is about all of them.
func TestMux(t *testing.T) {
	main := &memory{name: "main", has: []Resource{{ID: "a"}},
		about: &About{Who: "us", Actions: []string{"*:*"}, FreeAddresses: 3}}
	lamps := &memory{name: "lamps", has: []Resource{{ID: "l"}}}
	m := &Mux{Targeted: main, Types: map[string]Cloud{"Lamp": lamps, "Bulb": lamps}}
	ctx := t.Context()
	for typ, c := range map[string]*memory{"Lamp": lamps, "Bulb": lamps, "Server": main} {
		c.calls = nil
		r := Ref{Type: typ, ID: "1"}
		if _, err := m.Create(ctx, stack.Target{}, "k", Request{Type: typ}); err != nil {
			t.Error(err)
		}
		m.Get(ctx, r)
		m.Update(ctx, r, "k", Request{})
		m.Delete(ctx, r, "k")
		m.Operation(ctx, r, "o")
		m.NameTaken(ctx, stack.Target{}, typ, "n")
		if got := strings.Join(c.calls, ", "); got != "create "+typ+", get 1, update 1, delete 1, operation o, name n" {
			t.Errorf("%s: %s", typ, got)
		}
	}
	if list, err := m.List(ctx, stack.Target{}, ""); err != nil || len(list) != 2 || list[0].ID != "a" {
		t.Errorf("%v %v", list, err)
	}
	if a, err := m.About(ctx, stack.Target{}); err != nil || a.Who != "us" || a.FreeAddresses != 3 {
		t.Errorf("%+v %v", a, err)
	}
	lamps.about = &About{Actions: []string{"lamp:create"}, Limits: []Limit{{Type: "Lamp", Most: 2}}}
	if a, err := m.About(ctx, stack.Target{}); err != nil || len(a.Actions) != 2 || len(a.Limits) != 1 {
		t.Errorf("%+v %v", a, err)
	}
	main.about = nil
	if _, err := m.About(ctx, stack.Target{}); !IsNotFound(err) {
		t.Errorf("a target that is not there: %v", err)
	}
	if _, err := m.Create(ctx, stack.Target{}, "k", Request{}); err == nil {
		t.Error("a resource of no type is made")
	}
}
