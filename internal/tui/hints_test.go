package tui

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/tui/part"
)

// places are where one can be, by the keys that lead there from anywhere.
var places = map[string]string{
	"stacks": "1", "stacks, filter": "1 /", "stacks, filtered": "1 / live enter", "begin": "1 n", "begin, naming": "1 n enter",
	"stacks, empty one": "1 end", "draft": "2", "draft, inputs": "2 i", "draft, a value": "2 i enter", "draft, help": "2 tab",
	"draft, wall": "2 tab tab", "draft, writing": "2 e", "draft, finding": "2 /", "what-if": "3", "what-if, details": "3 n enter",
	"what-if, filter": "3 /", "what-if, risks": "3 tab", "what-if, grouped": "3 g", "deletion": "1 x", "going back": "1 u",
	"run": "4", "run, events": "4 e", "run, filter": "4 /", "run, why": "4 w", "run, scripts": "4 s", "run, columns": "4 e o",
	"cloud": "5", "cloud, filter": "5 /", "cloud, table": "5 t", "cloud, walk": "5 enter", "cloud, patch": "5 w",
	"cloud, nobody's": "5 end", "history": "6", "history, filter": "6 /", "history, last": "6 end", "history, all": "6 a",
	"time line": "6 t", "fleet": "7", "fleet, what-if": "7 d",
}

// go to one of the places, from wherever one is.
func (d *desk) go2(keys string) {
	d.t.Helper()
	d.poured = flood{}
	leave := func() {
		for range 4 {
			d.press("esc")
		}
	}
	leave()
	if d.model.palette != nil || d.ask != nil || d.typing() {
		d.t.Fatalf("esc does not lead out of this:\n%s", d.screen())
	}
	d.press("1", "home", "down", keys[:1])
	leave() // what was read there before
	d.press("1")
	if strings.HasPrefix(keys, "6") { // it stays as it was turned
		d.press("6")
		for turn, words := range map[string]string{"t": "change", "a": "stacks"} {
			if strings.Contains(d.views[d.at].Status(), words) {
				d.press(turn)
			}
		}
		keys = keys[1:]
	}
	for _, k := range strings.Fields(keys) {
		d.press(k)
		d.screen() // what is drawn says what can be walked along
	}
	d.poured = flood{}
}

// keysIn are keys as they are pressed, of how they are shown.
func keysIn(shown string) []string {
	names := map[string]string{"↑": "up", "↓": "down", "←": "left", "→": "right", "pgdn": "pgdown", "shift+↑": "K", ":": ""}
	var out []string
	for _, k := range strings.Fields(shown) {
		if name, ok := names[k]; ok {
			k = name
		}
		if k != "" && k != "or" && k != "to" {
			out = append(out, k)
		}
	}
	return out
}

// apart are keys that leave the program or open another one, and those of the editor that answer a question about what
// is at the cursor.
var apart = []string{"q", "E", "ctrl+c", "ctrl+space", "ctrl+o", "alt+↑", "alt+.", "alt+j", "alt+n", "alt+k", "alt+m"}

// nothing is how it is said that there was nothing to do.
var nothing = regexp.MustCompile(`\b(nothing|no|already)\b`)

// body is the screen without what was said last.
func (d *desk) body() string {
	lines := strings.Split(d.screen(), "\n")
	return strings.Join(lines[:len(lines)-1], "\n")
}

// No key is shown that does nothing where it is shown, neither among the keys nor in the hint.
func TestKeysThatAreShownDoSomething(t *testing.T) {
	for view := '1'; view <= '7'; view++ {
		t.Run(string(view), func(t *testing.T) {
			t.Parallel() // most of the time is waiting for the store
			d := newDesk(t, 110, 30)
			for _, place := range slices.Sorted(maps.Keys(places)) {
				if way := places[place]; rune(way[0]) == view {
					d.tryKeys(place, way)
				}
			}
		})
	}
}

// tryKeys tries each key that the last line shows at a place.
func (d *desk) tryKeys(place, way string) {
	d.t.Helper()
	hinted := regexp.MustCompile(`(?:^|[ (:,;])(tab|enter|esc|space|backspace|ctrl\+[a-z]|[1-7]|[A-Za-z]) (?:[a-z]+s)\b`)
	d.go2(way)
	bindings, hint := d.helpOf(d.views[d.at]), d.views[d.at].Hint()
	known := func(key string) bool {
		all := append(d.views[d.at].Bindings(), d.bindings()...)
		return slices.ContainsFunc(all, func(b part.Binding) bool {
			return slices.Contains(b.Keys(), key) || slices.Contains(keysIn(b.Help().Key), key)
		})
	}
	for _, m := range hinted.FindAllStringSubmatch(hint, -1) {
		if !known(m[1]) {
			d.t.Errorf("%s: the hint %q names %s, which does nothing", place, hint, m[1])
		}
	}
	for _, b := range bindings[:min(6, len(bindings))] { // as many as the last line has
		keys := keysIn(b.Help().Key)
		if slices.Contains(apart, keys[0]) {
			continue
		}
		does := false
		for _, k := range keys {
			d.go2(way)
			before, heard := d.body(), d.heard
			d.press(k)
			said := d.notice != "" && !d.bad && !nothing.MatchString(d.notice)
			if d.body() != before || d.heard > heard || d.ask != nil || said {
				does = true
				break
			}
		}
		if !does {
			d.t.Errorf("%s: %s (%s) is shown and does nothing: %s\n%s", place, b.Help().Key, b.Help().Desc, d.notice, d.screen())
		}
	}
}
