package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/files"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// targetsSetting is what the store calls which targets are careful: every stack in them is treated as if its stack
// file said careful: true. And it says where a deployment needs the approval of a second person. It holds for all who
// share the store. Formerly it was a file in the folder of the data, which is taken over.
const targetsSetting, targetsFile = "targets", "targets.yaml"

type targetSettings struct {
	Careful  []string `yaml:"careful"`
	Approval []string `yaml:"approval"`
	// Approvers and Deployers are identities by target: who may approve (nobody
	// named is anybody but who saved it), and who may open what is sealed.
	Approvers map[string][]string `yaml:"approvers,omitempty"`
	Deployers map[string][]string `yaml:"deployers,omitempty"`
	// LeftRules are the built-in rules that what runs is not held against.
	LeftRules []string `yaml:"left_rules,omitempty"`
}

func (s targetSettings) clone() targetSettings {
	s.Careful, s.Approval, s.LeftRules = slices.Clone(s.Careful), slices.Clone(s.Approval), slices.Clone(s.LeftRules)
	s.Approvers, s.Deployers = maps.Clone(s.Approvers), maps.Clone(s.Deployers)
	return s
}

// settings are what is set of targets. They are read again after a moment: others may set some.
func (a *App) settings() (targetSettings, error) {
	a.set.Lock()
	defer a.set.Unlock()
	var err error
	if time.Since(a.set.read) > 500*time.Millisecond {
		a.set.in, _, err = a.readSettings()
		a.set.read = time.Now()
	}
	if err != nil {
		a.set.read = time.Time{}
	}
	return a.set.in.clone(), err
}

// set is what is known of the settings.
type set struct {
	sync.Mutex
	in   targetSettings
	read time.Time
}

func (a *App) readSettings() (in targetSettings, text string, err error) {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	text, err = a.store.Setting(ctx, targetsSetting)
	if err != nil {
		return in, "", fmt.Errorf("what is set of targets: %w", err)
	}
	where := "the store"
	if text == "" && a.store.Place().URL == "" {
		where = "the file " + filepath.Join(a.Home, targetsFile)
		if text, err = a.formerSettings(ctx); err != nil {
			return in, "", refusal("%s cannot be read: %v", where, err)
		}
	}
	if err := yaml.Unmarshal([]byte(text), &in); err != nil {
		return in, "", refusal("what %s says of targets cannot be read: %v", where, err)
	}
	return in, text, nil
}

// formerSettings takes over what stood in a file.
func (a *App) formerSettings(ctx context.Context) (string, error) {
	path := filepath.Join(a.Home, targetsFile)
	text, err := files.Read(path, tosca.MaxBytes)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &targetSettings{})
	}
	if err == nil && len(text) > 0 {
		_, err = a.store.Set(ctx, targetsSetting, "", string(text))
	}
	if err == nil {
		if err = os.Rename(path, path+".taken-over"); errors.Is(err, fs.ErrNotExist) { // by another process
			err = nil
		}
	}
	return string(text), err
}

// setSettings sets something of targets, for all who share the store.
// What was done is noted as acts; none is one that says no more than that something was set.
func (a *App) setSettings(ctx context.Context, change func(*targetSettings), acts ...store.Act) error {
	a.set.Lock()
	defer a.set.Unlock()
	a.set.read = time.Time{}
	for range 20 { // others may set something too
		in, was, err := a.readSettings()
		if err != nil {
			return err
		}
		change(&in)
		text, err := yaml.Marshal(in)
		if err != nil {
			return err
		}
		if done, err := a.store.Set(ctx, targetsSetting, was, string(text), slices.Clone(acts)...); err != nil || done {
			return err
		}
	}
	return refusal("somebody else is changing the settings of targets right now: try again")
}
