package preview

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/draw"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// outKeys are the keys with which a what-if goes out of the program, or is
// compared with something else.
func (v *View) outKeys() []part.Binding {
	p := v.preview
	save := part.Bind(part.Run(v.save), "s")
	if v.deployable() {
		save = save.Shown("s", "save, to deploy exactly that")
	}
	keys := []part.Binding{save,
		part.Bind(part.Run(v.markdown), "m").Shown("m", "write it as Markdown"),
		part.Bind(part.Run(v.picture), "p").Shown("p", "draw it as SVG or PDF"),
		part.Bind(part.Run(v.compare), "a").Shown("a", "compare with something else")}
	if p.Saved != "" && !p.Approved {
		return append(keys, part.Bind(part.Run(v.agree), "A").Shown("A", "agree to it"))
	}
	return append(keys, part.Bind(part.Run(func() { v.Warn("this was not saved by somebody else: s saves it") }), "A"))
}

// save saves the what-if, so that exactly that can be deployed.
func (v *View) save() {
	p := v.preview
	if p.Kind != run.KindDeploy {
		v.Warn("only a what-if of a deployment can be saved")
		return
	}
	if names := v.unsaved(); len(names) > 0 {
		v.Warn("save %s first: 2, then ctrl+s", strings.Join(names, " and "))
		return
	}
	part.AskFile(v, "Save it to which file? Exactly that can be deployed from it.", v.fileName(".changes.json"),
		func(path string) tea.Cmd {
			return func() tea.Msg {
				if err := v.App().Save(p, path); err != nil {
					return part.Failed{Doing: "save", Err: err}
				}
				return part.Done{Words: "saved as " + path + ": brickrow approve, or o in the stacks, opens it"}
			}
		})
}

// markdown writes the what-if as Markdown.
func (v *View) markdown() {
	p := v.preview
	part.AskFile(v, "Write the Markdown to which file?", v.fileName(".md"), func(path string) tea.Cmd {
		return func() tea.Msg {
			if err := files.Write(path, []byte(p.Markdown()), 0o644); err != nil {
				return part.Failed{Doing: "write", Err: err}
			}
			return part.Done{Words: "written to " + path}
		}
	})
}

// picture draws the what-if for paper.
func (v *View) picture() {
	p := v.preview
	part.AskFile(v, "Draw it to which file? Its name ends in .pdf or .svg.", v.fileName(".pdf"),
		func(path string) tea.Cmd {
			return func() tea.Msg {
				picture, err := v.App().DrawChanges(p)
				var b bytes.Buffer
				if err == nil {
					err = draw.Write(&b, path, picture)
				}
				if err == nil {
					err = files.Write(path, b.Bytes(), 0o644)
				}
				if err != nil {
					return part.Failed{Doing: "draw", Err: err}
				}
				return part.Done{Words: "drawn as " + path}
			}
		})
}

// fileName is a name for a file about the what-if, beside its stack file.
func (v *View) fileName(ending string) string {
	return filepath.Join(filepath.Dir(v.about.File), v.preview.ChangeSet.Stack+ending)
}

// compare asks what to compare the stack file with.
func (v *View) compare() {
	about := v.Subject()
	if about.File == "" {
		v.Warn("it is not known which stack file it came from")
		return
	}
	ask := part.NewAsk(fmt.Sprintf("Compare %s as it is written with which revision, or which other stack file? "+
		"Two numbers, such as 3 1, compare two revisions; nothing is the one that is deployed.",
		filepath.Base(about.File)), "", func(from string) tea.Cmd {
		if st := about.Stack; strings.TrimSpace(from) == "" && st != nil {
			from = part.Itoa(st.Revision)
		}
		to := ""
		if two := strings.Fields(from); len(two) == 2 && len(strings.Trim(two[0]+two[1], "0123456789")) == 0 {
			to, from = two[0], two[1]
		}
		if _, err := os.Stat(part.InHome(from)); err != nil && !filepath.IsAbs(from) { // beside this one
			if _, err := os.Stat(filepath.Join(filepath.Dir(about.File), from)); err == nil {
				from = filepath.Join(filepath.Dir(about.File), from)
			}
		}
		from = part.InHome(from)
		values := v.Values(about.File)
		return v.start(func() (*app.Preview, error) {
			d, err := v.App().Load(v.Context(), about.File, values)
			if err != nil {
				return nil, err
			}
			return v.App().WhatIfFrom(v.Context(), d, from, to)
		})
	})
	ask.Free = true
	v.Ask(ask)
}

// openSaved opens a saved change set.
func (v *View) openSaved(path string) tea.Cmd {
	v.loading, v.err = true, nil
	was := v.Subject()
	return func() tea.Msg {
		p, err := v.App().OpenSaved(v.Context(), path)
		if err != nil {
			return previewLoaded{nil, fmt.Errorf("%s cannot be opened.\n%w", path, err), was, 0}
		}
		about := part.Subject{Name: p.ChangeSet.Stack, Target: p.Target.String(), Stack: p.Stack, Careful: p.Careful()}
		if p.Draft != nil {
			about.File = p.Draft.Path
		} else if p.Stack != nil {
			about.File = p.Stack.StackFile
		}
		return previewLoaded{p, nil, about, 0}
	}
}

// agree approves of the saved change set that is shown.
func (v *View) agree() {
	path, me := v.preview.Saved, identity.User()
	v.Ask(part.NewAsk(fmt.Sprintf("Agree, as %s, to %s: %s in %s?", me, v.preview.ChangeSet.Stack, v.preview.Tally,
		place(v.preview.Target)), "", func(string) tea.Cmd {
		return func() tea.Msg {
			if _, _, err := v.App().Approve(path, me); err != nil {
				return part.Failed{Doing: "agree", Err: err}
			}
			return v.openSaved(path)()
		}
	}))
}

func place(t stack.Target) string { return t.Account + " / " + t.Region }
