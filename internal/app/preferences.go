package app

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"

	"brickrow/internal/files"
	"brickrow/internal/notice"
	"brickrow/internal/tosca"
)

// Preferences are what somebody likes, kept in the data folder.
type Preferences struct {
	// Notify is how the end of a run is told.
	Notify notice.How `json:"notify,omitempty"`
	// Columns are those of a run's events; nil is those that are usual.
	Columns []string `json:"columns"`
	// Contrast is Strong, or "" for the usual one.
	Contrast string `json:"contrast,omitempty"`
}

// Strong is a contrast of 7:1 for every text.
const Strong = "strong"

const preferencesFile = "preferences.json"

// Preferences reads what somebody likes. What cannot be read is as if nothing was said.
func (a *App) Preferences() Preferences {
	var p Preferences
	text, err := files.Read(filepath.Join(a.Home, preferencesFile), tosca.MaxBytes)
	if err == nil {
		err = json.Unmarshal(text, &p)
	}
	if how, bad := notice.Parse(string(p.Notify)); err != nil || bad != nil {
		p.Notify = notice.Desktop
		return p
	} else {
		p.Notify = how
	}
	return p
}

// SetPreferences keeps what somebody likes.
func (a *App) SetPreferences(p Preferences) error {
	text, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	err = files.Write(filepath.Join(a.Home, preferencesFile), append(text, '\n'), 0o600)
	if errors.Is(err, fs.ErrPermission) {
		return refusal("your settings cannot be saved: %v", err)
	}
	return err
}
