// Package cloud is what Brick Row asks of any cloud: list, read, create, update
// and delete resources, and follow the long operations that these begin. A Mux
// sends each call to the cloud that it is for; httpcloud asks one over HTTP.
//
// Every call that changes something carries a key. The same key sent again is
// answered with what was already done, so that a lost answer or a crash never
// makes a resource twice.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Ref names a resource of a cloud.
type Ref struct {
	Target stack.Target
	Type   string
	ID     string
}

// Cloud is one cloud, in all its accounts and regions. An error that is a Problem
// is the cloud's own; it says whether it passes.
type Cloud interface {
	// Targets lists the accounts and regions there are.
	Targets(ctx context.Context) ([]stack.Target, error)
	// About asks a target about itself, and about the one who asks.
	About(ctx context.Context, t stack.Target) (*About, error)
	// NameTaken asks whether a name that is unique in the whole cloud belongs to
	// somebody, and to whom where one may know it: the id of a resource of the
	// account, or "".
	NameTaken(ctx context.Context, t stack.Target, typ, name string) (taken bool, id string, err error)
	// List lists the resources of a target; an empty stack lists all.
	List(ctx context.Context, t stack.Target, stackName string) ([]Resource, error)
	// Get reads one resource; a Problem with status 404 says it is not there.
	Get(ctx context.Context, r Ref) (Resource, error)
	// Create begins to make a resource of the type of the request.
	Create(ctx context.Context, t stack.Target, key string, r Request) (Operation, error)
	// Update begins to change a resource. An ETag in the request has to be that of
	// the resource still; otherwise a Problem with status 412 says so.
	Update(ctx context.Context, r Ref, key string, change Request) (Operation, error)
	// Delete begins to remove a resource.
	Delete(ctx context.Context, r Ref, key string) (Operation, error)
	// Operation reads how far an operation on a resource is.
	Operation(ctx context.Context, r Ref, id string) (Operation, error)
}

// Resource is a resource on the wire. What was sent as a secret, at any depth of
// properties and tags, holds a fingerprint.
type Resource struct {
	ID         string              `json:"id"`
	Type       string              `json:"type"`
	Account    string              `json:"account"`
	Region     string              `json:"region"`
	State      string              `json:"state"` // creating, ready, updating, deleting, failed, suspended
	Properties map[string]any      `json:"properties"`
	Links      map[string][]string `json:"links"`
	Attributes map[string]any      `json:"attributes"`
	Tags       map[string]string   `json:"tags"`
	UsedBy     []string            `json:"used_by"`
	ETag       string              `json:"etag"`
	// Changed is when it was made or changed last, where the cloud tells, and ChangedBy who
	// did that, by what the caller said of himself.
	Changed   time.Time `json:"changed,omitzero"`
	ChangedBy string    `json:"changed_by,omitempty"`
	// Why says of a resource that could not be read why that is, and Through by the name of which connection it is reached.
	Why     string `json:"-"`
	Through string `json:"-"`
	// SecretAttributes names the attributes that are secret, or repeat one.
	SecretAttributes []string `json:"secret_attributes,omitempty"`
}

// Request creates a resource, or changes what it names: a property that is
// null is taken away, one that is not named stays.
type Request struct {
	Type       string              `json:"type,omitempty"`
	Properties map[string]any      `json:"properties,omitempty"`
	Links      map[string][]string `json:"links,omitempty"`
	Tags       map[string]string   `json:"tags,omitzero"` // all of them, also none; nil leaves them
	// Secrets says where secrets stand, as JSON Pointers (RFC 6901) such as
	// /properties/env/TOKEN, in order.
	Secrets []string `json:"secrets,omitempty"`
	ETag    string   `json:"-"` // If-Match, where not empty
}

// Operation is a long operation. Times are in milliseconds of real time.
type Operation struct {
	ID         string   `json:"id"`
	Kind       string   `json:"kind"` // create, update, delete
	ResourceID string   `json:"resource_id"`
	State      string   `json:"state"` // working, settling, done, failed
	Step       string   `json:"step"`
	StepNumber int      `json:"step_number"` // from 1
	Steps      int      `json:"steps"`
	ElapsedMS  int64    `json:"elapsed_ms"`
	TotalMS    int64    `json:"total_ms"`
	NextMS     int64    `json:"next_ms"` // until something changes
	Problem    *Problem `json:"problem,omitempty"`
	Backup     string   `json:"backup,omitempty"` // that it makes, or fills from
}

// Ended reports whether the operation is over, one way or the other.
func (o Operation) Ended() bool { return o.State == "done" || o.State == "failed" }

// Problem is an error of the cloud, in the form of RFC 9457.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Fix    string `json:"fix,omitempty"`
	// Passing says that the same call may work in a moment.
	Passing      bool  `json:"passing,omitempty"`
	RetryAfterMS int64 `json:"retry_after_ms,omitempty"`
}

// Error is the cloud's words.
func (p *Problem) Error() string {
	if p.Detail == "" {
		return p.Title
	}
	return p.Detail
}

// RetryAfter is how long the cloud asks to wait.
func (p *Problem) RetryAfter() time.Duration { return time.Duration(p.RetryAfterMS) * time.Millisecond }

// Clean makes text that came from outside harmless for a terminal: control
// characters become visible.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case r < 0x20 || r == 0x7f || r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069 || r == 0x200b || r == 0xfeff:
			return '·'
		}
		return r
	}, s)
}

// Live reads a resource with the types of the profile.
func (r Resource) Live(lib *tosca.Library) *stack.Live {
	l := &stack.Live{ID: r.ID, Type: r.Type, Node: r.Tags["node"], State: r.State, ETag: r.ETag, Links: r.Links,
		Store: r.Tags[stack.StoreTag], Tags: r.Tags, UsedBy: r.UsedBy, Changed: r.Changed, ChangedBy: r.ChangedBy, By: stack.AuthorOf(r.ChangedBy, ""), Why: r.Why, Through: r.Through,
		Properties: map[string]tosca.Value{}, Attributes: map[string]tosca.Value{}}
	t := lib.Nodes[r.Type]
	for k, v := range r.Properties {
		l.Properties[k] = ReadProperty(t, k, tosca.FromJSON(v))
	}
	own := tosca.Map{}
	for k, v := range r.Tags {
		if !stack.OwnTag(k) {
			own[k] = tosca.String(v)
		}
	}
	if l.Store != "" { // which store it is is no part of how it is
		l.Tags = maps.Clone(r.Tags)
		delete(l.Tags, stack.StoreTag)
	}
	if len(own) > 0 {
		l.Properties["tags"] = own
	}
	for k, v := range r.Attributes {
		l.Attributes[k] = tosca.FromJSON(v)
		if slices.Contains(r.SecretAttributes, k) {
			l.Attributes[k] = tosca.Hide(l.Attributes[k])
		}
		if len(r.SecretAttributes) > 0 { // or parts of it
			l.Attributes[k] = HideAt(l.Attributes[k], tosca.Pointer(k), r.SecretAttributes)
		}
		if t == nil {
			continue
		}
		if d := t.Attribute(k); d != nil && d.Type != nil && d.Type.IsA("Secret") {
			l.Attributes[k] = d.Type.Read(l.Attributes[k])
		}
	}
	_, there := WayOf(r.ID)
	l.Attributes["id"] = tosca.String(there)
	return l
}

// ReadProperty gives a stored value the type of its property.
func ReadProperty(t *tosca.NodeType, name string, v tosca.Value) tosca.Value {
	if t != nil {
		if d := t.Property(name); d != nil && d.Type != nil && !d.Type.IsA("Secret") {
			return d.Type.Read(v)
		}
	}
	return v
}

// NotFound is the problem of a resource that is not there.
func NotFound(what string) *Problem {
	return &Problem{Type: "not-found", Title: "not found", Status: 404, Detail: fmt.Sprintf("there is no %s", what)}
}

// IsNotFound reports whether err says that something is not there.
func IsNotFound(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}

// Refused reports whether err says that the cloud will not do something, so that
// it has not begun it either.
func Refused(err error) bool {
	var p *Problem
	return errors.As(err, &p) && !p.Passing && p.Status >= 400 && p.Status < 500
}

// IsChanged reports whether err says that the resource is not what it was when
// it was read (If-Match).
func IsChanged(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusPreconditionFailed
}

// Clean is the operation with the texts that the cloud chose made harmless for a
// terminal.
func (o Operation) Clean() Operation {
	o.Step = Clean(o.Step)
	if o.Problem != nil {
		p := o.Problem
		p.Title, p.Detail, p.Fix = Clean(p.Title), Clean(p.Detail), Clean(p.Fix)
	}
	return o
}

// Clean makes the texts that the cloud itself chose harmless for a terminal.
// Properties mirror the template and are kept; what shows them cleans them.
func (r Resource) Clean() Resource {
	r.ID, r.Type, r.State, r.ChangedBy = Clean(r.ID), Clean(r.Type), Clean(r.State), Clean(r.ChangedBy)
	r.Attributes, _ = cleanJSON(r.Attributes).(map[string]any)
	tags := make(map[string]string, len(r.Tags))
	for k, v := range r.Tags {
		tags[Clean(k)] = Clean(v)
	}
	r.Tags = tags
	return r
}

func cleanJSON(x any) any {
	switch x := x.(type) {
	case string:
		return Clean(x)
	case []any:
		for i, e := range x {
			x[i] = cleanJSON(e)
		}
	case map[string]any:
		for k, e := range x {
			x[k] = cleanJSON(e)
		}
	}
	return x
}

// Noted is something that was noted about what was asked for, and when.
type Noted struct {
	Name string
	Body []byte
	At   time.Time
}
