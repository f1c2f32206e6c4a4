package part

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

// Acting is what is to be done to what runs; the shell asks whether it is to be done.
type Acting struct {
	Acts *app.Acts
	Err  error
}

// Verbs are the actions of a resource with their inputs, for people.
func Verbs(sh Shell, r *stack.Recorded) string {
	var out []string
	for _, o := range sh.App().ActionsOf(r) {
		words := o.Name
		for _, in := range o.Inputs {
			words += " " + in.Name + "=…"
		}
		out = append(out, words)
	}
	return strings.Join(out, ", ")
}

// AskAct asks for an action in words.
func AskAct(sh Shell, question string, do func(words []string) tea.Cmd) {
	ask := NewAsk(question, "", func(text string) tea.Cmd {
		if words := strings.Fields(text); len(words) > 0 {
			return do(words)
		}
		return nil
	})
	ask.Free = true
	sh.Ask(ask)
}

// Act works out what an action would do: its name, and its inputs as name=value. Without a
// resource it is done to the whole stack.
func Act(sh Shell, st *stack.Stack, resource string, words []string) tea.Cmd {
	with := map[string]string{}
	for _, w := range words[1:] {
		k, val, _ := strings.Cut(w, "=")
		with[k] = val
	}
	return func() tea.Msg {
		acts, err := sh.App().WhatIfAct(sh.Context(), st, resource, words[0], with)
		return Acting{acts, err}
	}
}

// Confirm asks whether it is to be done, and begins it.
func (m Acting) Confirm(sh Shell) {
	if m.Err != nil {
		sh.Warn("%v", m.Err)
		return
	}
	sh.Ask(NewAsk(m.Acts.Question(), m.Acts.Consent().Word(), func(string) tea.Cmd {
		return func() tea.Msg { return Begun(sh.App().PrepareActs(sh.Context(), m.Acts)) }
	}))
}
