package cli

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/tui/part"
)

// Colours are put over what is said; they say nothing themselves.
func TestTextHasItsColours(t *testing.T) {
	text := strings.Join([]string{"bulletin-test in workshop/alder-1: 1 new, 2 edit, 0 swap, 21 same; about 24 s",
		"◧ edit  readings_db  (Database, bulletin.yaml:110)", "    because  input db_size is medium", "! interruption readings_db restarts",
		"15:04:05  reader#2           ready     after 1.0 s", "15:04:06  readings_db        failed    there is no room",
		"run 3: failed: no room", "a ready-made line of no kind", "Deploy? [y or n] "}, "\n")
	for l, theme := range map[string]*part.Theme{"dark": part.Look{Depth: colorprofile.TrueColor}.Theme(),
		"light": part.Look{Depth: colorprofile.ANSI256, Light: true}.Theme(), "unsure": part.Unsure()} {
		var out bytes.Buffer
		w := &painter{to: &out, theme: theme}
		for _, piece := range strings.SplitAfter(text, "e") { // as it may come
			if _, err := w.Write([]byte(piece)); err != nil {
				t.Fatal(err)
			}
		}
		if ansi.Strip(out.String()) != text {
			t.Errorf("%v: the words are other ones:\n%q", l, ansi.Strip(out.String()))
		}
		out.Reset()
		w.Write([]byte(text))
		lines := strings.Split(out.String(), "\n")
		for i, line := range lines {
			if painted := strings.Contains(line, "\x1b["); painted != (i < 7) && (l != "unsure" || i != 2) {
				t.Errorf("%v: line %d is painted: %v: %q", l, i+1, painted, line)
			}
		}
	}
}

func TestWallOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "whatif", s.file("bulletin-test.stack.yaml"), "--wall")
	s.wants(out, "│  ▲ reader#2", "│  ◧ readings_db", "▔▔▔▔", "1 new, 2 edit")
	wall, rest, _ := strings.Cut(out, "▔\n")
	plain, _ := s.run(0, "whatif", s.file("bulletin-test.stack.yaml"))
	if strings.Contains(out, "\x1b") || !strings.HasSuffix(strings.TrimLeft(rest, "\n"), plain) || strings.Contains(wall, "edit ") {
		t.Errorf("with the wall there is\n%s\nwithout\n%s", out, plain)
	}
	out, _ = s.run(0, "show", "ridge-base", "--wall")
	s.wants(out, "│  ■ ridge_net", "Network")
	out, _ = s.run(4, "watch", "bulletin-test", "--wall")
	s.wants(out, "│  ✖ readings_db", "failed, undone", "│  ▪ oncall", "run 3: undone")
	if strings.Count(out, "oncall") != 1 {
		t.Errorf("it is drawn more than once where it is no terminal:\n%s", out)
	}
	s.run(2, "whatif", s.file("bulletin-test.stack.yaml"), "--wall", "--json")
}

// A mistyped word is told with what was meant, and ends with 2; a file alone is opened.
func TestWhatWasMeant(t *testing.T) {
	s := newShell(t)
	for line, want := range map[string]string{
		"depoly x": "did you mean 'deploy'?", "fleet depoy": "did you mean 'deploy'?", "whatif --jsn x": "did you mean '--json'?",
		"nonsense": "'brickrow --help' lists them", "no/such.yaml": "no/such.yaml cannot be opened: no such file", "deploy": "brickrow deploy STACKFILE",
		"whatif --zzzzzzzzzz x": "'brickrow whatif --help' lists them",
	} {
		_, errs := s.run(2, strings.Fields(line)...)
		s.wants(errs, want)
	}
	_, errs := s.run(2, s.file("bulletin-test.stack.yaml")) // there is no terminal here
	s.wants(errs, "the interface needs a terminal")
	out, _ := s.run(0, "version")
	s.wants(out, "Brick Row ", "built with go")
	out, _ = s.run(0, "deploy", s.file("bulletin-test.stack.yaml"), "--yes", "--quiet")
	s.wants(out, "run 4: done after", "bulletin")
	if strings.Contains(out, "asking the cloud") {
		t.Errorf("quietly it says what happens on the way:\n%s", out)
	}
}

// Commands stand in groups, in the order of the work.
func TestCommandsStandInGroups(t *testing.T) {
	p := &Program{}
	for _, cmd := range p.root().Commands() {
		if cmd.GroupID == "" && !cmd.Hidden {
			t.Errorf("%s is in no group", cmd.Name())
		}
	}
	s := newShell(t)
	out, _ := s.run(0, "--help")
	at := 0
	for _, words := range []string{"Write templates:", "check ", "See what a change would do", "whatif ", "Carry it out", "deploy ", "undo ", "delete ",
		"What is there", "stacks ", "The cloud as it is:", "drift ", "Many places", "fleet ", "The program itself:", "demo ", "version "} {
		i := strings.Index(out[at:], words)
		if i < 0 {
			t.Fatalf("there is no %q after %q", words, out[max(0, at-40):at])
		}
		at += i
	}
}

// What is being waited for is told after a while, and taken away before anything is printed.
func TestProgressTakesItselfAway(t *testing.T) {
	var out bytes.Buffer
	p := &progress{to: &out, words: "comparing with the cloud", stop: make(chan struct{})}
	go p.tell()
	for range 100 {
		time.Sleep(50 * time.Millisecond)
		p.mu.Lock()
		shown := p.shown
		p.mu.Unlock()
		if shown {
			break
		}
	}
	w := before{p, &out}
	w.Write([]byte("all is well\n"))
	p.end() // again
	if got := out.String(); !strings.HasPrefix(got, "\rcomparing with the cloud … 1 s") || !strings.HasSuffix(got, "\r"+ansi.EraseLineRight+"all is well\n") {
		t.Errorf("%q", got)
	}
}

// A hint that names a command can be pasted: it has no word that somebody is to replace.
func TestHintsCanBePasted(t *testing.T) {
	placeholder := regexp.MustCompile(`brickrow [a-z% -]*\b[A-Z]{3,}`)
	literal := regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.)*\"")
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for n, line := range strings.Split(string(text), "\n") {
			for _, words := range literal.FindAllString(line, -1) {
				if placeholder.MatchString(words) && !strings.Contains(words, "# The commands") { // a page that is read
					t.Errorf("%s:%d: %s", path, n+1, words)
				}
			}
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

// Lines are broken at blanks, but neither within a command that can be pasted, nor between a number and its unit.
func TestLinesAreBrokenWhereTheyCan(t *testing.T) {
	text := "growing the storage, 1/2 (4 ms), within 2 min 00 s; 'brickrow drift x --put-back' makes it so, '--patch' shows what"
	for width := 34; width < 120; width++ {
		lines := inLines(text, width)
		if strings.Join(lines, " ") != text {
			t.Errorf("at %d it says %q", width, lines)
		}
		for _, whole := range []string{"(4 ms)", "2 min 00 s", "'brickrow drift x --put-back'", "'--patch'"} {
			if !strings.Contains(strings.Join(lines, "\n"), whole) {
				t.Errorf("at %d %q is broken:\n%s", width, whole, strings.Join(lines, "\n"))
			}
		}
	}
}
