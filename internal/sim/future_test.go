package sim

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"
	"testing/synctest"
)

// future is what happens in a world: all of it follows from this.
type future struct {
	Seed  uint64
	Found string   // what did not hold when it was lived through first; "" is nothing
	Begin [][]sown // the nodes with which each stack begins
	Acts  []act
}

// sown is what a node grows from.
type sown struct{ A, B uint64 }

// draw draws a future from a seed.
func draw(seed uint64, n int) future {
	f, rnd := future{Seed: seed}, rand.New(rand.NewPCG(seed, 1))
	for range 2 {
		var begin []sown
		for range 2 + rnd.IntN(6) {
			begin = append(begin, sown{rnd.Uint64N(1 << 20), rnd.Uint64N(1 << 20)})
		}
		f.Begin = append(f.Begin, begin)
	}
	f.Acts = acts(rnd, n)
	return f
}

// write writes a future as a file: a line for what begins, and one for each act.
func (f future) write() []byte {
	var b bytes.Buffer
	to := json.NewEncoder(&b)
	to.SetEscapeHTML(false)
	head := f
	head.Acts = nil
	err := to.Encode(head)
	for _, x := range f.Acts {
		err = errors.Join(err, to.Encode(x))
	}
	if err != nil {
		panic(err)
	}
	return b.Bytes()
}

// readFuture reads what was written.
func readFuture(b []byte) (f future, err error) {
	lines := bufio.NewScanner(bytes.NewReader(b))
	for n := 0; lines.Scan(); n++ {
		if n == 0 {
			err = json.Unmarshal(lines.Bytes(), &f)
			continue
		}
		var x act
		err = errors.Join(err, json.Unmarshal(lines.Bytes(), &x))
		f.Acts = append(f.Acts, x)
	}
	return f, errors.Join(err, lines.Err())
}

// outcome is what became of a future.
type outcome struct {
	story, wrong []string
	met          map[string]int
}

// live lives through a future.
func (f future) live(t *testing.T, dir, begin string) (o outcome) {
	dir = filepath.Join(dir, fmt.Sprint(f.Seed))
	if err := errors.Join(os.CopyFS(dir, os.DirFS(begin)), os.Chmod(filepath.Join(dir, "home"), 0o700)); err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	files, err := filepath.Glob(filepath.Join(dir, "home", "*"))
	for _, file := range files {
		err = errors.Join(err, os.Chmod(file, 0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
	synctest.Test(t, func(t *testing.T) {
		w, err := newWorld(dir, f.Seed)
		if err != nil {
			t.Fatal(err)
		}
		for i, begin := range f.Begin {
			m := newModel(f.Seed, i, begin)
			w.models = append(w.models, m)
			w.write(m)
		}
		for _, x := range f.Acts {
			w.do(x)
		}
		w.conclude()
		w.close()
		o = outcome{w.story, w.wrong, w.met}
	})
	return o
}

var particular = regexp.MustCompile(`\d+|"[^"]*"|\{.*\}`)

// shape is what does not hold, without what is particular to one future.
func shape(wrong string) string { return particular.ReplaceAllString(wrong, "#") }

// small makes a future small in which something does not hold: as few acts and nodes as it takes, and no longer waiting than
// it takes, so that the same does not hold.
func (f future) small(lives func(future) outcome, o outcome) (future, outcome) {
	f.Found = o.wrong[0]
	same := func(o outcome) bool {
		return slices.ContainsFunc(o.wrong, func(w string) bool { return shape(w) == shape(f.Found) })
	}
	try := func(with future) bool {
		if got := lives(with); same(got) {
			f, o = with, got
			return true
		}
		return false
	}
	for before := -1; before != len(f.Acts); {
		before = len(f.Acts)
		for n := max(1, len(f.Acts)/2); n >= 1; n /= 2 { // halves, quarters … single acts, the last first
			for at := len(f.Acts) - n; at >= 0; at -= n {
				with := f
				with.Acts = slices.Delete(slices.Clone(f.Acts), at, at+n)
				if try(with); at > len(f.Acts) {
					at = len(f.Acts)
				}
			}
		}
		for i := range f.Begin {
			for at := len(f.Begin[i]) - 1; at >= 0; at-- {
				with := f
				with.Begin = slices.Clone(f.Begin)
				with.Begin[i] = slices.Delete(slices.Clone(f.Begin[i]), at, at+1)
				try(with)
			}
		}
	}
	for i := range f.Acts {
		if with := f; f.Acts[i].Then != 0 {
			with.Acts = slices.Clone(f.Acts)
			with.Acts[i].Then = 0
			try(with)
		}
	}
	f.Found = o.wrong[0]
	return f, o
}
