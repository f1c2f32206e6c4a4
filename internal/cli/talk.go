package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	sh "mvdan.cc/sh/v3/shell"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

// talk is the interface as lines and questions, for a screen reader and for a bad line: nothing is drawn over, no
// meaning rests on a mark or on a place, and whatever the commands can do can be said.
type talk struct {
	*Program
	ctx    context.Context
	in     io.Reader
	about  *said    // the chosen stack; nil is none
	list   []said   // what was listed last, by its numbers
	values []string // inputs that were given for now, as name=value
	dir    string
	text   *written // the file that is read and changed
}

// said is a stack, or a stack file that was never deployed.
type said struct {
	name, file, target string
	stack              *stack.Stack
	words              string
}

// saying is a word that can be said.
type saying struct {
	word, of, means string
	needs           bool // a chosen stack
	do              func(t *talk, args []string) error
}

// saidWords are what can be said, in the order of the work.
func saidWords() []saying {
	run := func(args ...string) func(*talk, []string) error {
		return func(t *talk, more []string) error { return t.command(append(slices.Clone(args), more...)...) }
	}
	name := func(args ...string) func(*talk, []string) error {
		return func(t *talk, more []string) error {
			return t.command(append(append(slices.Clone(args), t.about.name), more...)...)
		}
	}
	file := func(args ...string) func(*talk, []string) error {
		return func(t *talk, more []string) error {
			if err := t.hasFile(); err != nil {
				return err
			}
			with := append(slices.Clone(args), t.about.file)
			for _, v := range t.values {
				with = append(with, "-i", v)
			}
			return t.command(append(with, more...)...)
		}
	}
	return []saying{
		{"stacks", "", "lists the stacks, each with a number that chooses it", false, func(t *talk, _ []string) error { return t.stacks() }},
		{"open", "FILE", "chooses a stack file", false, (*talk).openFile},
		{"show", "", "says what the stack is, its results and its last run", true, name("show")},
		{"what-if", "", "says what deploying would do, and does nothing", true, file("whatif")},
		{"check", "", "says all that is wrong", true, file("check")},
		{"inputs", "", "lists the inputs with their values, and where those come from", true, file("resolve", "--origins")},
		{"input", "NAME=VALUE", "gives an input another value for now; without a value it takes that back", true, (*talk).input},
		{"value", "NAME=VALUE", "writes the value of an input into the stack file", true, (*talk).value},
		{"read", "FILE NUMBER TO", "says the lines of the template, or of a file", false, (*talk).read},
		{"put", "NUMBER TEXT", "writes that line anew; the spaces it begins with count", false, nil},
		{"add", "NUMBER TEXT", "writes a line below that one", false, nil},
		{"remove", "NUMBER TO", "removes those lines", false, nil},
		{"take back", "", "takes back the last change of those", false, (*talk).takeBack},
		{"edit", "", "opens the stack file, or the template, in your editor", true, (*talk).edit},
		{"save", "FILE", "saves what deploying would do, to be approved and carried out later", true, func(t *talk, args []string) error {
			if len(args) != 1 {
				return errors.New("save wants the name of a file, such as changes.json")
			}
			return file("whatif")(t, []string{"--save", args[0]})
		}},
		{"approve", "FILE", "agrees to what somebody else saved", false, run("approve")},
		{"deploy", "", "deploys it, or what was saved, after a question", false, func(t *talk, args []string) error {
			if len(args) > 0 && !strings.HasPrefix(args[0], "-") { // a file that was saved
				return t.command(append([]string{"deploy"}, args...)...)
			}
			if t.about == nil {
				return errNoneChosen
			}
			return file("deploy")(t, args)
		}},
		{"run", "", "follows the last run, or says how it went", true, name("watch")},
		{"events", "", "says what happened in the last run", true, name("events")},
		{"pause", "", "lets the run begin nothing more", true, name("pause")},
		{"resume", "", "goes on with the run", true, name("resume")},
		{"cancel", "", "stops the run", true, name("cancel")},
		{"undo", "", "undoes a run that was held or interrupted, or goes back to a former revision", true, name("undo")},
		{"delete", "", "removes the whole stack, after its name was typed", true, name("delete")},
		{"results", "", "says what it gives to others", true, name("results")},
		{"history", "", "says what became of it", true, name("history")},
		{"drift", "", "says where the cloud differs from the record", true, name("drift")},
		{"put back", "", "puts back what differs", true, name("drift", "--put-back")},
		{"write", "", "writes what differs into the files", true, name("drift", "--write")},
		{"rules", "", "says which rules are kept, and which are not", true, name("compliance")},
		{"cloud", "", "says what is really there", false, run("cloud")},
		{"adopt", "NODE ID", "lets a node of it stand for what is there already, after a question", true, file("adopt")},
		{"release", "RESOURCE", "lets a resource leave it and stay in the cloud, after a question", true, name("release")},
		{"act", "RESOURCE ACTION", "does something to what runs", true, name("act")},
		{"scripts", "", "says what the scripts on its servers printed", true, name("scripts")},
		{"fleets", "", "lists the fleets", false, run("fleet", "list")},
		{"new", "STARTER FOLDER", "begins a stack; starters lists what with", false, run("new")},
		{"starters", "", "lists the small stacks to begin with", false, run("starters")},
		{"help", "", "says all this", false, (*talk).help},
	}
}

var errNoneChosen = errors.New("no stack is chosen: say stacks, then a number")

// hasFile refuses where it is not known which file the chosen stack came from.
func (t *talk) hasFile() error {
	if t.about.file == "" {
		return fmt.Errorf("it is not known which stack file %s came from; open and the file says it", t.about.name)
	}
	return nil
}

// plainly is the interface without a screen.
func (p *Program) plainly(ctx context.Context, a *app.App, o Screen) error {
	t := &talk{Program: p, ctx: ctx, in: p.In}
	if len(o.Folders) > 0 {
		t.dir = o.Folders[0]
	}
	p.Out = &worded{to: p.Out}
	fmt.Fprintln(p.Out, "Brick Row, in lines. Say help for what can be said, and leave to end.")
	err := t.stacks()
	if o.File != "" {
		err = t.openFile([]string{o.File})
	}
	for {
		if err != nil {
			fmt.Fprintf(p.Out, "That did not go: %v.\n", err)
		}
		name := "brickrow"
		if t.about != nil {
			name = t.about.name
		}
		fmt.Fprintf(p.Out, "%s> ", name)
		line, ended := readLine(t.in)
		line = strings.TrimLeft(line, " \t")
		switch word := strings.TrimSpace(line); {
		case word == "leave" || word == "quit" || word == "exit" || word == "q" || ended && word == "":
			fmt.Fprintln(p.Out, "A run goes on without you.")
			return nil
		case word == "":
			err = nil
			continue
		}
		err = t.hear(line)
	}
}

// readLine reads a line and no letter more: what comes after it may be an answer.
func readLine(r io.Reader) (line string, ended bool) {
	var text []byte
	one := make([]byte, 1)
	for len(text) < 1<<16 {
		if n, err := r.Read(one); n == 0 && err != nil {
			return string(text), true
		} else if n == 0 {
			continue
		}
		if one[0] == '\n' {
			break
		}
		text = append(text, one[0])
	}
	return string(text), false
}

// hear does what a line says.
func (t *talk) hear(line string) error {
	if how, rest, _ := strings.Cut(line, " "); how == "put" || how == "add" || how == "remove" { // spaces count
		return t.changeLine(how, rest)
	}
	line = strings.TrimSpace(line)
	if n, err := strconv.Atoi(line); err == nil {
		if n < 1 || n > len(t.list) {
			return fmt.Errorf("there is no number %d: say stacks", n)
		}
		t.choose(t.list[n-1])
		return nil
	}
	words, err := sh.Fields(line, func(string) string { return "" })
	if err != nil || len(words) == 0 {
		return fmt.Errorf("that is not understood: %w", err)
	}
	for _, s := range saidWords() {
		parts := strings.Fields(s.word)
		if len(words) < len(parts) || !slices.Equal(words[:len(parts)], parts) {
			continue
		}
		if s.needs && t.about == nil {
			return errNoneChosen
		}
		return s.do(t, words[len(parts):])
	}
	for _, s := range t.list { // a name chooses too
		if s.name == line {
			t.choose(s)
			return nil
		}
	}
	return t.command(words...)
}

// command carries out what the command line does with the same words, and asks what that asks.
func (t *talk) command(args ...string) error {
	ctx, stop := signal.NotifyContext(t.ctx, os.Interrupt)
	defer stop()
	p := &Program{In: t.in, Out: t.Out, Err: t.Out, spoken: true}
	given := []string{}
	for name, value := range map[string]string{"home": t.home, "store": t.storeURL, "cloud": t.cloudURL} {
		if value != "" {
			given = append(given, "--"+name, value)
		}
	}
	code := p.Run(ctx, append(given, args...))
	if words := map[int]string{ExitUndone: "It failed and was undone.", ExitStuck: "It is stuck: say show for what holds it."}[code]; words != "" {
		fmt.Fprintln(t.Out, words)
	}
	return nil
}

// stacks lists the stacks, and the stack files that were never deployed.
func (t *talk) stacks() error {
	return t.with(func(a *app.App) error {
		list, err := a.Stacks(t.ctx)
		if err != nil {
			return err
		}
		t.list = nil
		known := map[string]bool{}
		for _, o := range list {
			st := o.Stack
			known[st.StackFile] = true
			if st.State == stack.Removed && st.Fleet != "" {
				continue
			}
			words := aboutStack(st)
			if o.Run != nil {
				words += ", last run: " + o.Run.Words()
			}
			if o.Waits() {
				words += ", which waits for you"
			}
			if o.Holder != "" {
				words += ", carried out by " + o.Holder
			}
			if st.Differs > 0 {
				words += ", " + stack.Count(st.Differs, "resource") + " " + stack.NotAsRecorded
			}
			if o.Broken > 0 {
				words += ", a rule is not kept " + stack.Count(o.Broken, "time")
			}
			if st.Careful {
				words += ", careful"
			}
			t.list = append(t.list, said{st.Name, st.StackFile, st.Target.String(), st, words})
		}
		files, _ := filepath.Glob(filepath.Join(t.dir, "*.stack.yaml"))
		for _, file := range files {
			if known[file] {
				continue
			}
			if d, err := a.Load(t.ctx, file, app.Values{}); err == nil && d.Stack != nil {
				t.list = append(t.list, said{d.Stack.Stack, file, d.Stack.Target.String(), nil, "not deployed yet"})
			}
		}
		if len(t.list) == 0 {
			fmt.Fprintln(t.Out, "There are no stacks yet. Say starters for small ones to begin with.")
		}
		for i, s := range t.list {
			fmt.Fprintf(t.Out, "%d: %s in %s, %s.\n", i+1, s.name, s.target, s.words)
		}
		return nil
	})
}

func (t *talk) choose(s said) {
	if t.about == nil || t.about.name != s.name || t.about.target != s.target {
		t.values = nil
	}
	t.about = &s
	fmt.Fprintf(t.Out, "%s in %s is chosen: %s. Say what-if, deploy, run, history, or help.\n", s.name, s.target, s.words)
}

func (t *talk) openFile(args []string) error {
	if len(args) != 1 {
		return errors.New("open wants the name of one stack file")
	}
	return t.with(func(a *app.App) error {
		d, err := a.Load(t.ctx, args[0], app.Values{})
		switch {
		case err != nil:
			return err
		case d.Stack == nil:
			t.findings(d.Findings)
			return fmt.Errorf("%s is not a stack file: one says which template goes where", args[0])
		}
		t.choose(said{d.Stack.Stack, d.Path, d.Stack.Target.String(), nil, "as the file says it"})
		return nil
	})
}

// input gives an input a value for what is said from now on.
func (t *talk) input(args []string) error {
	if len(args) != 1 {
		return errors.New("input wants one NAME=VALUE, such as readers=4")
	}
	name, value, set := strings.Cut(args[0], "=")
	t.values = slices.DeleteFunc(t.values, func(v string) bool { return strings.HasPrefix(v, name+"=") })
	if !set || value == "" {
		fmt.Fprintf(t.Out, "%s has the value of the stack file again.\n", name)
		return nil
	}
	t.values = append(t.values, args[0])
	fmt.Fprintf(t.Out, "%s is given for now: say what-if for what that would change.\n", name)
	return nil
}

// edit opens a file of the stack in the user's own editor.
func (t *talk) edit(args []string) error {
	file := t.about.file
	if len(args) == 1 {
		file = args[0]
	}
	editor := strings.Fields(os.Getenv("EDITOR"))
	if file == "" || len(editor) == 0 {
		return fmt.Errorf("set the variable EDITOR to your editor; the file is %s", file)
	}
	cmd := exec.CommandContext(t.ctx, editor[0], append(editor[1:], file)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	return t.hear("check")
}

func (t *talk) help([]string) error {
	for _, s := range saidWords() {
		of := ""
		if s.of != "" {
			of = " " + s.of
		}
		fmt.Fprintf(t.Out, "%s%s: %s.\n", s.word, of, s.means)
	}
	fmt.Fprintln(t.Out, "A number chooses what was listed. Words and flags behind a word go along, as in: undo --to 2, or what-if --save changes.json.")
	fmt.Fprintln(t.Out, "Any other command of the command line can be said too, without brickrow in front. leave: ends; a run goes on.")
	return nil
}

// worded writes whole lines in words alone: what a mark says stands beside it, or is put there; columns become commas.
type worded struct {
	to   io.Writer
	line []byte
}

var (
	besides = regexp.MustCompile(`^(\s*)[▲◧⇅▽▪◈◇■□▶▷◔✖↶·–│▌]\s+`) // its word stands behind it
	inWords = strings.NewReplacer(" → ", " becomes ", "≠ ", "differs: ", "✖ ", "wrong: ", "◌", "at rest", "…", "...", " · ", ", ", " › ", ", then ",
		"× ", "times ", "√ ", "seen: ", "■ ", "", "▫ ", "")
	labels  = regexp.MustCompile(`^(\s*)(because|then|last|before|backup|used by|longest|probe|the cloud|template|changed|was tried|usually|the rest|left out|old)\s{2,}`)
	risky   = regexp.MustCompile(`^! (\S+)\s+`)
	columns = regexp.MustCompile(`(\S)[ \t]{2,}(\S)`)
)

func (w *worded) Write(b []byte) (int, error) {
	w.line = append(w.line, b...)
	for {
		i := strings.IndexByte(string(w.line), '\n')
		if i < 0 {
			break
		}
		if _, err := io.WriteString(w.to, inPlainWords(string(w.line[:i]))+"\n"); err != nil {
			return 0, err
		}
		w.line = w.line[i+1:]
	}
	if len(w.line) > 0 { // a question
		_, err := w.to.Write(w.line)
		w.line = nil
		return len(b), err
	}
	return len(b), nil
}

// inPlainWords is a line without marks, and without columns.
func inPlainWords(line string) string {
	line = besides.ReplaceAllString(line, "$1")
	line = risky.ReplaceAllString(line, "Risk, $1: ")
	line = labels.ReplaceAllString(line, "$1$2: ")
	line = inWords.Replace(line)
	for columns.MatchString(line) {
		line = columns.ReplaceAllString(line, "$1, $2")
	}
	return strings.TrimRight(strings.ReplaceAll(line, ",,", ","), " ")
}
