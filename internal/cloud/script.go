package cloud

import (
	"context"
	"strings"
	"time"

	"brickrow/internal/stack"
)

// Script is one script that was, is or will be carried out on a server. What it printed is kept
// up to 64 KiB each, and says what was left out; secrets are not in it.
type Script struct {
	Number     int64             `json:"number"`
	ResourceID string            `json:"resource_id"` // of the software
	Stack      string            `json:"stack"`
	Node       string            `json:"node"`
	Server     string            `json:"server"`      // its id; behind / which one of a group
	ServerNode string            `json:"server_node"` // the node that it is of
	Operation  string            `json:"operation"`
	State      string            `json:"state"` // waiting, running, done, failed
	Queued     time.Time         `json:"queued"`
	Begun      *time.Time        `json:"begun"` // nil while it waits
	Seconds    float64           `json:"seconds"`
	ExitCode   int               `json:"exit_code"`
	Output     string            `json:"output"`
	Errors     string            `json:"errors"`
	Results    map[string]string `json:"results"`
	Changed    *bool             `json:"changed,omitempty"`  // whether it changed anything, as an adapter says
	Messages   []string          `json:"messages,omitempty"` // what an adapter says it did
	Problem    string            `json:"problem,omitempty"`  // why it was ended, or did not begin
}

// Scripted is a cloud on whose servers scripts are carried out.
type Scripted interface {
	// Scripts lists those of a stack, the oldest first; "" is all. With the id of a resource it
	// lists those of that one.
	Scripts(ctx context.Context, t stack.Target, stackName, resource string) ([]Script, error)
}

// Scripts lists the scripts of all clouds.
func (m *Mux) Scripts(ctx context.Context, t stack.Target, stackName, resource string) ([]Script, error) {
	var out []Script
	for _, c := range m.all() {
		if s, ok := c.(Scripted); ok {
			list, err := s.Scripts(ctx, t, stackName, resource)
			if err != nil {
				return nil, err
			}
			out = append(out, list...)
		}
	}
	ends, err := m.ends(ctx, t, stackName)
	for _, e := range ends {
		s, ok := e.Cloud.(Scripted)
		if way, there := WayOf(resource); ok && (resource == "" || way == e.ID) {
			list, err := s.Scripts(ctx, e.Target, stackName, there)
			if err != nil && !IsUnanswered(err) {
				return nil, err
			}
			for _, script := range list {
				script.ResourceID, script.Server = e.Outward(script.ResourceID), e.Outward(script.Server)
				out = append(out, script)
			}
		}
	}
	return out, err
}

// Clean is the script with harmless texts.
func (s Script) Clean() Script {
	for _, text := range []*string{&s.ResourceID, &s.Stack, &s.Node, &s.Server, &s.ServerNode, &s.Operation, &s.State, &s.Problem} {
		*text = Clean(*text)
	}
	s.Output, s.Errors = CleanLines(s.Output), CleanLines(s.Errors)
	results := make(map[string]string, len(s.Results))
	for k, v := range s.Results {
		results[Clean(k)] = CleanLines(v)
	}
	s.Results = results
	for i := range s.Messages {
		s.Messages[i] = Clean(s.Messages[i])
	}
	return s
}

// CleanLines is Clean for a text of several lines: each stays one.
func CleanLines(s string) string {
	lines := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	for i, l := range lines {
		lines[i] = Clean(strings.ReplaceAll(l, "\t", "    "))
	}
	return strings.Join(lines, "\n")
}
