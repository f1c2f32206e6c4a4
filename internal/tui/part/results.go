package part

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// PanelTitle writes the title of a part of a view.
func PanelTitle(t *Theme, s *Screen, r Rect, title, faint string) {
	x := s.Text(r.X, r.Y, r.W, Bold(t.Hinted()), title)
	s.Text(x+2, r.Y, r.W-(x+2-r.X), t.Faint(), faint)
}

// ResultLines are the lines of a result below its name, at a width: its value, the one
// that it had before the last run, and its command.
func ResultLines(res stack.Result, w int) (value, was, command []string) {
	value = Wrap(res.Text(), w)
	if res.Was != nil {
		was = Wrap("was "+tosca.Show(res.Was), w)
	}
	if res.Command != "" {
		command = Wrap("run "+res.Ready(stack.Result.Text), w)
	}
	return value, was, command
}

// ResultKeys says what can be done with the marked result.
func ResultKeys(list []stack.Result) string {
	words := "y copies it"
	if slices.ContainsFunc(list, func(r stack.Result) bool { return r.Command != "" }) {
		words += ", Y its command"
	}
	if len(list) > 1 {
		words += ", tab the next"
	}
	return words
}

// CopyCommand is the key that copies the command of a result, where it has one.
func CopyCommand(sh Shell, list []stack.Result, at int) []Binding {
	if at >= len(list) || list[at].Command == "" {
		return nil
	}
	return []Binding{Bind(func() tea.Cmd {
		sh.Say("copied the command of %s", list[at].Name)
		return tea.SetClipboard(list[at].Ready(stack.Result.Reveal))
	}, "Y").Shown("Y", "copy its command").As("Copy the command of the result")}
}

// DrawResults lists results, each with what it is, the marked one lit.
func DrawResults(t *Theme, s *Screen, r Rect, list []stack.Result, at int) {
	y := r.Y
	for i, res := range list {
		mark, st := "  ", t.Plain()
		if i == at {
			mark, st = "▸ ", t.Strong()
		}
		if y >= r.Y+r.H {
			return
		}
		x := s.Text(r.X, y, r.W, t.On(t.Key), mark+res.Name)
		if res.Was != nil {
			x = s.Text(x+2, y, r.X+r.W-x-2, Bold(t.Hinted()), "changed")
		}
		s.Text(x+2, y, r.X+r.W-x-2, t.Faint(), res.Description)
		y++
		value, was, command := ResultLines(res, r.W-4)
		line := func(st uv.Style, text, address string) {
			if y < r.Y+r.H {
				end := s.Text(r.X+4, y, r.W-4, st, text)
				if address != "" {
					s.Link(r.X+4, y, end-r.X-4, address)
				}
			}
			y++
		}
		for _, l := range value {
			line(st, l, res.Address())
		}
		for _, l := range was {
			line(t.Faint(), l, "")
		}
		for _, l := range command {
			line(t.On(t.Hint), l, "")
		}
	}
}

// narrow is the width below which only what is there is counted.
const narrow = 100

// DrawTally writes the numbers of a change set with their marks.
func DrawTally(t *Theme, s *Screen, x, y, w int, tally whatif.Tally) int {
	end := x + w
	for _, k := range append(slices.Clone(whatif.Kinds), whatif.Adopt, whatif.Keep) {
		if tally.Of(k) == 0 && (k == whatif.Adopt || k == whatif.Keep || w < narrow) {
			continue
		}
		st := Bold(t.On(t.Kinds[k].Word))
		if tally.Of(k) == 0 || k == whatif.Same {
			st = t.Faint()
		}
		x = s.Text(x, y, end-x, st, fmt.Sprintf("%s %d %s", k.Mark(), tally.Of(k), k)) + 3
	}
	if tally.Results > 0 {
		x = s.Text(x, y, end-x, Bold(t.Hinted()), fmt.Sprintf("%d result%s", tally.Results, Plural(tally.Results))) + 3
	}
	return x
}

func Itoa(n int) string { return strconv.Itoa(n) }

func Plural(n int) string {
	if n == 1 {
		return ""
	}
	return "s"
}

// Ago says how long ago something was.
func Ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02")
}
