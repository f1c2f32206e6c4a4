package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/files"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// A step of the tour is something to do in the demo, and is done when it was really done: the store, the cloud and the
// files are asked, not the keys that were pressed. The strip in the interface, the tour of the README and the test
// that goes through it in a terminal are all made of these.
type Step struct {
	Name  string
	Moves []Move
	Why   string
	Looks bool // it is done by looking at something
	done  func(*seen) bool
}

// Move is a key to press, as often as it takes, or a text to type.
type Move struct {
	Key   string // "down", "enter", "ctrl+s", a letter
	Type  string // what is typed instead
	Until string // words on the screen that say that it was pressed often enough; "" is once
	Says  string // what it does
}

// toured is the stack that the tour is about, and its file.
const toured = "bulletin-test"

// Steps are those of the tour, in their order.
var Steps = []Step{
	{"Choose a stack", []Move{{Key: "1", Says: "lists the stacks"}, {Key: "down", Until: "bulletin-test  revision", Says: "goes to bulletin-test"}},
		"On the right stands how its last run failed and was undone. The chosen stack stays in the first line, wherever you look.",
		true, func(s *seen) bool { return s.chosen == toured }},
	{"Write a value", []Move{{Key: "2", Says: "opens its template"}, {Key: "i", Says: "goes into the inputs"},
		{Key: "down", Until: "▌readers", Says: "goes to readers"}, {Key: "enter", Says: "changes it"}, {Type: "4"},
		{Key: "ctrl+s", Says: "writes it into the stack file"}},
		"What it would change is told while you type. In the text itself e writes, and ctrl+space offers what can stand there.",
		false, func(s *seen) bool { return s.input("readers", "4") }},
	{"See what it would do", []Move{{Key: "3", Says: "compares what is wanted with what is recorded and what is there"},
		{Key: "n", Until: "▲ reader#3", Says: "goes from change to change"}},
		"Each change has its cause, down to the line: enter walks along it. Nothing is changed by looking.",
		true, func(s *seen) bool { return s.whatIf }},
	{"Break it", []Move{{Key: "b", Says: "lets the stand-in cloud fail at the chosen brick"}, {Key: "enter", Says: "agrees to the words that it fails with"}},
		"A cloud is at its most interesting when it refuses. The stand-in can be told to, once.",
		false, func(s *seen) bool { return s.faults > 0 || s.ran(run.KindDeploy, run.StatusUndone) }},
	{"Watch the undo", []Move{{Key: "tab", Until: "d deploys it", Says: "looks through the risks"}, {Key: "d", Says: "deploys"}, {Key: "y", Says: "agrees"}},
		"The wall fills from the ground. Where a brick fails, all is undone, and the cloud is asked whether it is as before.",
		false, func(s *seen) bool { return s.ran(run.KindDeploy, run.StatusUndone) }},
	{"Deploy it", []Move{{Key: "3", Says: "compares again"}, {Key: "tab", Until: "d deploys it", Says: "looks through the risks"},
		{Key: "d", Says: "deploys"}, {Key: "y", Says: "agrees"}},
		"The fault was for once. q leaves at any time: the run belongs to a process of its own and goes on.",
		false, func(s *seen) bool { return s.ran(run.KindDeploy, run.StatusDone) }},
	{"Somebody changes the cloud", []Move{{Key: "5", Says: "shows what is really there"}, {Key: "/", Says: "filters"}, {Type: "bulletin-test frames"},
		{Key: "enter", Says: "keeps the filter"}, {Key: "e", Says: "changes it in the cloud itself, past all stacks"}, {Type: "keep_days=12"},
		{Key: "enter", Says: "does it"}},
		"So does a colleague in a console. ≠ marks it; beside it stand what is wanted, recorded and really there.",
		false, func(s *seen) bool { return s.byPerson }},
	{"Put it back", []Move{{Key: "p", Until: "d puts it back", Says: "shows what putting it back would do"}, {Key: "d", Says: "does it"}, {Key: "y", Says: "agrees"}},
		"w would write it into the files instead: then the cloud is right, and the template follows.",
		false, func(s *seen) bool { return s.ran(run.KindUndo, run.StatusDone) }},
	{"Adopt what is nobody's", []Move{{Key: "5", Says: "shows the cloud"}, {Key: "esc", Until: "nobody's  5", Says: "shows all"},
		{Key: "end", Says: "goes to what is nobody's"}, {Key: "w", Says: "writes a template of it"}, {Key: "enter", Says: "agrees to the file"},
		{Key: "3", Until: "5 adopt", Says: "compares"}, {Key: "d", Says: "deploys"}, {Key: "y", Says: "agrees"}},
		"Nothing is made anew: what a trial has left behind comes under a stack of its own.",
		false, func(s *seen) bool { return s.adopted }},
	{"Act on it", []Move{{Key: "5", Says: "shows the cloud"}, {Key: "/", Says: "filters"}, {Type: "bulletin-test reader#0"}, {Key: "enter", Says: "keeps the filter"},
		{Key: "o", Says: "acts on it"}, {Type: "restart"}, {Key: "enter", Says: "asks what it means"}, {Key: "y", Says: "agrees"}},
		"A type declares what can be done to it: restart, scale, suspend. It is a run like any other, and stands in the history.",
		false, func(s *seen) bool { return s.ran(run.KindAction, run.StatusDone) }},
	{"Go back", []Move{{Key: "6", Says: "is the history, a rung for each run"}, {Key: "down", Until: "go back to revision 2", Says: "goes to one"},
		{Key: "u", Says: "shows what going back would do"}, {Key: "tab", Until: "d goes back to it", Says: "looks through the risks"}, {Key: "d", Says: "does it"}, {Key: "y", Says: "agrees"}},
		"Any revision that stood can be gone back to, as exactly as the cloud allows; what cannot come back is a risk, and told before.",
		false, func(s *seen) bool { return s.ran(run.KindUndo, run.StatusDone) }},
	{"Delete it", []Move{{Key: "1", Says: "lists the stacks"}, {Key: "x", Says: "shows what deleting would do"}, {Key: "tab", Until: "d deletes it", Says: "looks through the risks"},
		{Key: "d", Says: "deletes"}, {Type: toured}, {Key: "enter", Says: "agrees: data goes, so its name is typed"}},
		"At the end the cloud is asked whether anything is there still. Its history stays, and it can be stood up again.",
		false, func(s *seen) bool { return s.removed }},
}

// Text is what to do, in words.
func (s *Step) Text() string {
	parts := make([]string, len(s.Moves))
	for i, m := range s.Moves {
		if parts[i] = shownKeys(m.Key) + " " + m.Says; m.Type != "" {
			parts[i] = "type " + m.Type
		}
	}
	return strings.Join(parts, ", ")
}

// shownKeys is a key as the interface shows it.
func shownKeys(key string) string {
	if key == "down" {
		return "↓"
	}
	return key
}

// Markdown is the tour as it stands in the README.
func Markdown() string {
	var b strings.Builder
	for i, s := range Steps {
		fmt.Fprintf(&b, "%d. **%s.** ", i+1, s.Name)
		for k, m := range s.Moves {
			if k > 0 {
				b.WriteString(", ")
			}
			if m.Type != "" {
				fmt.Fprintf(&b, "type `%s`", m.Type)
			} else {
				fmt.Fprintf(&b, "`%s` %s", shownKeys(m.Key), m.Says)
			}
		}
		fmt.Fprintf(&b, ".\n   %s\n", s.Why)
	}
	return b.String()
}

// Tour is how far somebody is in it.
type Tour struct {
	Done []time.Time `json:"done"` // when each step was seen to be done
	Left bool        `json:"left"` // it is not shown
	// Begun is when it began: what was done before does not count.
	Begun time.Time `json:"begun"`
}

const tourFile = "tour.json"

// ReadTour reads how far somebody is, and begins where nobody has.
func ReadTour(home string) Tour {
	var t Tour
	if text, err := files.Read(filepath.Join(home, tourFile), tosca.MaxBytes); err == nil {
		err = json.Unmarshal(text, &t)
		if err != nil || len(t.Done) > len(Steps) {
			t = Tour{}
		}
	}
	if t.Begun.IsZero() {
		t.Begun = time.Now()
	}
	return t
}

// Save keeps how far somebody is.
func (t Tour) Save(home string) error {
	text, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return files.Write(filepath.Join(home, tourFile), append(text, '\n'), 0o600)
}

// Over reports whether all is done.
func (t Tour) Over() bool { return len(t.Done) == len(Steps) }

// Now is the step to do; nil where all is done.
func (t Tour) Now() *Step {
	if t.Over() {
		return nil
	}
	return &Steps[len(t.Done)]
}

// since is from when on what is done counts for the step.
func (t Tour) since() time.Time {
	if n := len(t.Done); n > 0 {
		return t.Done[n-1]
	}
	return t.Begun
}

// Looked is what only the interface knows.
type Looked struct {
	Chosen string // the stack
	WhatIf bool   // a what-if of its deployment stands there, with changes
}

// Check ticks the steps that were really done since, and reports whether there were any.
func (t *Tour) Check(ctx context.Context, a *app.App, l Looked) (bool, error) {
	ticked := false
	for !t.Over() {
		s, err := &seen{chosen: l.Chosen, whatIf: l.WhatIf}, error(nil)
		if !t.Now().Looks {
			s, err = look(ctx, a, l, t.since())
		}
		if err != nil || !t.Now().done(s) {
			return ticked, err
		}
		t.Done = append(t.Done, time.Now())
		ticked = true
	}
	return ticked, nil
}

// seen is what is so in the demo.
type seen struct {
	chosen   string
	whatIf   bool
	faults   int
	byPerson bool         // somebody has changed something in the cloud since
	adopted  bool         // a stack beside those of the demo has come to be
	removed  bool         // the stack of the tour is
	runs     []run.Record // of the stack of the tour, since
	inputs   []stack.Input
}

func (s *seen) ran(kind run.Kind, state run.Status) bool {
	return slices.ContainsFunc(s.runs, func(r run.Record) bool { return r.Kind == kind && r.State == state })
}

func (s *seen) input(name, value string) bool {
	return slices.ContainsFunc(s.inputs, func(in stack.Input) bool { return in.Name == name && tosca.Show(in.Value) == value })
}

// look asks the store, the cloud and the files.
func look(ctx context.Context, a *app.App, l Looked, since time.Time) (*seen, error) {
	s := &seen{chosen: l.Chosen, whatIf: l.WhatIf}
	list, err := a.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range list {
		switch {
		case o.Stack.Name == toured:
			s.removed = o.Stack.State == stack.Removed && o.Run != nil && o.Run.Ended.After(since)
			h, err := a.History(ctx, o.Stack)
			if err != nil {
				return nil, err
			}
			for _, r := range h.Runs {
				if r.Started.After(since) && r.State.Ended() {
					s.runs = append(s.runs, *r)
				}
			}
		case o.Run != nil && o.Run.Number == 1 && o.Run.Started.After(since) && o.Run.State == run.StatusDone:
			s.adopted = true
		}
	}
	traces, err := a.Traces(ctx, stack.Which{Stack: toured, Since: since})
	if err != nil {
		return nil, err
	}
	s.byPerson = slices.ContainsFunc(traces, func(t stack.Trace) bool { return t.Foreign() })
	if faults, err := a.Door.Faults(ctx); err == nil { // a cloud that does not answer has none
		s.faults = len(faults)
	}
	d, err := a.Load(ctx, filepath.Join(Project(a.Home), toured+".stack.yaml"), app.Values{})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if d != nil && d.Wanted != nil {
		s.inputs = d.Wanted.Inputs
	}
	return s, nil
}
