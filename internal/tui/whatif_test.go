package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/tui/part"

	tea "charm.land/bubbletea/v2"
)

// TestTheWhatIfIsLookedThrough groups, filters, jumps along the causes and
// back, and cuts long values.
func TestTheWhatIfIsLookedThrough(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.edit("bulletin-test.stack.yaml", "site: test", "site: proof\n  db_version: \"14\"")
	d.press("down", "3")
	d.wants("longest: ", "by nominal times; no past run tells more")
	// to the database, on to what follows from it, and back
	d.pick("readings_db")
	d.wants("because", "input db_version is 14, was 15", "then, ", "forces the swap")
	d.press("enter", "down", "down")
	d.wants("▸", "enter go there")
	d.press("down", "down", "down", "down", "down", "down", "down", "enter")
	d.lacks("⇅ readings_db  swap")
	d.wants("of ⇅ readings_db changes")
	d.press("backspace")
	d.wants("⇅ readings_db  swap")
	d.press("backspace")
	d.wants("⇅ readings_db  swap")
	// from the cause to its line
	d.press("enter", "enter")
	d.wants("2 Draft", "stack: bulletin-test", "line 7")
	d.press("3")
	// groups
	d.press("g")
	d.wants("grouped by type", "2 Subnet", "1 Zone")
	d.press("g")
	d.wants("grouped by change", "1 new", "swap")
	d.press("g")
	d.lacks("2 Subnet")
	// filter
	d.press("/", "zone")
	d.wants("filter zone", "bulletin_zone", "enter keeps the filter")
	d.lacks("▪ valley_net")
	d.press("enter")
	d.wants("filter: zone")
	d.press("/", "xyz", "enter")
	d.wants("No resource has these words")
	d.press("esc")
	d.wants("valley_net")
	d.press("/", "readings_db", "enter")
	d.press("n", "n", "n", "n", "n")
	d.lacks("filter: readings_db") // the next change is hidden by it
	d.press("c")
	d.lacks("valley_net")
	d.press("c")
	// a mouse on what follows
	d.pick("readings_db")
	d.click("◧ forecasters edit", d.w)
	d.wants("◧ forecasters  edit  ServerGroup")
}

func TestLongValuesAreCut(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.edit("bulletin.yaml", "label: { $concat: [ reader-, $node_index ] }",
		"label: reader\n        user_data: \""+strings.Repeat("measure the snow and the wind ", 20)+"the end\"")
	d.press("down", "3")
	d.pick("reader#2")
	d.wants("lines more, v shows all")
	d.lacks("the end")
	d.press("v")
	d.wants("all is shown whole")
	d.pick("reader#2")
	d.wants("the end")
}

// TestTheWhatIfGoesOut saves, writes and draws it, compares it with something
// else, and opens what was saved.
func TestTheWhatIfGoesOut(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "3", "s")
	d.wants("Save it to which file?", "bulletin-test.changes.json")
	d.press("enter")
	d.wants("saved as ")
	d.press("s", "enter")
	d.wants("is there already. Write over it?")
	d.press("n")
	for k, file := range map[string]string{"m": "bulletin-test.md", "p": "bulletin-test.pdf"} {
		d.press(k, "enter")
		if b, err := os.ReadFile(filepath.Join(d.dir, file)); err != nil || len(b) < 500 {
			t.Errorf("%s: %d bytes, %v", file, len(b), err)
		}
	}
	d.press("p", "backspace", "backspace", "backspace", "png", "enter")
	d.wants("must end in .svg or .pdf")

	d.press("a")
	d.wants("Compare bulletin-test.stack.yaml as it is written with which revision")
	d.press("enter")
	d.wants("compared with revision 2", "a comparison: r asks")
	d.lacks("deploying puts it back") // the cloud is not asked
	d.press("d")
	d.wants("cannot be deployed")
	d.press("a", "backspace", "bulletin-live.stack.yaml", "enter")
	d.wants("compared with ", "bulletin-live.stack.yaml", "◧")
	d.press("a", "backspace", "2 1", "enter")
	d.wants("compared with revision 1 (this is revision 2)")
	d.press("a", "backspace", "77", "enter")
	d.wants("has no revision 77")
	d.press("r")
	d.wants("compared with the cloud at", "look through 1 risk")

	// somebody else opens what was saved, and agrees
	d.press("1", "o", filepath.Join(d.dir, "bulletin-test.changes.json"), "enter")
	d.wants("3 What-if", "saved by ", "1 risk")
	d.press("A")
	d.wants("Agree, as ")
	d.press("y")
	d.wants("agree: ", "another person has to approve it")
	other, err := app.Open(app.Options{Home: filepath.Join(t.TempDir(), "other")})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, _, err := other.Approve(filepath.Join(d.dir, "bulletin-test.changes.json"), "warden"); err != nil {
		t.Fatal(err)
	}
	d.press("r")
	d.wants("approved by warden")
	d.edit("bulletin-test.changes.json", "\"kind\": \"new\"", "\"kind\": \"edit\"")
	d.press("r")
	d.wants("was changed after it was saved")
}

// TestNotesAreShown wants warnings of a team's rules, and what is left as it
// is, under the wall.
func TestNotesAreShown(t *testing.T) {
	d := newDesk(t, 142, 42)
	if err := os.WriteFile(filepath.Join(d.dir, "rules", "more.yaml"),
		[]byte("rules:\n  - { id: calm, message: small steps are better, severity: warn, each: stack, require: stack.tally.edit < 2 }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.press("down", "2")
	more := filepath.Join(d.dir, "rules", "most.yaml")
	if err := os.WriteFile(more, []byte("rules:\n  - { id: most, message: x, require: 'size(' }\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	d.send(part.FileChanged{Path: more})
	d.wants("the rule most cannot be read")
	if err := os.Remove(more); err != nil {
		t.Fatal(err)
	}
	d.send(part.FileChanged{Path: more})
	d.lacks("the rule most")
	d.press("3")
	d.wants("· note", "the stack: small steps are better (rule calm)", "more.yaml:2")
	d.send(tea.WindowSizeMsg{Width: 80, Height: 24})
	d.press("tab")
	d.wants("meanwhile for forecasters, nightly_model", "deploy it when nobody needs it")
}

// TestAWhatIfOfTheSameTextIsCurrent hears late of a file that was saved before the what-if was made, and of one that was
// saved after it.
func TestAWhatIfOfTheSameTextIsCurrent(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "3", "tab")
	d.wants("d deploys it")
	stackFile := filepath.Join(d.dir, "bulletin-test.stack.yaml")
	d.send(part.FileChanged{Path: stackFile})
	d.wants("d deploys it")
	d.edit("bulletin-test.stack.yaml", "readers: 3", "readers: 5")
	d.send(part.FileChanged{Path: stackFile})
	d.wants("the files have changed: r makes it anew")
}

// TestALateAnswerIsNotShown lets an earlier reading, and an earlier what-if, end
// after a later one.
func TestALateAnswerIsNotShown(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2")
	stackFile := filepath.Join(d.dir, "bulletin-test.stack.yaml")
	first := d.views[1].Update(part.FileChanged{Path: stackFile})()
	d.edit("bulletin-test.stack.yaml", "readers: 3", "readers: 5")
	second := d.views[1].Update(part.FileChanged{Path: stackFile})()
	d.send(second)
	d.send(first)
	d.wants("▲ 3 new")
	d.at = 2
	late := d.views[2].Update(part.Opened{})()
	d.edit("bulletin-test.stack.yaml", "readers: 5", "readers: 6")
	d.do(d.views[2].Update(part.Opened{}))
	d.send(late)
	d.wants("▲ 4 new")
}

// TestChosenBricks deploys a chosen brick alone, after it was shown what that would do.
func TestChosenBricks(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "3")
	d.wants("1 new", "2 edit")
	d.pick("reader#2")
	d.press("space")
	d.wants("● reader#2", "1 chosen: i shows what they alone would do")
	d.press("d") // which shows it first
	d.wants("only reader#2; 1 left out", "left out", "readings_db (edit) was not chosen")
	d.press("i")
	d.wants("2 edit", "look through 1 risk")
	d.lacks("left out", "chosen:")
	d.pick("reader#2")
	d.press("space", "i", "d")
	d.wants("Deploy bulletin-test, only reader#2: 1 new, 1 edit in workshop / alder-1?")
	d.press("y")
	d.ended()
	d.wants("■ done after", "partial", "only reader#2")
	d.press("3")
	d.wants("1 edit", "because", "left it out")
}

// TestFilledNodesAreGroups groups what fills a node under that, in the what-if and in the cloud.
func TestFilledNodesAreGroups(t *testing.T) {
	d := newDesk(t, 142, 42)
	for name, text := range map[string]string{
		"post.yaml": `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  AlarmPost: {}
service_template:
  substitution_mappings: { node_type: AlarmPost }
  node_templates:
    horn: { type: Topic }
    calls: { type: Queue, count: 2 }
`,
		"alarms.yaml": `tosca_definitions_version: tosca_2_0
imports: [ post.yaml, { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    diary: { type: Topic }
    north: { type: AlarmPost, directives: [ substitute ] }
    south: { type: AlarmPost, directives: [ substitute ], count: 2 }
`,
		"alarms.stack.yaml": "stack: alarms\ntemplate: alarms.yaml\ntarget: workshop/alder-1\n",
	} {
		if err := os.WriteFile(filepath.Join(d.dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	d.press("o", filepath.Join(d.dir, "alarms.stack.yaml"), "enter", "3", "g", "g", "g")
	d.wants("grouped by the node that they fill", "3 north", "3 south#0", "3 south#1", "1 on its own")
	d.press("d", "y")
	d.ended()
	d.press("5", "/", "alarms", "enter", "g", "g", "g", "g")
	d.wants("north of alarms", "south#1 of alarms", "standing for themselves")
}
