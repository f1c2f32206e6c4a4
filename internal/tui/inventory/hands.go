package inventory

import (
	"context"
	"fmt"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/tui/part"
)

// oddKeys are the keys for what is not as it should be.
func (v *View) oddKeys(r *app.There) []part.Binding {
	if r.Owner == nil || r.Owner.Of == nil || !r.Odd() {
		return nil
	}
	write := part.Bind(v.writeBack, "w").Shown("w", "write it into the files").As("Write the difference into the files")
	if r.Stray() { // what put it back would be to remove it
		return []part.Binding{write}
	}
	return []part.Binding{part.Bind(v.putBack, "p").Shown("p", "put back "+r.Owner.Stack).As("Put back what differs from the record"), write}
}

func (v *View) putBack() tea.Cmd {
	v.take()
	st := v.selected().Owner.Of
	return v.Send(part.ShowPreview{Make: func() (*app.Preview, error) { return v.App().WhatIfPutBack(v.Context(), st) }})
}

// wholeKeys are the keys that change whose something is.
func (v *View) wholeKeys(r *app.There) []part.Binding {
	switch {
	case r.Gone:
	case r.Owner == nil:
		return []part.Binding{
			part.Bind(part.Run(v.adopt), "a").Shown("a", "adopt it").As("Let a node of the stack stand for it"),
			part.Bind(part.Run(v.capture), "w").Shown("w", "write a template of it").As("Write a template of what is nobody's")}
	case r.Owner.Of != nil && r.Owner.Recorded != nil && !r.Owner.Old && !r.Owner.Kept:
		var keys []part.Binding
		if len(v.App().ActionsOf(r.Owner.Recorded)) > 0 {
			keys = append(keys, part.Bind(part.Run(v.act), "o").Shown("o", "act: restart, scale …").As("Act on it: restart, scale, suspend …"))
		}
		st := r.Owner.Of
		return append(keys, part.Bind(func() tea.Cmd { return part.Act(v, st, "", []string{"suspend"}) }).As("Suspend the whole stack"),
			part.Bind(func() tea.Cmd { return part.Act(v, st, "", []string{"resume"}) }).As("Resume the whole stack"), part.Bind(v.release, "f").Shown("f", "let it leave "+r.Owner.Stack).As("Let it leave the stack, and stay in the cloud"))
	}
	return nil
}

// act asks what is to be done to the chosen resource, then whether it is to be done.
func (v *View) act() {
	r := v.selected()
	st, name := r.Owner.Of, r.Owner.Node
	part.AskAct(v, fmt.Sprintf("What should be done to %s? %s", name, part.Verbs(v, r.Owner.Recorded)), func(words []string) tea.Cmd {
		return part.Act(v, st, name, words)
	})
}

func (v *View) release() tea.Cmd {
	v.take()
	st, name := v.selected().Owner.Of, v.selected().Owner.Node
	return v.Send(part.ShowPreview{Make: func() (*app.Preview, error) { return v.App().WhatIfRelease(v.Context(), st, name) }})
}

// adopt asks which node is to stand for the chosen resource.
func (v *View) adopt() {
	r, about := v.selected(), v.Subject()
	if about.File == "" || about.Target != r.Target.String() {
		v.Say("choose a stack of %s first (1): one of its nodes will stand for it", r.Target)
		return
	}
	ask := part.NewAsk(fmt.Sprintf("Which node of %s should stand for %s (%s)?", about.Name, r.Name(), r.Type), "", func(node string) tea.Cmd {
		values := v.Values(about.File)
		return v.Send(part.ShowPreview{Make: func() (*app.Preview, error) {
			d, err := v.App().Load(v.Context(), about.File, values)
			if err != nil {
				return nil, err
			}
			return v.App().WhatIf(v.Context(), d.Adopting(node, r.ID), node)
		}})
	})
	ask.Free = true
	v.Ask(ask)
}

// capture asks where to write a template of what is nobody's in the target, and opens it.
func (v *View) capture() {
	at, name := v.selected().Target, "captured.yaml"
	if file := v.Subject().File; file != "" {
		name = filepath.Join(filepath.Dir(file), name)
	}
	part.AskFile(v, fmt.Sprintf("Write a template of what is nobody's in %s, and a stack file beside it. Where?", at), name,
		func(path string) tea.Cmd {
			return func() tea.Msg {
				file, _, err := v.App().CaptureTo(v.Context(), app.Capturing{Target: at, Unowned: true}, path)
				if err != nil {
					return part.Failed{Doing: "capture", Err: err}
				}
				d, err := v.App().Load(v.Context(), file, app.Values{})
				if err != nil {
					return part.Failed{Doing: "capture", Err: err}
				}
				return part.ShowDraft{Draft: d}
			}
		})
}

// writeBack works out what lets the files say what is there.
func (v *View) writeBack() tea.Cmd {
	r := v.selected()
	v.patch.Alone = func() tea.Cmd { return v.writeBackBy(r, v.App().WriteBackAlone) } // what is chosen may be another one by then
	return v.writeBackBy(r, v.App().WriteBack)
}

func (v *View) writeBackBy(r *app.There, work func(context.Context, *app.Drift) (*app.Written, error)) tea.Cmd {
	st, name, id := r.Owner.Of, r.Owner.Node, r.ID
	v.Say("looking where %s comes from …", name)
	return func() tea.Msg {
		d, err := v.App().Drift(v.Context(), st)
		if err != nil {
			return part.Patched{For: v, Err: err}
		}
		w, err := work(v.Context(), d.Of(name, id))
		return part.Patched{For: v, Written: w, Err: err}
	}
}

func (v *View) saveWritten() tea.Cmd {
	inv := v.inv
	v.loading = true
	return v.patch.Save(v, func() tea.Msg {
		now, err := v.App().LookAgain(v.Context(), inv, nil)
		return looked{now, err}
	})
}

// handKeys are the keys that do something by hand, which the stand-in alone lets one try.
func (v *View) handKeys(r *app.There) []part.Binding {
	if !v.App().StandIn() || r.Gone {
		return nil
	}
	return []part.Binding{
		part.Bind(part.Run(v.changeByHand), "e").Shown("e", "change it there").As("Change it in the stand-in cloud, outside of any run"),
		part.Bind(part.Run(v.removeByHand), "x").Shown("x", "remove it there").As("Remove it from the stand-in cloud, outside of any run"),
		part.Bind(part.Run(v.letFail), "b").Shown("b", "let the stand-in fail here"),
	}
}

// byHand does something to the chosen resource in the background.
func (v *View) byHand(words string, do func() error) tea.Cmd {
	at := v.sel
	return func() tea.Msg {
		if err := do(); err != nil {
			return part.Failed{Doing: words, Err: err}
		}
		return changed{words + ": done, past all stacks", at}
	}
}

func (v *View) changeByHand() {
	r := v.selected()
	ask := part.NewAsk(fmt.Sprintf("Change %s in the cloud itself, as somebody would in its console. Which property=value? "+
		"tags.team=snow sets a tag; nothing behind = takes it away.", r.Name()), "", func(text string) tea.Cmd {
		return v.byHand("change "+r.Name(), func() error { return v.App().ChangeByHand(v.Context(), r, text) })
	})
	ask.Free = true
	v.Ask(ask)
}

func (v *View) removeByHand() {
	r := v.selected()
	v.Ask(part.NewAsk(fmt.Sprintf("Remove %s (%s) from the stand-in cloud itself? What it holds goes with it.", r.Name(), r.ID), "",
		func(string) tea.Cmd {
			return v.byHand("remove "+r.Name(), func() error { return v.App().RemoveByHand(v.Context(), r) })
		}))
}

func (v *View) letFail() {
	name := v.selected().Name()
	ask := part.NewAsk(fmt.Sprintf("Let the stand-in fail once, at the next change of %s. With which words?", name), "",
		func(words string) tea.Cmd {
			return v.byHand("let it fail", func() error { return v.App().LetFail(v.Context(), name, words) })
		})
	ask.Free = true
	ask.Input.SetValue("no host has room for it")
	v.Ask(ask)
}
