package app

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// shelf is a second cloud: it keeps topics in memory, at once.
type shelf struct {
	mu   sync.Mutex
	has  map[string]cloud.Resource
	done map[string]cloud.Operation // by key
}

func (s *shelf) Targets(context.Context) ([]stack.Target, error) { return nil, nil }

func (s *shelf) About(context.Context, stack.Target) (*cloud.About, error) {
	return &cloud.About{Actions: []string{"topic:*"}}, nil
}

func (s *shelf) NameTaken(context.Context, stack.Target, string, string) (bool, string, error) {
	return false, "", nil
}

func (s *shelf) List(_ context.Context, t stack.Target, name string) ([]cloud.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []cloud.Resource
	for _, r := range s.has {
		if r.Account == t.Account && r.Region == t.Region && (name == "" || r.Tags["stack"] == name) {
			out = append(out, r)
		}
	}
	return out, nil
}

func (s *shelf) Get(_ context.Context, r cloud.Ref) (cloud.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if out, ok := s.has[r.ID]; ok {
		return out, nil
	}
	return cloud.Resource{}, cloud.NotFound(r.ID)
}

// once does something, one time for a key.
func (s *shelf) once(key, id string, do func()) (cloud.Operation, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.done[key]; !ok {
		do()
		s.done[key] = cloud.Operation{ID: key, ResourceID: id, State: "done"}
	}
	return s.done[key], nil
}

// plain is what JSON makes of properties.
func plain(properties map[string]any) map[string]any {
	var out map[string]any
	text, err := json.Marshal(properties)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		panic(err)
	}
	return out
}

func (s *shelf) Create(_ context.Context, t stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	id := "shelf~" + key
	return s.once(key, id, func() {
		s.has[id] = cloud.Resource{ID: id, Type: r.Type, Account: t.Account, Region: t.Region, State: "ready",
			Properties: plain(r.Properties),
			Links:      map[string][]string{}, Attributes: map[string]any{"url": "shelf://" + id}, Tags: r.Tags}
	})
}

func (s *shelf) Update(_ context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	return s.once(key, r.ID, func() {
		now := s.has[r.ID]
		for name, v := range plain(change.Properties) {
			now.Properties[name] = v
		}
	})
}

func (s *shelf) Delete(_ context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	return s.once(key, r.ID, func() { delete(s.has, r.ID) })
}

func (s *shelf) Operation(_ context.Context, _ cloud.Ref, id string) (cloud.Operation, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.done[id], nil
}

// TestASecondCloud keeps the topics of a stack in a cloud of their own: they are
// made, edited, undone and removed there, next to what the targets' cloud has.
func TestASecondCloud(t *testing.T) {
	b := newBench(t, 5000)
	topics := &shelf{has: map[string]cloud.Resource{}, done: map[string]cloud.Operation{}}
	b.Cloud.(*cloud.Mux).Types["Topic"] = topics
	b.write("two.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { label: { type: string, default: one } }\n  node_templates:\n    news: { type: Topic, properties: { label: { $get_input: label } } }\n    hear: { type: Queue, properties: { label: { $get_attribute: [ news, url ] } } }\n")
	b.write("two.stack.yaml", "stack: two\ntemplate: two.yaml\ntarget: workshop/alder-1\n")
	label := func() string {
		for _, r := range topics.has {
			return fmt.Sprint(r.Properties["label"])
		}
		return "none"
	}
	b.deploy(run.StatusDone, "two.stack.yaml")
	if len(topics.has) != 1 || label() != "one" || len(b.listing("two")) < 5 {
		t.Fatalf("%v", topics.has)
	}
	if p := b.preview("two.stack.yaml"); !p.Empty() {
		t.Errorf("deployed again: %s", p.Tally)
	}
	b.deploy(run.StatusDone, "two.stack.yaml", "label=two")
	if label() != "two" {
		t.Errorf("the label is %s", label())
	}
	back, err := b.WhatIfUndo(t.Context(), b.stack("two"), 0)
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(back, "undo"); r.State != run.StatusDone || label() != "one" {
		t.Errorf("back: %s %s, the label is %s", r.State, r.Reason, label())
	}
	gone, err := b.WhatIfDelete(t.Context(), b.stack("two"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(gone, "hold"); r.State != run.StatusDone || len(topics.has) != 0 {
		t.Errorf("removed: %s %s, left %v", r.State, r.Reason, topics.has)
	}
	if _, err := b.Cloud.Get(t.Context(), cloud.Ref{Type: "Topic", ID: "x"}); !cloud.IsNotFound(err) ||
		!slices.Equal(b.recordedNames("two"), nil) {
		t.Errorf("%v", err)
	}
}
