package app

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// large is a template with n resources; %s is where the edits are made.
func large(n int) string {
	var s strings.Builder
	s.WriteString("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    keep: { type: Duration, default: 2 d }\n  node_templates:\n    net:\n      type: Network\n      properties: { cidr: 10.0.0.0/8, label: \"LABEL\" }\n")
	for i := range n / 4 {
		fmt.Fprintf(&s, "    queue_%d:\n      type: Queue\n      properties:\n        keep: { $get_input: keep }\n        visible_after: 30 s\n", i)
		fmt.Fprintf(&s, "    topic_%d:\n      type: Topic\n      properties:\n        label: { $concat: [ to-, { $get_attribute: [ queue_%d, url ] } ] }\n", i, i)
		fmt.Fprintf(&s, "    sub_%d:\n      type: Subscription\n      properties:\n        to: huts@kestrelridge.example\n      requirements:\n        - topic: topic_%d\n", i, i)
		fmt.Fprintf(&s, "    rules_%d:\n      type: Rules\n      properties:\n        allow:\n          - { ports: \"443\", peer: 10.0.0.0/8 }\n      requirements:\n        - network: net\n", i)
	}
	return s.String()
}

// recorded makes a stack of n resources that looks as if it had been deployed.
func recorded(b *testing.B, n int) (a *App, file string, text string) {
	b.Helper()
	a, err := Open(Options{Home: filepath.Join(b.TempDir(), "home"), Speed: 1})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { a.Close() })
	dir := b.TempDir()
	text = large(n)
	file = filepath.Join(dir, "large.stack.yaml")
	for name, text := range map[string]string{"large.yaml": text,
		"large.stack.yaml": "stack: large\ntemplate: large.yaml\ntarget: workshop/alder-1\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	d, err := a.Load(b.Context(), file, Values{})
	if err != nil || d.Findings.HasErrors() {
		b.Fatal(err, d.Findings)
	}
	st, err := a.store.Ensure(b.Context(), "large", d.Stack.Target)
	if err != nil {
		b.Fatal(err)
	}
	r := &run.Record{ID: "made", StackID: st.ID, Kind: "deploy", State: run.StatusDone, Token: "a lock"}
	if _, err := a.store.Lock(b.Context(), st.ID, r.Token); err != nil {
		b.Fatal(err)
	}
	if err := a.store.StartRun(b.Context(), r,
		store.Begin{Revision: &stack.Revision{Template: d.Template, Text: d.Text,
			Inputs: d.Wanted.Inputs}}); err != nil {
		b.Fatal(err)
	}
	attrs := func(resource, name string) (tosca.Value, bool) { return tosca.String(name + " of " + resource), true }
	for i, res := range d.Wanted.Resources {
		props, _ := d.Wanted.Late(res, attrs)
		rec := &stack.Recorded{Name: res.Name, Type: res.Type.Name, ID: "id-" + res.Name, Properties: props,
			Links:      map[string][]stack.LinkTo{},
			Attributes: map[string]tosca.Value{"url": tosca.String("url of " + res.Name)}, Needs: res.Needs,
			Pos: res.Pos}
		for _, l := range res.Links {
			for _, t := range l.Targets {
				rec.Links[l.Requirement] = append(rec.Links[l.Requirement], stack.LinkTo{Name: t, ID: "id-" + t})
			}
		}
		if err := a.store.Note(b.Context(), r, nil, nil, []run.Change{run.Put{Record: rec, Position: i}}); err != nil {
			b.Fatal(err)
		}
	}
	if err := a.store.SetRun(b.Context(), r, 1); err != nil {
		b.Fatal(err)
	}
	return a, file, text
}

// BenchmarkKeystroke is the way from a changed letter in the template, through
// the file, to the change set, as the draft goes it, with what is recorded and
// what is there at hand; as a ratio to the bare YAML parse of the text, and to
// the same with 1,000 resources, measured in turns so that both see the same
// machine.
func BenchmarkKeystroke(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			large, small := newWriter(b, n), newWriter(b, 1000)
			for b.Loop() {
				for range 10000 / n {
					large.keystroke()
					large.line()
				}
				for range n / 10000 * 10 {
					small.keystroke()
				}
			}
			b.ReportMetric(median(large.ours)/median(large.bare), "×parse")
			b.ReportMetric(median(large.lines)/median(large.bare), "×parse/line")
			if n > 1000 {
				b.ReportMetric(median(large.ours)/median(small.ours), "×1,000")
			}
			b.ReportMetric(highest(b), "MB")
		})
	}
}

// writer is somebody who writes a template of a stack that is deployed.
type writer struct {
	*App
	b          *testing.B
	file, text string
	letters    int
	ours, bare []time.Duration
	lines      []time.Duration // where the letter is the end of a line
}

func newWriter(b *testing.B, n int) *writer {
	b.Helper()
	w := &writer{b: b}
	w.App, w.file, w.text = recorded(b, n)
	w.keystroke() // what is cached is there then
	w.ours, w.bare = nil, nil
	return w
}

// line ends a line in a node, with all others behind it.
func (w *writer) line() {
	w.letters++
	w.write(strings.Replace(w.text, "\"LABEL\" }", fmt.Sprintf("\"letter %d\"%s}", w.letters, strings.Repeat("\n          ", w.letters)), 1))
	runtime.GC()
	began := time.Now()
	w.compare()
	w.lines = append(w.lines, time.Since(began))
}

func (w *writer) write(text string) {
	if err := os.WriteFile(filepath.Join(filepath.Dir(w.file), "large.yaml"), []byte(text), 0o600); err != nil {
		w.b.Fatal(err)
	}
}

func (w *writer) compare() {
	d, err := w.Load(w.b.Context(), w.file, Values{Quick: true})
	if err != nil {
		w.b.Fatal(err)
	}
	p, err := w.WhatIfRecorded(w.b.Context(), d)
	if err != nil || p.Findings.HasErrors() || p.Tally.Edit != 1 || p.Tally.New != 0 {
		w.b.Fatal(err, p.Tally, p.Findings)
	}
}

// keystroke writes a letter and makes the change set, and then parses the bare
// text.
func (w *writer) keystroke() {
	w.letters++
	now := strings.Replace(w.text, "LABEL", fmt.Sprint("letter ", w.letters), 1)
	w.write(now)
	runtime.GC() // so that each pays for its own garbage
	began := time.Now()
	w.compare()
	w.ours = append(w.ours, time.Since(began))
	runtime.GC()
	began = time.Now()
	var doc yaml.Node
	if err := yaml.NewDecoder(strings.NewReader(now)).Decode(&doc); err != nil {
		w.b.Fatal(err)
	}
	w.bare = append(w.bare, time.Since(began))
}

func median(times []time.Duration) float64 {
	slices.Sort(times)
	return float64(times[len(times)/2])
}

// highest is the most memory that the process has had, in MB.
func highest(b *testing.B) float64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip(err)
	}
	_, after, _ := strings.Cut(string(text), "VmHWM:")
	var kb float64
	if _, err := fmt.Sscan(after, &kb); err != nil {
		b.Fatal(err)
	}
	return kb / 1000
}
