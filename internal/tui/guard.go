package tui

import (
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/sys/unix"
)

// guard lets nothing that goes wrong in the interface take it down: what was
// written stays, and it is said what happened.
func (m *model) guard(doing string) {
	if broken := recover(); broken != nil {
		m.broken(doing, broken)
	}
}

func (m *model) broken(doing string, broken any) {
	m.crashes++
	m.Warn("%s broke down: %v. This is a defect of the program; nothing that was written or deployed is lost. "+
		"Details are in %s.", doing, broken, m.logCrash(doing, broken))
}

// logCrash leaves what is known of a defect in the data folder.
func (m *model) logCrash(doing string, broken any) string {
	dir := m.app.Home + "/logs"
	if m.crashes > 20 || os.MkdirAll(dir, 0o700) != nil {
		return "no file"
	}
	name := dir + "/interface.log"
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return "no file"
	}
	defer f.Close()
	fmt.Fprintf(f, "%s %s: %v\n%s\n", time.Now().Format(time.RFC3339), doing, broken, debug.Stack())
	return name
}

// guarded does the same for what runs beside the interface.
func (m *model) guarded(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() (msg tea.Msg) {
		defer func() {
			if broken := recover(); broken != nil {
				msg = brokenDown{broken}
			}
		}()
		msg = cmd()
		if batch, ok := msg.(tea.BatchMsg); ok {
			for i, c := range batch {
				batch[i] = m.guarded(c)
			}
		}
		return msg
	}
}

// brokenDown says that something beside the interface broke down.
type brokenDown struct{ with any }

// flood tells text that is poured in without the marks of pasting from keys that
// somebody presses: nobody presses so many in so short a time.
type flood struct {
	since, last time.Time
	keys        int
	text        string // of the last key
	on          bool
}

// The most keys that count as pressed, within a time; and how long it has to be
// quiet until keys are keys again.
const (
	mostKeys   = 40
	floodTime  = 150 * time.Millisecond
	floodQuiet = 200 * time.Millisecond
)

// takes reports whether a key that comes now is one that somebody pressed. A key
// that is held down is one; so are those that write nothing. began says that a
// flood has just been found.
func (f *flood) takes(now time.Time, text string) (pressed, began bool) {
	if now.Sub(f.last) > floodQuiet {
		f.on = false
	}
	if now.Sub(f.since) > floodTime {
		f.since, f.keys = now, 0
	}
	f.last = now
	if text != "" && text != f.text {
		f.keys++
	}
	f.text = text
	if !f.on && f.keys > mostKeys {
		f.on, began = true, true
	}
	return !f.on, began
}

// signals gives the terminal back before the program ends or stands still: also
// where that is asked for by a signal and not by a key.
func signals(p *tea.Program) (stop func()) {
	c := make(chan os.Signal, 4)
	signal.Notify(c, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGTSTP)
	done := make(chan struct{})
	go func() {
		for {
			select {
			case <-done:
				return
			case s := <-c:
				if s == syscall.SIGTSTP {
					if !alone() {
						standStill(p)
					}
					continue
				}
				p.Quit()
			}
		}
	}()
	return func() {
		signal.Stop(c)
		close(done)
	}
}

// standStill stops the program until it is continued. It stops itself with
// SIGSTOP: a SIGTSTP that is listened for does nothing else any more. A thread may
// run on for a moment after it, so that it is waited for being continued.
func standStill(p *tea.Program) {
	continued := make(chan os.Signal, 1)
	signal.Notify(continued, syscall.SIGCONT)
	defer signal.Stop(continued)
	if p.ReleaseTerminal() != nil {
		return
	}
	// What draws stops its clock a moment after it said that it ends. Were it held in
	// between, it would stop the clock of the one that draws when the program goes on.
	time.Sleep(100 * time.Millisecond)
	if syscall.Kill(0, syscall.SIGSTOP) == nil {
		<-continued
	}
	_ = p.RestoreTerminal() // there is nobody to tell
}

// alone reports whether there is no shell that could continue the program where it stood
// still: it is of the process group that its terminal was opened for.
func alone() bool {
	session, err := unix.Getsid(0)
	return err == nil && session == syscall.Getpgrp()
}

// suspend asks this program to stand still, as the terminal would.
func suspend() tea.Msg {
	_ = syscall.Kill(os.Getpid(), syscall.SIGTSTP)
	return nil
}
