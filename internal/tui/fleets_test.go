package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/fleet"
	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/yard"
)

// signs writes a small stack for the six places of the stand-in, and its fleet file, with more places and lines.
func (d *desk) signs(places, lines string) {
	d.t.Helper()
	for name, text := range map[string]string{
		"signs.yaml": "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { site: { type: string } }\n" +
			"  node_templates:\n    sign: { type: Topic, properties: { label: { $get_input: site } } }\n    post: { type: Queue, properties: { keep: 2 d } }\n",
		"signs.stack.yaml": "template: signs.yaml\nstack: signs\n",
		"signs.fleet.yaml": "fleet: signs\nstack: signs.stack.yaml\nplaces:\n  - { target: '*/*', inputs: { site: { filled_by: region } } }\n" + places + "waves: [ 1, rest ]\n" + lines,
	} {
		if err := os.WriteFile(filepath.Join(d.dir, name), []byte(text), 0o600); err != nil {
			d.t.Fatal(err)
		}
	}
}

// rollOut deploys it; so many places fail.
func (d *desk) rollOut(failing int, lines string) {
	d.t.Helper()
	d.signs("", lines)
	if failing > 0 {
		if _, err := d.app.Door.AddFault(d.t.Context(), yard.Fault{Name: "post", Times: failing, Reason: "no room"}); err != nil {
			d.t.Fatal(err)
		}
	}
	p, err := d.app.FleetWhatIf(d.t.Context(), filepath.Join(d.dir, "signs.fleet.yaml"), run.KindDeploy, app.Values{}, nil)
	if err != nil {
		d.t.Fatal(err)
	}
	r, err := d.app.StartFleet(d.t.Context(), p, "", nil)
	if err != nil {
		d.t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := d.app.CarryFleet(d.t.Context(), r.ID, r.Token, nil)
		ended <- err
	}()
	if strings.Contains(lines, "ask") || strings.Contains(lines, "careful") {
		d.t.Cleanup(func() { <-ended })
		return
	}
	if err := <-ended; err != nil {
		d.t.Fatal(err)
	}
}

// TestFleetView shows a fleet of which two places have failed: where, why, wave by wave, at every size; and goes to the
// run of one.
func TestFleetView(t *testing.T) {
	d := newDesk(t, 142, 41)
	d.press("7")
	d.wants("signs was not deployed yet", "fleets/signs.fleet.yaml")
	if err := os.RemoveAll(filepath.Join(d.dir, "fleets")); err != nil {
		t.Fatal(err)
	}
	d.press("1", "7")
	d.wants("No fleet was deployed yet", "brickrow fleet deploy --help")
	d.rollOut(2, "tolerate: 2\n")
	d.send(part.StoreChanged{})
	d.wants("4 of 6 places done", "2 failed of 2 tolerated", "signs  fleet · rollout 1 · partial", "alder-1", "summit", "workshop", "r retry what failed")
	d.press("tab")
	d.wants("failed · wave", "no room", "its own values", "site ", "undone")
	d.press("w")
	d.wants("wave 1", "wave 2", "of 5")
	d.press("right", "down", "left", "up", "end", "home", "w", "/")
	d.press("failed", "enter")
	seen := d.screen()
	if strings.Count(seen, "▪") == 0 || strings.Contains(seen, "■ ▪▪") {
		t.Errorf("the filter shows what has not failed:\n%s", seen)
	}
	d.press("esc")
	for _, size := range [][2]int{{80, 24}, {200, 60}, {60, 20}} {
		d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		d.wants("4 of 6 places done")
	}
	d.send(tea.WindowSizeMsg{Width: 142, Height: 41})
	d.press("enter")
	d.wants("signs@", "run 1")
	d.press("esc") // to where one came from
	d.wants("4 of 6 places done", "enter its run")
	d.press("1")
	d.wants("in fleets: 7 shows them")
	if strings.Contains(d.screen(), " signs ") {
		t.Errorf("the stack file of a fleet is listed as a stack:\n%s", d.screen())
	}
	d.press("/", "signs@")
	d.wants("signs@summit.alder-1")
}

// until waits for the store until a rollout of signs is so.
func (d *desk) until(number int, want fleet.State) {
	d.t.Helper()
	for range 400 {
		if r, _, _, err := d.app.LastRollout(d.t.Context(), "signs"); err == nil && r.Number == number && r.State == want {
			d.send(part.StoreChanged{})
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	r, _, _, _ := d.app.LastRollout(d.t.Context(), "signs")
	d.t.Fatalf("%+v is not %s:\n%s", r, want, d.screen())
}

// TestFleetFromItsFile takes a fleet from its file through the view: what a deployment would do, wrong ones too; deployed by a
// process of its own; changed in one place; handed to workers; deleted.
func TestFleetFromItsFile(t *testing.T) {
	d := newDesk(t, 142, 41)
	d.signs("", "]\n")
	d.press("7")
	d.wants("signs was not deployed yet", "signs.fleet.yaml", "d looks what a deployment would do")
	d.press("d")
	d.wants("It cannot be said what would happen", "not YAML", "r looks again")
	d.signs("", "tolerate: twelve\n")
	d.press("r")
	d.wants("It cannot be said what would happen", "tolerate")
	d.signs("", "except: [ summit/* ]\n")
	d.press("r")
	d.wants("3 places", "6 new", "the same in all", "its own values", "site ", "▲ new sign", "nothing is changed yet: d deploys it")
	d.press("esc")
	d.wants("signs was not deployed yet")
	d.signs("  - { target: summit/alder-1, inputs: { seat: top } }\n", "")
	d.press("d")
	d.wants("nothing can be done in 1", "nothing can begin while something is wrong")
	d.lacks("d deploy")
	for range 6 {
		if d.press("tab"); strings.Contains(d.screen(), "the template has no input 'seat'") {
			break
		}
	}
	d.wants("the template has no input 'seat'", "signs.fleet.yaml, line 5", "give it under inputs of the place, or in", "like no other place")
	d.press("esc")

	d.signs("", "")
	d.press("d")
	d.wants("6 places", "12 new", "wave 1")
	d.press("w")
	d.wants("1 place ", "wave 2", "5 places")
	d.press("w", "d")
	d.wants("Deploy signs in 6 places: 12 new?")
	d.press("n")
	d.wants("what a deployment would do")
	d.press("d", "y")
	d.until(1, fleet.Ready)
	d.wants("6 of 6 places done", "signs  fleet · rollout 1 · ready")
	d.press("d")
	d.wants("6 places", "no changes", "there is nothing to do", "2 stay as they are")
	d.press("esc")

	d.signs("  - { target: summit/alder-1, inputs: { site: top }, careful: true }\n", "")
	d.press("d")
	d.wants("1 edit", "the same in 5, something else in 1", "◧ edit sign", "label alder-1 → top", "careful: it asks")
	d.send(tea.WindowSizeMsg{Width: 80, Height: 17})
	d.wants("lines more: pgdn")
	d.press("pgdown", "pgdown")
	d.wants("1 stays as it is")
	d.press("pgup", "pgup")
	d.wants("summit / alder-1")
	d.send(tea.WindowSizeMsg{Width: 142, Height: 41})
	d.press("D")
	d.wants("Type signs", "It waits in the queue runs until workers take it")
	d.press("signs", "enter")
	d.until(2, fleet.Deploying)
	d.wants("rollout 2 of signs begins", "signs  fleet · rollout 2 · deploying")
	d.lacks("what a deployment would do")
	d.press("x")
	d.press("y")
	d.until(2, fleet.Cancelled)
	d.wants("5 of 6 places done", "1 waiting")

	d.press("x")
	d.wants("what a deletion would do", "12 drop", "nothing is deleted yet: d deletes it")
	d.press("d")
	d.wants("Delete signs in 6 places")
	d.press("signs", "enter")
	d.until(3, fleet.Removed)
	d.wants("6 of 6 places done", "signs  fleet · rollout 3 · removed")
	d.lacks("what a deletion would do")
}

// TestFleetIsSteered agrees to a wave and to a careful place from the view.
func TestFleetIsSteered(t *testing.T) {
	d := newDesk(t, 142, 41)
	d.rollOut(0, "pause_between: ask\n")
	d.press("7")
	d.until(1, fleet.Between)
	d.wants("wave 1 is over: p lets the next one begin", "p next wave")
	d.press("p")
	d.until(1, fleet.Ready)
	d.wants("6 of 6 places done", "0 failed")
}
