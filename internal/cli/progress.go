package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"
)

// waited are the commands that may take a while before they say something, and what they do then.
var waited = map[string]string{
	"whatif": "comparing with the cloud", "check": "checking", "cloud": "asking the clouds what is there",
	"drift": "comparing with the cloud", "compliance": "holding what runs against the rules", "observe": "looking at what is there",
	"capture": "asking the cloud what is there", "adopt": "comparing with the cloud", "release": "comparing with the cloud",
	"deploy": "comparing with the cloud", "undo": "comparing with the cloud", "delete": "comparing with the cloud",
	"pack": "packing", "store move": "moving the store", "store tidy": "thinning what is old", "backups": "asking the cloud",
	"targets": "asking the clouds", "probes": "asking the probes",
}

// progress tells on a terminal, once a while has gone by, what is being waited for. It takes itself away before
// anything else is printed.
type progress struct {
	mu    sync.Mutex
	to    io.Writer
	words string
	shown bool
	over  bool
	stop  chan struct{}
}

// quietFor is how long nothing is told: what is quick tells it by being done.
const quietFor = 1200 * time.Millisecond

// tellProgress begins to tell what a command waits for, where somebody looks.
func (p *Program) tellProgress(name string) {
	words := waited[name]
	file, ok := p.errs.(*os.File)
	if words == "" || p.quiet || !ok || !term.IsTerminal(file.Fd()) || p.progress != nil {
		return
	}
	t := &progress{to: p.errs, words: words, stop: make(chan struct{})}
	p.progress = t
	p.Out, p.Err = before{t, p.Out}, before{t, p.Err}
	go t.tell()
}

func (t *progress) tell() {
	began := time.Now()
	next := time.NewTimer(quietFor)
	defer next.Stop()
	for {
		select {
		case <-t.stop:
			return
		case <-next.C:
			t.mu.Lock()
			if !t.over {
				fmt.Fprintf(t.to, "\r%s … %d s%s", t.words, int(time.Since(began).Seconds()), ansi.EraseLineRight)
				t.shown = true
			}
			t.mu.Unlock()
			next.Reset(time.Second)
		}
	}
}

// end takes it away; nothing more is told.
func (t *progress) end() {
	if t == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.over {
		return
	}
	t.over = true
	close(t.stop)
	if t.shown {
		fmt.Fprint(t.to, "\r"+ansi.EraseLineRight)
	}
}

// before ends the progress before anything is printed.
type before struct {
	progress *progress
	to       io.Writer
}

func (w before) Write(b []byte) (int, error) {
	if strings.TrimSpace(string(b)) != "" {
		w.progress.end()
	}
	return w.to.Write(b)
}
