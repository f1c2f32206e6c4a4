package tui

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"brickrow/internal/demo"
)

// amiss are words that no line of the interface has while all goes well.
var amiss = regexp.MustCompile(`SQL|UNIQUE|constraint|database is|broke down|goroutine|panic|cannot be (read|asked|reached)|could not be|does not say|unexpected|no such|nil pointer|deadline|EOF|defect`)

// TestTheFirstMinute opens every view of the demo within a minute of its start, and what each has beside, while another
// process deploys, and a third one looks at the cloud again and again: no line tells of anything amiss.
func TestTheFirstMinute(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "6")
	began := time.Now()
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("BRICK ROW", "bulletin-test", "1 of 12")
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan string, 2)
	beside := func(args ...string) {
		cmd := exec.CommandContext(ctx, bin, append(args, "--home", home)...)
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
		out, err := cmd.CombinedOutput()
		said := string(out)
		if err != nil && ctx.Err() == nil {
			said += "\n" + err.Error() + " unexpected"
		}
		ended <- strings.Join(args, " ") + ":\n" + said
	}
	go beside("deploy", filepath.Join(demo.Project(home), "bulletin-test.stack.yaml"), "--yes")
	go beside("observe", "--every", "1s")
	for _, keys := range []string{"Down", "1", "Down Up", "2", "Tab", "Tab", "i Escape", "e Escape", "3", "n", "n", "g", "g g g", "Tab", "4", "e", "Escape", "s", "Escape",
		"5", "t", "g", "g", "t", "c", "c", "i", "6", "a", "t", "t", "a", "7", "d", "Escape", "1", "n", "Escape", "?", "Escape", "C-p", "Escape", "5", "3", "4", "6", "7", "1"} {
		x.keys(strings.Fields(keys)...)
		time.Sleep(120 * time.Millisecond)
		if seen := x.screen(); amiss.MatchString(seen) {
			t.Errorf("after %s there is %q:\n%s", keys, amiss.FindString(seen), seen)
		}
	}
	if took := time.Since(began); took > 2*time.Minute { // 16 s where the machine has nothing else to do
		t.Errorf("it took %v: a newcomer is quicker", took)
	}
	x.keys("4")
	x.wait("■ done after")
	stop()
	for range 2 {
		if said := <-ended; amiss.MatchString(said) {
			t.Errorf("beside it: %s", said)
		}
	}
}
