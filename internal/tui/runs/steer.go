package runs

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// steering are the keys of a run that goes on: to pause it, to stop it, and to choose what
// becomes of it.
func (v *View) steering() []part.Binding {
	pause := part.Bind(func() tea.Cmd { return v.steer("pause", "the run was asked to pause", v.App().Pause) }, "p").
		Shown("p", "pause").As("Pause the run")
	if v.run.Pause {
		pause = part.Bind(v.unpause, "p", "R").Shown("p", "go on").As("Go on with the run")
	}
	keys := []part.Binding{pause}
	if v.run.Cancel || v.run.State != run.StatusWorking {
		return keys
	}
	if v.run.Kind == run.KindDelete {
		return append(keys, part.Bind(part.Run(func() {
			v.stop(stack.Hold, "Stop run %d of %s? What is under way comes to its end; what is removed is gone, and R goes on later.")
		}), "c").Shown("c", "stop it").As("Stop the run"))
	}
	keys = append(keys,
		part.Bind(part.Run(func() {
			v.stop(stack.Undo, "Stop run %d of %s? What is under way comes to its end, then all of it is undone, where it has not gone too far.")
		}), "c").Shown("c", "cancel and undo"),
		part.Bind(part.Run(func() {
			v.stop(stack.Hold, "Stop run %d of %s? What is under way comes to its end, and what is built stays.")
		}), "C").Shown("C", "stop and hold").As("Stop the run and hold what is built"))
	other, words := stack.Hold, "hold it, should it fail"
	if v.run.OnFailure == stack.Hold {
		other, words = stack.Undo, "undo it, should it fail"
	}
	return append(keys, part.Bind(func() tea.Cmd {
		return v.steer("choose", "should it fail: "+string(other), func(ctx context.Context, r *run.Record) error {
			return v.App().ChooseOnFailure(ctx, r, other)
		})
	}, "h").Shown("h", words))
}

// steer asks something of the run, and says that it was asked.
func (v *View) steer(doing, done string, ask func(ctx context.Context, r *run.Record) error) tea.Cmd {
	r := v.run
	return func() tea.Msg {
		if err := ask(v.Context(), r); err != nil {
			return part.Failed{Doing: doing, Err: err}
		}
		return part.Done{Words: done}
	}
}

func (v *View) stop(then stack.OnFailure, question string) {
	r := v.run
	v.Ask(part.NewAsk(fmt.Sprintf(question, r.Number, v.about.Name), "", func(string) tea.Cmd {
		return func() tea.Msg {
			words, err := v.App().Cancel(v.Context(), r, then)
			if err != nil {
				return part.Failed{Doing: "stop the run", Err: err}
			}
			return part.Done{Words: "the run " + words}
		}
	}))
}

func (v *View) unpause() tea.Cmd {
	st, r := v.about.Stack, v.run
	return func() tea.Msg {
		back, err := v.App().Unpause(v.Context(), r)
		switch {
		case err != nil:
			return part.Failed{Doing: "go on", Err: err}
		case back:
			return part.Done{Words: "the run goes on"}
		}
		return part.Begun(v.App().Resume(v.Context(), st, app.On)) // it stands still already
	}
}

func (v *View) resume() tea.Cmd {
	st := v.Subject().Stack
	return func() tea.Msg { return part.Begun(v.App().Resume(v.Context(), st, app.On)) }
}

// leaving are the keys of a run that is stuck: what holds it is given up, or tried again
// alone.
func (v *View) leaving() []part.Binding {
	f := v.failure()
	if v.run.State != run.StatusStuck || f == nil {
		return nil
	}
	name := f.Resource
	keys := []part.Binding{part.Bind(func() tea.Cmd { return v.whatLeaves(name) }, "L").Shown("L", "leave "+name)}
	if len(v.report.Failures) > 1 {
		st := v.about.Stack
		keys = append(keys, part.Bind(func() tea.Cmd {
			return func() tea.Msg { return part.Begun(v.App().Resume(v.Context(), st, app.On, name)) }
		}, "r").Shown("r", "retry "+name))
	}
	return keys
}

// leaving is what giving up a resource would mean.
type leaving struct {
	stack *stack.Stack
	what  *app.Leaving
}

func (v *View) whatLeaves(name string) tea.Cmd {
	st := v.about.Stack
	return func() tea.Msg {
		l, err := v.App().WhatLeaves(v.Context(), st, name)
		if err != nil {
			return part.Failed{Doing: "leave " + name, Err: err}
		}
		return leaving{st, l}
	}
}

func (v *View) askToLeave(l leaving) {
	ask := part.NewAsk(fmt.Sprintf("Leave %s in the cloud? The run can go on without it then; it is recorded as left.",
		l.what.Parts[0].Name), "", func(string) tea.Cmd {
		return func() tea.Msg {
			if err := v.App().Leave(v.Context(), l.stack, l.what); err != nil {
				return part.Failed{Doing: "leave it", Err: err}
			}
			return part.Done{Words: "left; R goes on without it"}
		}
	})
	ask.Details = l.what.Words()
	const most = 8
	if more := len(ask.Details) - most; more > 0 {
		ask.Details = append(ask.Details[:most:most], fmt.Sprintf("and %d more that these use", more))
	}
	v.Ask(ask)
}

// orUndo is the other way out of a run that waits, where there is one.
func (v *View) orUndo() string {
	if v.news.Ways.Undo {
		return ", u undoes it"
	}
	return ""
}
