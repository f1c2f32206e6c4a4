package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/tui/part"
)

// At every size, on every ground and at every depth of colour the names of what is chosen and of what changes are there,
// so are the stack and where it is, the next step, and no line is longer than the window.
func TestEverySizeAndDepth(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down")
	views := []struct {
		keys  string
		words []string
	}{
		{"1", []string{"bulletin-test", "ridge-base", "3 shows what would change"}},
		{"2", []string{"tosca_definitions_version", "3 shows what deploying it would do"}},
		{"3", []string{"reader_rules", "readings_db", "reader#2", "interruption", "1 new", "2 edit"}},
		{"4", []string{"readings_db", "failed and undone", "no storage host has 40 GiB", "then what-if again (3)"}},
		{"5", []string{"reader_rules", "nobody's", "bulletin-live", "p put back bulletin-test"}},
		{"6", []string{"deploy of revision 3", "deploy of revision 2"}},
		{"7", []string{"signs was not deployed yet"}},
	}
	roomy := map[string][]string{ // what else is there with much room
		"3": {"what changes", "input db_size is medium, was small", "input readers is 3, was 2", "ServerGroup"},
		"5": {"LoadBalancer", "Subscription"},
	}
	for _, depth := range []colorprofile.Profile{colorprofile.ASCII, colorprofile.ANSI, colorprofile.ANSI256, colorprofile.TrueColor} {
		d.send(tea.ColorProfileMsg{Profile: depth})
		for _, light := range []bool{false, true} {
			d.look.Light = light
			d.see(d.look)
			for _, size := range [][2]int{{80, 24}, {100, 30}, {142, 42}, {200, 60}, {300, 90}, {60, 16}} {
				if d.look != (part.Look{Depth: colorprofile.TrueColor}) && size != [2]int{80, 24} && size != [2]int{142, 42} {
					continue // the words are the same
				}
				d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				for _, v := range views {
					d.press(v.keys)
					frame := d.frame()
					seen := ansi.Strip(frame)
					for _, line := range strings.Split(frame, "\n") {
						if ansi.StringWidth(line) > size[0] {
							t.Errorf("%v: a line is %d wide: %q", size, ansi.StringWidth(line), ansi.Strip(line))
						}
					}
					if n := strings.Count(frame, "\n") + 1; n > size[1] {
						t.Errorf("%v: %d lines", size, n)
					}
					if size[0] < 80 { // less is promised there
						continue
					}
					words := append(v.words, "bulletin-test", "workshop / alder-1")
					if size[0] >= 200 {
						words = append(words, roomy[v.keys]...)
					}
					for _, w := range words {
						if !strings.Contains(seen, w) {
							t.Errorf("%v, light %v, at %v: view %s has no %q:\n%s", depth, light, size, v.keys, w, seen)
							if t.Failed() && size == [2]int{80, 24} {
								t.FailNow()
							}
						}
					}
				}
			}
		}
	}
}
