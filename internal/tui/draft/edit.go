package draft

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
)

// editElsewhere opens the user's editor on the file, at the line.
func (v *View) editElsewhere() tea.Cmd {
	if f := v.file(); f == nil || f.doc == nil {
		v.Warn("this file can only be read here")
		return nil
	} else if f.dirty() {
		v.Warn("save it first: your editor would not see what is not saved")
		return nil
	}
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		for _, name := range []string{"nano", "vi"} {
			if _, err := exec.LookPath(name); err == nil {
				editor = name
				break
			}
		}
	}
	if editor == "" {
		v.Warn("set the variable EDITOR to your editor; the file is %s", v.name())
		return nil
	}
	words := strings.Fields(editor)
	args := words[1:]
	switch filepath.Base(words[0]) {
	case "vi", "vim", "nvim", "nano", "emacs", "micro", "kak", "ne", "joe":
		args = append(args, fmt.Sprintf("+%d", v.line()+1))
	}
	return tea.Exec(editorProcess{exec.Command(words[0], append(args, v.name())...)},
		func(err error) tea.Msg { return edited{err} })
}

// editorProcess is an editor that has the terminal for a moment at least: one
// that ends at once would come back while the drawing of the screen is still
// being stopped, which would then stop it for good.
type editorProcess struct{ *exec.Cmd }

func (e editorProcess) SetStdin(r io.Reader)  { e.Stdin = r }
func (e editorProcess) SetStdout(w io.Writer) { e.Stdout = w }
func (e editorProcess) SetStderr(w io.Writer) { e.Stderr = w }

func (e editorProcess) Run() error {
	began := time.Now()
	err := e.Cmd.Run()
	time.Sleep(100*time.Millisecond - time.Since(began))
	return err
}
