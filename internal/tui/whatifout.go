package tui

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/draw"
	"brickrow/internal/files"
	"brickrow/internal/stack"
	"brickrow/internal/store"
)

// outKey handles the keys with which a what-if goes out of the program, or is
// compared with something else.
func (v *whatifView) outKey(m *model, k string) (tea.Cmd, bool) {
	if v.preview == nil {
		return nil, false
	}
	p := v.preview
	switch k {
	case "s":
		if p.Kind != "deploy" {
			m.say(true, "only a what-if of a deployment can be saved")
			return nil, true
		}
		m.askTarget("Save it to which file? Exactly that can be deployed from it.", v.fileName(".changes.json"), func(path string) tea.Cmd {
			return func() tea.Msg {
				if err := m.app.Save(p, path); err != nil {
					return failed{"save", err}
				}
				return done{"saved as " + path + ": brickrow approve, or o in the stacks, opens it"}
			}
		})
	case "m":
		m.askTarget("Write the Markdown to which file?", v.fileName(".md"), func(path string) tea.Cmd {
			return func() tea.Msg {
				if err := files.Write(path, []byte(p.Markdown()), 0o644); err != nil {
					return failed{"write", err}
				}
				return done{"written to " + path}
			}
		})
	case "p":
		m.askTarget("Draw it to which file? Its name ends in .pdf or .svg.", v.fileName(".pdf"), func(path string) tea.Cmd {
			return func() tea.Msg {
				picture, err := m.app.DrawChanges(p)
				var b bytes.Buffer
				if err == nil {
					err = draw.Write(&b, path, picture)
				}
				if err == nil {
					err = files.Write(path, b.Bytes(), 0o644)
				}
				if err != nil {
					return failed{"draw", err}
				}
				return done{"drawn as " + path}
			}
		})
	case "a":
		v.compare(m)
	case "A":
		return v.agree(m), true
	default:
		return nil, false
	}
	return nil, true
}

// fileName is a name for a file about the what-if, beside its stack file.
func (v *whatifView) fileName(ending string) string {
	return filepath.Join(filepath.Dir(v.about.file), v.preview.ChangeSet.Stack+ending)
}

// askTarget asks for the name of a file to write, and once more where there is
// such a file already.
func (m *model) askTarget(question, name string, write func(path string) tea.Cmd) {
	m.ask = newAsk(question, "", func(path string) tea.Cmd {
		path = inHome(path)
		if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
			m.ask = newAsk(path+" is there already. Write over it?", "", func(string) tea.Cmd { return write(path) })
			return nil
		}
		return write(path)
	})
	m.ask.free = true
	m.ask.input.SetValue(name)
}

// inHome gives ~ at the beginning of a path its meaning.
func inHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(path, "~/") {
		return filepath.Join(home, path[2:])
	}
	return path
}

// compare asks what to compare the stack file with.
func (v *whatifView) compare(m *model) {
	about := m.about
	if about.file == "" {
		m.say(true, "it is not known which stack file it came from")
		return
	}
	m.ask = newAsk(fmt.Sprintf("Compare %s as it is written with which revision, or which other stack file? Two numbers, such as 3 1, compare two revisions; nothing is the one that is deployed.", filepath.Base(about.file)), "", func(from string) tea.Cmd {
		if st := about.stack; strings.TrimSpace(from) == "" && st != nil {
			from = itoa(st.Revision)
		}
		to := ""
		if two := strings.Fields(from); len(two) == 2 && len(strings.Trim(two[0]+two[1], "0123456789")) == 0 {
			to, from = two[0], two[1]
		}
		if _, err := os.Stat(inHome(from)); err != nil && !filepath.IsAbs(from) { // beside this one
			if _, err := os.Stat(filepath.Join(filepath.Dir(about.file), from)); err == nil {
				from = filepath.Join(filepath.Dir(about.file), from)
			}
		}
		from = inHome(from)
		values := m.values(about.file)
		return v.start(m, func() (*app.Preview, error) {
			d, err := m.app.Load(m.ctx, about.file, values)
			if err != nil {
				return nil, err
			}
			return m.app.WhatIfFrom(m.ctx, d, from, to)
		})
	})
	m.ask.free = true
}

// openSaved opens a saved change set.
func (v *whatifView) openSaved(m *model, path string) tea.Cmd {
	v.loading, v.err = true, nil
	was := m.about
	return func() tea.Msg {
		p, err := m.app.OpenSaved(m.ctx, path)
		if err != nil {
			return previewLoaded{nil, fmt.Errorf("%s cannot be opened.\n%w", path, err), was, 0}
		}
		about := subject{name: p.ChangeSet.Stack, target: p.Target.String(), stack: p.Stack}
		if p.Draft != nil {
			about.file = p.Draft.Path
		} else if p.Stack != nil {
			about.file = p.Stack.StackFile
		}
		return previewLoaded{p, nil, about, 0}
	}
}

// agree approves of the saved change set that is shown.
func (v *whatifView) agree(m *model) tea.Cmd {
	path := v.preview.Saved
	if path == "" {
		m.say(true, "this was not saved by somebody else: s saves it")
		return nil
	}
	m.ask = newAsk(fmt.Sprintf("Agree, as %s, to %s: %s in %s?", store.Who(), v.preview.ChangeSet.Stack, v.preview.Tally, place(v.preview.Target)), "", func(string) tea.Cmd {
		return func() tea.Msg {
			if _, _, err := m.app.Approve(path, store.Who()); err != nil {
				return failed{"agree", err}
			}
			return v.openSaved(m, path)()
		}
	})
	return nil
}

func place(t stack.Target) string { return t.Account + " / " + t.Region }
