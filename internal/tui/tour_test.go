package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"brickrow/internal/demo"
)

var tmuxKeys = map[string]string{"down": "Down", "enter": "Enter", "tab": "Tab", "esc": "Escape", "end": "End", "ctrl+s": "C-s", "ctrl+t": "C-t"}

// do presses what a move of the tour says.
func (x *terminal) do(m demo.Move) {
	x.t.Helper()
	if m.Type != "" {
		x.tmux("send-keys", "-t", x.session, "-l", m.Type)
		time.Sleep(200 * time.Millisecond)
		return
	}
	key := m.Key
	if k, ok := tmuxKeys[key]; ok {
		key = k
	}
	if m.Until != "" && !slices.Contains([]string{"down", "tab", "esc", "n"}, m.Key) { // which is not pressed twice
		x.keys(key)
		x.wait(m.Until)
		return
	}
	for range 40 {
		before := x.screen()
		x.keys(key)
		seen, still := x.screen(), 0
		for wait := 0; wait < 60 && still < 8 && (m.Until == "" && seen == before || m.Until != "" && !strings.Contains(seen, m.Until)); wait++ {
			time.Sleep(50 * time.Millisecond) // a busy machine takes its time, and what the key asked for may come in parts
			last := seen
			if seen = x.screen(); seen == last && seen != before {
				still++
			} else {
				still = 0
			}
		}
		if m.Until == "" || strings.Contains(seen, m.Until) {
			return
		}
	}
	x.t.Fatalf("%s was pressed 40 times, and there is no %q:\n%s", key, m.Until, x.screen())
}

// TestTheTour goes through the tour as it stands in the strip and in the README, in a terminal: each step is ticked when
// its moves were made, and not before.
func TestTheTour(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "40")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("BRICK ROW", "bulletin-test", "1 of 12: Choose a stack")
	for i, s := range demo.Steps {
		x.wait(fmt.Sprintf("%d of 12: %s", i+1, s.Name))
		if i == 4 { // left in between, and taken up
			x.keys("C-t")
			x.wait("ctrl+t takes it up")
			if strings.Contains(x.screen(), "of 12") {
				t.Fatalf("the tour is left and stands there:\n%s", x.screen())
			}
			x.keys("C-t")
			x.wait("5 of 12")
		}
		for _, m := range s.Moves {
			x.do(m)
		}
		x.wait("■ done: " + strings.ToLower(s.Name[:1]) + s.Name[1:])
	}
	x.wait("All of it is done")
	x.keys("q")
	y := newTerminal(t, 80, 24, bin, "demo", "--home", home)
	y.wait("All of it is done")
	y.keys("C-p")
	y.tmux("send-keys", "-t", y.session, "-l", "demo and its tour")
	y.keys("Enter")
	y.wait("Begin the demo and its tour again?")
	y.keys("y")
	y.wait("preparing the demo")
	y.wait("1 of 12: Choose a stack", "bulletin-test")
}

// The tour of the README is the one of the demo.
func TestTourInTheReadme(t *testing.T) {
	file := filepath.Join("..", "..", "README.md")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	const begin, end = "<!-- the tour -->\n", "<!-- the end of the tour -->\n"
	before, rest, _ := strings.Cut(string(text), begin)
	is, after, found := strings.Cut(rest, end)
	if want := demo.Markdown(); found && os.Getenv("UPDATE_DOCS") != "" {
		err = os.WriteFile(file, []byte(before+begin+want+end+after), 0o644)
	} else if is != want {
		t.Error("the tour of the README is another one; UPDATE_DOCS=1 go test ./internal/tui -run Readme writes it")
	}
	if err != nil {
		t.Error(err)
	}
}
