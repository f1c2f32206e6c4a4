package app

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Spawn carries a prepared run out in a process of its own, which outlives
// this one.
func (a *App) Spawn(t *Ticket) error { return a.spawn("carry-out", t.Run.ID, t.Token) }

// SpawnFleet carries a rollout on that is locked here in a process of its own, which outlives this one.
func (a *App) SpawnFleet(r *Rollout) error { return a.spawn("carry-fleet", r.ID, r.Token) }

// spawn starts this program anew with a command that is handed over a lock.
func (a *App) spawn(command, id, token string) error {
	exe, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program: %w", err)
	}
	dir := filepath.Join(a.Home, "logs")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(dir, "run-"+id+".log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	handover, err := a.handOver(token)
	if err != nil {
		return err
	}
	defer handover.Close()
	cmd := exec.Command(exe, command, id, "--home", a.Home)
	cmd.Stdin, cmd.Env = handover, append(plainEnvironment(), fmt.Sprintf("BRICKROW_YARD_SPEED=%g", a.Speed))
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the run: %w", err)
	}
	go func() { _ = cmd.Wait() }() // so that it leaves no dead entry behind while we live
	return nil
}

// Handover is what the process that carries a run out is told on its standard
// input: nobody can look it up there, as they could in its environment.
type Handover struct {
	Lock   string            `json:"lock"`   // token of the lock
	Tokens map[string]string `json:"tokens"` // of the cloud, by account
	Store  string            `json:"store"`  // where it is
}

// ReadHandover reads what Spawn hands over.
func ReadHandover(r io.Reader) (Handover, error) {
	var h Handover
	if err := json.NewDecoder(io.LimitReader(r, 1<<20)).Decode(&h); err != nil {
		return h, fmt.Errorf("this command is started by Brick Row itself, which tells it what it needs: %w", err)
	}
	return h, nil
}

// handOver is a pipe with all of it in already, so that this process may end.
func (a *App) handOver(token string) (*os.File, error) {
	text, err := json.Marshal(Handover{token, environmentTokens(), a.storeText()})
	if err != nil {
		return nil, err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	if _, err = w.Write(text); err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

// plainEnvironment is the part of the environment that a program needs to find
// its way. What inputs are read from is not in it: a run has its values already.
func plainEnvironment() []string {
	names := []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TMPDIR", "BRICKROW_HOME", "BRICKROW_CONFIG",
		"BRICKROW_CLOUD",
		"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "SSL_CERT_FILE", "SSL_CERT_DIR"}
	var out []string
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if slices.Contains(names, strings.ToUpper(name)) || strings.HasPrefix(name, "XDG_") ||
			strings.HasPrefix(name, "LC_") || strings.HasPrefix(name, "OTEL_") {
			out = append(out, v)
		}
	}
	return out
}
