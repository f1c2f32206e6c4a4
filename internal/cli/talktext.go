package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// written is a file that is read and changed line by line, and how it was before each change.
type written struct {
	doc    *app.Document
	before []string
}

// value writes the value of an input into the stack file.
func (t *talk) value(args []string) error {
	name, text, set := strings.Cut(strings.Join(args, " "), "=")
	if !set || name == "" || text == "" {
		return errors.New("value wants NAME=VALUE, such as readers=4")
	}
	if err := t.hasFile(); err != nil {
		return err
	}
	return t.with(func(a *app.App) error {
		d, err := a.Load(t.ctx, t.about.file, app.Values{})
		if err != nil {
			return err
		}
		if d.File == nil || d.File.Service == nil {
			t.findings(d.Findings)
			return errors.New("the template has to be mended first")
		}
		in := d.File.Service.Input(name)
		if in == nil {
			return fmt.Errorf("%s has no input %s: say inputs for those that there are", t.about.name, name)
		}
		value, err := app.InputText(in, text)
		if err != nil {
			return err
		}
		if err := app.WriteInput(t.ctx, a, t.about.file, name, value); err != nil {
			return err
		}
		t.values = slices.DeleteFunc(t.values, func(v string) bool { return strings.HasPrefix(v, name+"=") })
		fmt.Fprintf(t.Out, "%s is %s in %s now. Say what-if for what that changes.\n", name, value, filepath.Base(t.about.file))
		return nil
	})
}

// read opens a file, or the template of the chosen stack, and says its lines with their numbers.
func (t *talk) read(args []string) error {
	var numbers []int
	file := ""
	for _, arg := range args {
		if n, err := strconv.Atoi(arg); err == nil {
			numbers = append(numbers, n)
		} else {
			file = arg
		}
	}
	switch {
	case file != "" && t.about != nil && !filepath.IsAbs(file):
		if beside := filepath.Join(filepath.Dir(t.about.file), file); exists(beside) {
			file = beside
		}
	case file == "" && t.text != nil:
		file = t.text.doc.Path
	case file == "" && t.about == nil:
		return errors.New("say which file: read FILE; or choose a stack first, and read says its template")
	case file == "":
		err := t.hasFile()
		if err != nil {
			return err
		}
		err = t.with(func(a *app.App) error {
			d, err := a.Load(t.ctx, t.about.file, app.Values{})
			if err == nil {
				file = d.Template
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	doc, err := app.OpenDocument(file)
	if err != nil {
		return err
	}
	if t.text == nil || t.text.doc.Path != file || t.text.doc.Text != doc.Text { // taking back would undo what others wrote
		t.text = &written{doc: doc}
	}
	lines := strings.Split(strings.TrimSuffix(doc.Text, "\n"), "\n")
	from, to := 1, len(lines)
	if len(numbers) > 0 {
		from, to = numbers[0], min(numbers[0]+9, to)
	}
	if len(numbers) > 1 {
		to = min(numbers[1], len(lines))
	}
	if from < 1 || from > to {
		return fmt.Errorf("%s has the lines 1 to %d", filepath.Base(file), len(lines))
	}
	fmt.Fprintf(t.Out, "%s, lines %d to %d of %d.\n", filepath.Base(file), from, to, len(lines))
	for n := from; n <= to; n++ {
		line := strings.TrimLeft(lines[n-1], " ")
		fmt.Fprintf(t.raw(), "%d, indented %d: %s\n", n, len(lines[n-1])-len(line), cloud.Clean(line))
	}
	return nil
}

// raw is where text goes that is said as it is, not in words.
func (t *talk) raw() interface{ Write([]byte) (int, error) } {
	if w, ok := t.Out.(*worded); ok {
		return w.to
	}
	return t.Out
}

// changeLine changes the file that is read: put NUMBER TEXT, add NUMBER TEXT, remove NUMBER [TO]. What follows the
// number and one space is the whole line, spaces at its beginning included.
func (t *talk) changeLine(how, rest string) error {
	if t.text == nil {
		return errors.New("no file is read: say read, or read FILE, first")
	}
	number, text, _ := strings.Cut(strings.TrimLeft(rest, " "), " ")
	n, err := strconv.Atoi(number)
	lines := strings.Split(strings.TrimSuffix(t.text.doc.Text, "\n"), "\n")
	least := 1
	if how == "add" {
		least = 0
	}
	if err != nil || n < least || n > len(lines) {
		return fmt.Errorf("%s wants the number of a line, %d to %d", how, least, len(lines))
	}
	switch how {
	case "put":
		lines[n-1] = text
	case "add":
		lines = slices.Insert(lines, n, text)
	default:
		to := n
		if text = strings.TrimSpace(text); text != "" {
			if to, err = strconv.Atoi(text); err != nil || to < n || to > len(lines) {
				return fmt.Errorf("remove wants the numbers of lines, %d to %d", n, len(lines))
			}
		}
		lines = slices.Delete(lines, n-1, to)
	}
	before := t.text.doc.Text
	if err := t.save(strings.Join(lines, "\n") + "\n"); err != nil {
		return err
	}
	t.text.before = append(t.text.before, before)
	return t.wrongNow()
}

// takeBack takes the last change of the file that is read back.
func (t *talk) takeBack([]string) error {
	if t.text == nil || len(t.text.before) == 0 {
		return errors.New("there is no change to take back")
	}
	last := len(t.text.before) - 1
	if err := t.save(t.text.before[last]); err != nil {
		return err
	}
	t.text.before = t.text.before[:last]
	return t.wrongNow()
}

// save writes the file that is read, where nobody else has changed it.
func (t *talk) save(text string) error {
	doc, err := t.text.doc.Save(text, app.Respect)
	var changed *app.ChangedOnDisk
	if errors.As(err, &changed) {
		return fmt.Errorf("%w since it was read, and nothing was written: say read to read it again", err)
	}
	if err != nil {
		return err
	}
	t.text.doc = doc
	return nil
}

// wrongNow says what is wrong after a change.
func (t *talk) wrongNow() error {
	path := t.text.doc.Path
	if t.about != nil && t.about.file != "" {
		path = t.about.file
	}
	return t.with(func(a *app.App) error {
		d, err := a.Load(t.ctx, path, app.Values{})
		if err != nil {
			return err
		}
		wrong := slices.DeleteFunc(slices.Clone(d.Findings), func(f tosca.Finding) bool { return f.Severity != tosca.Error })
		if len(wrong) == 0 {
			fmt.Fprintf(t.Out, "%s is saved, and nothing is wrong.\n", filepath.Base(t.text.doc.Path))
			return nil
		}
		fmt.Fprintf(t.Out, "%s is saved. Wrong: %s. The first:\n", filepath.Base(t.text.doc.Path), stack.Count(len(wrong), "thing"))
		t.findings(wrong[:1])
		return nil
	})
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
