package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var day = time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)

// changes is a change set of n resources, of every kind in turn.
func changes(n int) Changes {
	set := &whatif.ChangeSet{Stack: "ridge", Target: stack.Target{Account: "summit", Region: "alder-1"},
		BaseRevision: 3, Estimate: whatif.Estimate{Seconds: 110,
			Chain: []whatif.Link{{Resource: "hut_0", Kind: whatif.New, Seconds: 10},
				{Resource: "hut_1", Kind: whatif.Edit, Seconds: 100, Runs: 3}}},
		Risks: []whatif.Risk{{Kind: whatif.RiskOpen, Resource: "hut_1",
			Text: "hut_1 lets everyone (0.0.0.0/0) reach port 22", Fix: "narrow the peer",
			Pos: tosca.Pos{File: "ridge.yaml", Line: 7}}},
		Standing: []whatif.Risk{{Kind: whatif.RiskOpen, Text: "port 80 stands open"}}}
	set.Findings.Warnf(tosca.Pos{File: "ridge.yaml", Line: 9}, "rule", "ask the keeper",
		"hut_2: that is much (rule calm)")
	for i := range n {
		ch := whatif.Change{Name: fmt.Sprintf("hut_%d", i), Type: "Server", Kind: allKinds[i%len(allKinds)],
			Pos:     tosca.Pos{File: "ridge.yaml", Line: 10 + i},
			Because: []string{fmt.Sprintf("input size is large, was small; ◧ hut_%d changes", i)},
			Then:    []string{"hut_9"}}
		if i > 3 {
			ch.Needs = []string{fmt.Sprintf("hut_%d", i/4)}
		}
		ch.Properties = []stack.PropertyChange{
			{Path: "size", Before: tosca.String("small"), After: tosca.String("large"), Effect: stack.Swap},
			{Path: "token", Before: tosca.Secret{Value: tosca.String("hoarfrost-1")},
				After: tosca.Secret{Value: tosca.String("hoarfrost-2")}},
			{Path: "script", After: tosca.String(strings.Repeat("a very long line ", 40) + strings.Repeat("x",
				400) + "\x1b[31m")},
		}
		set.Changes = append(set.Changes, ch)
		switch ch.Kind {
		case whatif.New:
			set.Tally.New++
		case whatif.Edit:
			set.Tally.Edit++
		case whatif.Same:
			set.Tally.Same++
		}
	}
	return Changes{ChangeSet: set, Careful: true, Kind: "deploy", Made: day}
}

func pictures(n int) map[string]Picture {
	s := Stack{Name: "ridge", Target: stack.Target{Account: "summit", Region: "alder-1"}, About: "revision 3, ready",
		Purpose: "The bulletin", Made: day}
	t := Times{Stack: "ridge", About: "deploy, run 3: done", Length: 95 * time.Second, Made: day}
	for i, ch := range changes(n).ChangeSet.Changes {
		s.Resources = append(s.Resources, Resource{ch.Name, ch.Type, ch.Needs, ch.Pos.Short()})
		t.Bars = append(t.Bars, Bar{Name: ch.Name, Type: ch.Type, State: "ready",
			From: time.Duration(i) * time.Second / 20, To: time.Duration(i+30) * time.Second / 20, Bad: i == 3,
			Critical: i%5 == 0})
	}
	return map[string]Picture{"changes": changes(n), "wall": s, "times": t}
}

// TestNothingLiesOutside looks at every shape of every picture, small and
// large, on pages and on one: nothing lies outside the page, no text is too
// small to read on paper, and no brick covers another.
func TestNothingLiesOutside(t *testing.T) {
	for _, n := range []int{0, 1, 5, 60, 1000} {
		for name, p := range pictures(n) {
			for _, paged := range []bool{true, false} {
				f := layOut(p, paged)
				for i, pg := range f.pages {
					where := fmt.Sprintf("%s of %d, page %d of %d", name, n, i+1, len(f.pages))
					for _, sh := range pg.shapes {
						pts := sh.points
						if sh.text != "" {
							w := f.width(sh.face, sh.size, sh.text)
							from := sh.at[0]
							if sh.toRight {
								from -= w
							}
							pts = [][2]float64{{from, sh.at[1] - sh.size}, {from + w, sh.at[1]}}
							if sh.size < 6 {
								t.Fatalf("%s: the text %q has %g points", where, sh.text, sh.size)
							}
						}
						for _, pt := range pts {
							if pt[0] < left-1 || pt[0] > right+40 || pt[1] < 0 || pt[1] > pg.height-margin/2 {
								t.Fatalf("%s: %q %v lies outside", where, sh.text, pts)
							}
						}
					}
				}
			}
		}
	}
}

// TestBricksKeepApart wants no brick over another.
func TestBricksKeepApart(t *testing.T) {
	for _, n := range []int{5, 22, 60, 300} {
		f := &flow{}
		f.newPage()
		g := stack.Graph{}
		for _, ch := range changes(n).ChangeSet.Changes {
			g[ch.Name] = ch.Needs
		}
		f.wall(g, 400, wanted{}, func(name string) brick { return brick{name: name, sub: "Server"} })
		var boxes [][][2]float64
		for _, sh := range f.pages[0].shapes {
			if sh.text == "" && len(sh.points) == 4 && sh.fill != nil {
				boxes = append(boxes, sh.points)
			}
		}
		if len(boxes) != n {
			t.Errorf("%d bricks for %d resources", len(boxes), n)
		}
		for i, a := range boxes {
			for _, b := range boxes[:i] {
				if a[0][0] < b[2][0] && b[0][0] < a[2][0] && a[0][1] < b[2][1] && b[0][1] < a[2][1] {
					t.Fatalf("with %d, %v covers %v", n, a, b)
				}
			}
		}
	}
}

// texts lists the texts of an SVG, which also shows that it is well formed.
func texts(t *testing.T, b []byte) []string {
	t.Helper()
	d := xml.NewDecoder(bytes.NewReader(b))
	var out []string
	for {
		tok, err := d.Token()
		if err == io.EOF {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		if c, ok := tok.(xml.CharData); ok {
			out = append(out, string(c))
		}
	}
}

// TestAReviewerSeesItAll wants in the picture what a reviewer needs to decide,
// and no secret.
func TestAReviewerSeesItAll(t *testing.T) {
	c := changes(9)
	var b bytes.Buffer
	if err := Write(&b, "review.svg", c); err != nil {
		t.Fatal(err)
	}
	all := strings.Join(texts(t, b.Bytes()), "\n")
	wants := []string{"ridge", "summit / alder-1", "careful", "revision 3", "2026-11-23 09:30 UTC",
		"about 1 min 50 s", "hut_0 10 s › hut_1 1 min 40 s", "1 of 2 by past runs", "2 new", "is changed in place",
		"! open", "reach port 22", "(ridge.yaml:7)",
		"narrow the peer", "it was so before", "(rule calm)", "forces the swap", "small → large", "(secret, changed)",
		"because input size is large", "then 1 more: hut_9", "The same", "edit hut_1 changes"}
	for _, ch := range c.ChangeSet.Changes {
		wants = append(wants, ch.Name)
	}
	for _, w := range wants {
		if !strings.Contains(all, w) {
			t.Errorf("there is no %q", w)
		}
	}
	for _, not := range []string{"hoarfrost", "\x1b", "◧"} {
		if strings.Contains(all, not) {
			t.Errorf("it shows %q", not)
		}
	}
}

// TestPDF wants pages, and the same bytes for the same picture.
func TestPDF(t *testing.T) {
	var a, b bytes.Buffer
	for _, w := range []*bytes.Buffer{&a, &b} {
		if err := Write(w, "REVIEW.PDF", changes(60)); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(a.Bytes(), b.Bytes()) {
		t.Error("the same picture gives other bytes")
	}
	pages := len(regexp.MustCompile(`/Type /Page\b`).FindAll(a.Bytes(), -1))
	if want := len(layOut(changes(60), true).pages); !bytes.HasPrefix(a.Bytes(), []byte("%PDF-1")) || pages != want ||
		pages < 5 {
		t.Errorf("%d pages, want %d", pages, want)
	}
	if err := Write(&a, "review.png", changes(1)); err == nil {
		t.Error("it takes any name")
	}
}

// TestAnyLetters wants text in any script to go through: whole in an SVG, with
// what the font lacks made visible in a PDF.
func TestAnyLetters(t *testing.T) {
	odd := "雪 🏔 ]]> <b>&amp; \x1b[31m \u202e \x00 \xff é Ω Ж"
	c := changes(3)
	c.Stack = odd
	c.ChangeSet.Changes[0].Because = []string{odd}
	for _, p := range []Picture{c, Stack{Name: odd, Purpose: odd, Made: day}} {
		var svg, pdf bytes.Buffer
		if err := Write(&svg, "a.svg", p); err != nil {
			t.Fatal(err)
		}
		all := strings.Join(texts(t, svg.Bytes()), "\n")
		if !strings.Contains(all, "雪 🏔 ]]> <b>&amp; ·[31m · · ") || !strings.Contains(all, "é Ω Ж") {
			t.Errorf("the SVG shows %q", all)
		}
		if err := Write(&pdf, "a.pdf", p); err != nil {
			t.Fatal(err)
		}
	}
	if got := inFont(regular, "雪 é 🏔 x → ▲"); got != "□ é □ x → ▲" {
		t.Errorf("the PDF shows %q", got)
	}
}

// TestTheWriterFails wants the errors of a writer.
func TestTheWriterFails(t *testing.T) {
	for _, name := range []string{"a.svg", "a.pdf"} {
		if err := Write(broken{}, name, changes(3)); err == nil {
			t.Errorf("%s: the disk is full, and nobody says so", name)
		}
	}
}

type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, io.ErrShortWrite }

func TestWrap(t *testing.T) {
	f := &flow{paged: true}
	for _, s := range []string{"", "a", "one two three four five six seven eight nine", strings.Repeat("w", 300),
		"a " + strings.Repeat("ä", 90) + " b"} {
		lines := f.wrap(regular, 8, 60, s)
		if got := strings.ReplaceAll(strings.Join(lines, ""), " ", ""); got != strings.ReplaceAll(s, " ", "") {
			t.Errorf("%q became %q", s, got)
		}
		for _, l := range lines {
			if textWidth(regular, 8, l) > 60 {
				t.Errorf("%q is too wide", l)
			}
		}
	}
}
