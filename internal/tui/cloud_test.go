package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheCloudOnTheScreen looks at what is there, walks along what uses what, changes something
// by hand, and puts it back or writes it into the template.
func TestTheCloudOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("5")
	d.wants("55 there", "50 in 3 stacks", "5 nobody's", "≠ 1 not as recorded", "bulletin-live", "nobody's", "old-snow-photos",
		"≠ reader_rules  Rules", "wanted", "recorded", "really there", "10.8.0.0/16", "w write it into the files")
	d.press("1", "down")
	d.wants("≠ 1 ", "≠ 1 resource not as recorded: 5 shows it")
	d.press("5", "enter", "enter") // along to what it uses
	d.wants("▪ valley_net  Network", "used by", "backspace comes back")
	d.press("backspace")
	d.wants("≠ reader_rules  Rules")

	d.press("t")
	d.wants("rules~", "just now")
	d.press("t", "g")
	d.wants("grouped by type", "ServerGroup  2")
	d.press("g")
	d.wants("grouped by state", "ready  55")
	d.press("g")
	d.wants("grouped by tag", "for=hut-trial", "no tag")
	d.press("g", "/", "nobody's bucket", "enter")
	d.wants("! old-snow-photos  Bucket", "private-buckets: nobody may read a bucket")
	d.lacks("bulletin-live", "p put back")
	d.press("/")
	d.press("nothing-like-that", "enter")
	d.wants("Nothing that is there has these words", "esc shows all")
	d.press("esc", "c")
	d.wants("only what is not as it should be", "≠ reader_rules", "! old-snow-photos")
	d.lacks("hut_pager")
	d.press("esc")

	d.press("/", "bulletin-test forecasters", "enter", "o")
	d.wants("What should be done to forecasters? restart, scale want=…, suspend, resume")
	d.press("scale", "enter")
	d.wants("scale needs want")
	d.press("o", "scale want=2", "enter")
	d.wants("Scale forecasters want=2 in workshop / alder-1? Let it have more, or fewer.")
	d.press("n", "esc")
	d.press("/", "bulletin-test frames", "enter", "e", "keep_days=nonsense", "enter")
	d.wants("change frames")
	d.press("e", "keep_days=12", "enter")
	d.wants("≠ 2 not as recorded", "keep_days", "past all stacks")
	d.press("w")
	d.wants("This lets the files say what is there", "keep_days: 12", "enter writes it into the files")
	d.press("esc")
	d.wants("keep_days")
	d.press("w", "enter")
	d.wants("written:", "≠ 1 not as recorded")
	if text, err := os.ReadFile(filepath.Join(d.dir, "bulletin.yaml")); err != nil || !strings.Contains(string(text), "keep_days: 12") {
		t.Errorf("it is not in the template: %v", err)
	}
	d.press("esc", "n")
	d.wants("≠ reader_rules  Rules")
	d.press("p")
	d.wants("only reader_rules", "frames (edit) was not chosen", "d put back") // frames is as the file says by now, and stays
	d.press("5", "/", "bulletin-test nightly schedule", "enter", "x", "y")
	d.wants("□ nightly  Schedule", "not there any more; by whom is not")
	d.press("esc", "/", "bulletin-test hut_alerts topic", "enter", "f")
	d.wants("bulletin.yaml:", "hut_alerts cannot be released")
	d.press("5", "esc", "/", "bulletin-test oncall vault", "enter", "f")
	d.wants("oncall")
	d.press("5", "esc", "/", "nobody's queue", "enter")
	d.wants("a lets a node stand for it")
	d.press("a", "readings", "enter")
	d.wants("adopt: readings is ")
	d.press("5", "w")
	d.wants("Write a template of what is nobody's in workshop/alder-1")
	d.press("enter")
	d.wants("2 Draft", "captured.yaml", "old_snow_photos:", "cidr: 10.93.1.0/24")
	d.press("3")
	d.wants("◈ 5 adopt", "captured")
}

// What is chosen stays chosen, wherever one looks: the head line has its stack until another one is chosen, or acted on.
func TestWhatIsChosenStaysChosen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down")
	chosen := func(name string) {
		t.Helper()
		if head, _, _ := strings.Cut(d.screen(), "\n"); !strings.Contains(head, name) || d.about.Name != name {
			t.Fatalf("%s is not what is chosen:\n%s", name, d.screen())
		}
	}
	chosen("bulletin-test")
	for _, keys := range []string{"5", "n", "up", "home", "end", "g", "g", "t", "down", "G", "6", "a", "G", "up", "home", "t", "down", "t", "7", "w", "1"} {
		d.press(keys)
		chosen("bulletin-test")
	}
	d.press("5", "/", "bulletin-live frames", "enter")
	d.wants("s choose bulletin-live", "f let it leave bulletin-live")
	chosen("bulletin-test")
	d.press("i")
	chosen("bulletin-test")
	d.press("5", "s")
	chosen("bulletin-live")
	d.lacks("s choose")
	d.press("1")
	d.wants("▌ █▆▄▃▂    bulletin-live")
	d.press("6", "t", "end") // everybody.s runs
	d.wants("snow-probe")
	d.press("/", "snow-probe deploy", "enter", "u") // acted on by name
	chosen("snow-probe")
	d.press("esc")
	d.wants("go back to revision 1 of snow-probe")
	d.press("1")
	chosen("snow-probe")
	d.wants("snow-probe", "□ removed")
	d.press("up")
	d.lacks("snow-probe")
}
