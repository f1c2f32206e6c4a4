package tui

import "testing"

// TestHistoryOnTheScreen reads the ladder, opens a rung as a what-if, compares two, and goes
// back.
func TestHistoryOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "6")
	d.wants("3 runs", "↶ deploy of revision 3: undone after", "deploy of revision 2: done after", "deployed now", "a second reader for the thaw",
		"run 3 of bulletin-test", "failed     readings_db", "what it set out to change", "◧ readings_db  Database  failed")
	d.press("down")
	d.wants("what it changed", "▲ reader#1  Server", "revision   from 1 to 2", "as long as run 1")
	d.press("enter")
	d.wants("a comparison", "compared with revision 1 (this is revision 2)", "reader#1")
	d.press("6", "G", "enter")
	d.wants("compared with nothing (this is revision 1)", "▲ 22 new")
	d.press("6", "m", "home", "enter") // any two
	d.wants("compared with revision 1 (this is revision 3)")
	d.press("6", "esc", "G", "u")
	d.wants("way back", "reader#1", "d go back")
	d.press("6", "a")
	d.wants("7 runs, 4 stacks", "snow-probe  delete: done", "the trial is over")
	d.press("/", "thaw", "enter")
	d.wants("1 run, 4 stacks", "a second reader")
	d.lacks("ridge-base")
	d.press("esc", "/", "probe deploy", "enter")
	d.wants("u shows what standing it up again would do")
	d.press("u")
	d.wants("snow-probe", "▲ 3 new", "d go back")
}

// TestTimeLineOnTheScreen sees what was changed by hand in the ladder of a resource, and what is
// left of it between two moments, and writes how it was into the files.
func TestTimeLineOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "5")
	d.wants("reader_rules")
	d.press("/", "readings bulletin-test queue", "enter", "e", "keep=3 d", "enter")
	d.wants("changed")
	d.press("e", "tags.team=ice", "enter")
	d.wants("tags.team")
	d.press("e", "tags.team=", "enter")
	d.press("i")
	d.wants("4 changes of readings", "≠ readings changed by hand", "● readings made by run 1", "is  not set")
	d.press("m", "G")
	d.wants("● marked", "what changed between", "was 4 d", "is  3 d")
	d.lacks("was ice")
	d.press("esc", "esc")
	d.wants("28 changes")
	d.press("/", "readings keep", "enter")
	d.wants("1 change", "w write how it was before")
	d.press("w")
	d.wants("the files say that already")
	d.press("t")
	d.wants("3 runs", "deploy of revision 2")
	d.press("t", "a", "/", "removed", "enter")
	d.wants("3 changes", "probe_net removed by run 2", "Network of snow-probe")
	d.press("enter")
	d.wants("is not there any more")
}
