package preview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// chosenKeys are the keys that choose resources to be deployed alone.
func (v *View) chosenKeys() []part.Binding {
	p := v.preview
	if p.Kind != run.KindDeploy || p.Saved != "" || v.quick || p.Findings.HasErrors() {
		return nil
	}
	var keys []part.Binding
	if ch := p.Change(v.wall.Sel); len(p.Only) == 0 && ch != nil && (ch.Kind != whatif.Same || slices.Contains(v.chosen, ch.Name)) {
		words := "choose it"
		if slices.Contains(v.chosen, ch.Name) {
			words = "choose it not"
		}
		keys = append(keys, part.Bind(part.Run(v.choosing), "space").Shown("space", words).As("Choose the brick, to deploy it alone"))
	}
	switch {
	case len(p.Only) > 0:
		keys = append(keys, part.Bind(func() tea.Cmd { return v.alone(nil) }, "i", "esc").Shown("i", "all again").
			As("Show what deploying all would do"))
	case len(v.chosen) > 0:
		keys = append(keys, part.Bind(func() tea.Cmd { return v.alone(v.chosen) }, "i").Shown("i", "only the chosen").
			As("Show what deploying the chosen alone would do"))
	}
	return keys
}

// choosing chooses the marked brick, or no longer.
func (v *View) choosing() {
	name := v.wall.Sel
	if i := slices.Index(v.chosen, name); i >= 0 {
		v.chosen = slices.Delete(v.chosen, i, i+1)
		return
	}
	v.chosen = append(v.chosen, name)
}

// alone asks what deploying some resources alone would do; none is all.
func (v *View) alone(names []string) tea.Cmd {
	v.applied = slices.Clone(names)
	if len(names) == 0 {
		v.chosen = nil
	}
	v.stale = true
	return v.open()
}

// leftOut says what is left out where only some resources were chosen.
func (v *View) leftOut() string {
	p := v.preview
	if len(p.Only) == 0 {
		if n := len(v.chosen); n > 0 {
			return fmt.Sprintf("%d chosen: i shows what they alone would do", n)
		}
		return ""
	}
	return fmt.Sprintf("only %s; %d left out", strings.Join(p.Only, ", "), len(p.LeftOut))
}
