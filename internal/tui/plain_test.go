package tui

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestTheInterfaceInLines does the work without a full screen, in a terminal: a value, a what-if, a deployment that
// fails and one that does not, the way back, and a deletion. Nothing moves the cursor, and no mark stands alone.
func TestTheInterfaceInLines(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "60")
	log := filepath.Join(t.TempDir(), "log")
	x := newTerminal(t, 100, 400, "sh", "-c", "sleep 1; "+bin+" demo --plain --home "+home+"; sleep 60")
	x.tmux("pipe-pane", "-t", x.session, "cat > "+log)
	say := func(line string, words ...string) {
		t.Helper()
		x.tmux("send-keys", "-t", x.session, "-l", line)
		x.keys("Enter")
		x.wait(words...)
	}
	x.wait("Brick Row, in lines", "2: bulletin-test in workshop/alder-1, ready, revision 2", "keepers in workshop/birch-1, not deployed yet", "brickrow>")
	say("what-if", "no stack is chosen: say stacks")
	say("99", "there is no number 99")
	say("2", "bulletin-test in workshop/alder-1 is chosen", "bulletin-test>")
	say("value readers=lots", "expected an integer, found a string")
	say("value readers=3", "readers is 3 in bulletin-test.stack.yaml now")
	say("put 3 x", "no file is read")
	say("read 112 115", "bulletin.yaml, lines 112 to 115 of 244", "115, indented 8: size: { $get_input: db_size }")
	say("put 115         size: enormous", "Wrong: 1 thing", "enormous")
	say("take back", "bulletin.yaml is saved, and nothing is wrong.")
	say("add 112         label: hut readings", "nothing is wrong")
	say("remove 113", "nothing is wrong")
	template := filepath.Join(home+"-project", "bulletin.yaml")
	others, err := os.ReadFile(template)
	if err == nil {
		err = os.WriteFile(template, append(others, "# somebody else was here\n"...), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	say("put 1 x", "since it was read, and nothing was written")
	say("read 244 245", "# somebody else was here")
	say("take back", "there is no change to take back") // which would take theirs back too
	agreed := filepath.Join(filepath.Dir(home), "agreed.json")
	say("save "+agreed, "agreed.json")
	say("approve "+agreed, "another person has to approve it")
	say("rules", "newest-images: servers start from the newest image")
	say("input readers=4", "readers is given for now")
	say("what-if", "2 new, 2 edit, 21 same", "edit, readings_db", "size: small becomes medium", "because: input readers is 4, was 2", "Risk, interruption: readings_db restarts")
	say("yard fault add --name readings_db --at last --reason 'there is no room'", "readings_db")
	say("deploy", "Deploy bulletin-test: 2 new, 2 edit in workshop / alder-1? [y or n]")
	say("y", "It failed and was undone.", "the cloud: there is no room")
	say("deploy", "[y or n]")
	say("n", "Nothing was done.")
	say("deploy --yes", "run 5: done after")
	say("drift", "as it is recorded")
	say("undo --to 2", "[y or n]")
	say("y", "run 6: done after")
	say("history", "as revision 2: done after", "deploy of revision 4: undone after")
	say("nonsense", `unknown command "nonsense"`)
	say("delete", "type bulletin-test")
	say("bulletin-test", "nothing is there any more but what is kept: frames")
	say("leave", "A run goes on without you.")
	text, err := os.ReadFile(log)
	if err != nil || !strings.Contains(string(text), "A run goes on") {
		t.Fatalf("%v: %s", err, text)
	}
	if at := regexp.MustCompile(`\x1b.|[▲◧⇅▽▪◈◇■▶◔✖↶≠]`).FindString(string(text)); at != "" {
		i := strings.Index(string(text), at)
		t.Errorf("there is %q in what is read out: %q", at, text[max(0, i-80):min(len(text), i+80)])
	}
}
