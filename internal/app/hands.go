package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/google/uuid"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// What somebody does by hand to the cloud, past all stacks. The stand-in alone is offered
// for that, so that one can see what becomes of it.

// ErrNotStandIn says that a cloud is not the stand-in, and nothing is done to it by hand.
var ErrNotStandIn = errors.New("that can be tried with the embedded stand-in cloud alone")

// ChangeByHand changes a property or a tag of a resource, given as property=value with the
// value in YAML, or tags.name=value. Nothing behind the = takes it away.
func (a *App) ChangeByHand(ctx context.Context, r *There, assignment string) error {
	if !a.StandIn() {
		return ErrNotStandIn
	}
	name, text, ok := strings.Cut(assignment, "=")
	name, text = strings.TrimSpace(name), strings.TrimSpace(text)
	if !ok || name == "" {
		return refusal("write it as property=value, such as size=medium, or as tags.team=snow")
	}
	var change cloud.Request
	if tag, is := strings.CutPrefix(name, "tags."); is {
		change.Tags = maps.Clone(r.Live.Tags)
		if change.Tags[tag] = text; text == "" {
			delete(change.Tags, tag)
		}
		return a.changeByHand(ctx, r, change)
	}
	t := a.Profile.Library.Nodes[r.Type]
	if t == nil || t.Property(name) == nil {
		var known []string
		if t != nil {
			for _, p := range t.Properties {
				known = append(known, p.Name)
			}
		}
		return refusal("%s has no property '%s'%s", r.Type, name, suggested(name, known))
	}
	var value any
	if text != "" {
		if err := yaml.Unmarshal([]byte(text), &value); err != nil {
			return refusal("%s cannot be read as YAML: %v", name, err)
		}
		if _, err := json.Marshal(value); err != nil {
			return refusal("%s has keys that are not text", name)
		}
		if base := t.Property(name).Type; base != nil {
			switch base.Base {
			case tosca.BaseString, tosca.BaseVersion, tosca.BaseScalar:
				if !strings.HasPrefix(text, `"`) && !strings.HasPrefix(text, "'") {
					value = text
				}
			}
		}
	}
	change.Properties = map[string]any{name: value}
	return a.changeByHand(ctx, r, change)
}

func (a *App) changeByHand(ctx context.Context, r *There, change cloud.Request) error {
	ref := cloud.Ref{Target: r.Target, Type: r.Type, ID: r.ID}
	return a.carriedOut(ctx, ref, func(key string) (cloud.Operation, error) { return a.Cloud.Update(ctx, ref, key, change) })
}

// RemoveByHand removes a resource.
func (a *App) RemoveByHand(ctx context.Context, r *There) error {
	if !a.StandIn() {
		return ErrNotStandIn
	}
	ref := cloud.Ref{Target: r.Target, Type: r.Type, ID: r.ID}
	return a.carriedOut(ctx, ref, func(key string) (cloud.Operation, error) { return a.Cloud.Delete(ctx, ref, key) })
}

// carriedOut begins an operation and waits for its end.
func (a *App) carriedOut(ctx context.Context, ref cloud.Ref, begin func(key string) (cloud.Operation, error)) error {
	op, err := begin("by-hand-" + uuid.NewString())
	for err == nil && !op.Ended() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(max(5, min(op.NextMS, 500))) * time.Millisecond):
		}
		op, err = a.Cloud.Operation(ctx, ref, op.ID)
	}
	switch {
	case err != nil:
		return err
	case op.State == "failed" && op.Problem != nil:
		return fmt.Errorf("the cloud says: %w", op.Problem)
	}
	return nil
}
