package app

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/postgres/postgrestest"
)

// TestSettingsAreShared sets marks of targets from two folders of data at the same time: none is lost, and what one sets
// the other goes by. A file of one folder says nothing to those who share.
func TestSettingsAreShared(t *testing.T) {
	url := postgrestest.Store(t)
	var apps []*App
	for range 2 {
		home := filepath.Join(t.TempDir(), "home")
		if err := os.Mkdir(home, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(home, targetsFile), []byte("careful: [ summit/cedar-2 ]"), 0o600); err != nil {
			t.Fatal(err)
		}
		a, err := Open(Options{Home: home, Store: url})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { a.Close() })
		apps = append(apps, a)
		if len(apps) == 1 {
			continue
		}
		if err := a.Set(t.Context(), Careful, "summit/alder-1"); err == nil || !strings.Contains(err.Error(), "not a member") {
			t.Errorf("set by who is none: %v", err)
		}
		me, err := a.Me()
		if err != nil {
			t.Fatal(err)
		}
		if err := apps[0].AddMember(t.Context(), "ben", me.Public().String(), ""); err != nil {
			t.Fatal(err)
		}
	}
	apps[1].Close()
	again, err := Open(Options{Home: apps[1].Home, Store: url})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { again.Close() })
	apps[1] = again
	var under sync.WaitGroup
	want := []string{}
	for i, a := range apps {
		for j, region := range []string{"alder-1", "birch-1", "cedar-2"} {
			target := []string{"workshop/", "summit/"}[i] + region
			if j < 2 {
				want = append(want, target)
			}
			under.Go(func() {
				err := a.Set(t.Context(), Careful, target)
				if err == nil && j == 2 {
					err = a.Unset(t.Context(), Careful, target)
				}
				if err != nil {
					t.Error(err)
				}
			})
		}
	}
	under.Wait()
	time.Sleep(600 * time.Millisecond) // for so long one goes by what was read last
	slices.Sort(want)
	for _, a := range apps {
		if in, err := a.settings(); err != nil || !slices.Equal(in.Careful, want) {
			t.Errorf("%v, %v", in.Careful, err)
		}
	}
}

// TestSettingsOfAFile takes over what a file said of targets, once; a broken one is left as it is.
func TestSettingsOfAFile(t *testing.T) {
	home := filepath.Join(t.TempDir(), "home")
	file := filepath.Join(home, targetsFile)
	look := func(text string) (string, error) {
		t.Helper()
		a, err := Open(Options{Home: home})
		if err != nil {
			t.Fatal(err)
		}
		defer a.Close()
		if text != "" {
			if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		in, err := a.settings()
		return fmt.Sprint(in.Careful), err
	}
	if _, err := look("careful: { a"); err == nil || !strings.Contains(err.Error(), file) {
		t.Errorf("%v", err)
	}
	for i, text := range []string{"careful: [ workshop/alder-1 ]", "", "careful: [ summit/alder-1 ]"} {
		if got, err := look(text); err != nil || got != "[workshop/alder-1]" {
			t.Errorf("%d: %s, %v", i, got, err)
		}
		if _, err := os.Stat(file); (err == nil) != (i == 2) { // once it was taken over, none counts
			t.Errorf("%d: %v", i, err)
		}
	}
}

// TestSettingsComeAlong moves a store whose folder has a file that was never read: what it says holds at the new place.
func TestSettingsComeAlong(t *testing.T) {
	home, url := filepath.Join(t.TempDir(), "home"), postgrestest.Store(t)
	a, err := Open(Options{Home: home})
	if err != nil {
		t.Fatal(err)
	}
	a.Close()
	if err := os.WriteFile(filepath.Join(home, targetsFile), []byte("approval: [ summit/alder-1 ]"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := MoveStore(t.Context(), home, "", url, func(MovedTable) {}); err != nil {
		t.Fatal(err)
	}
	if a, err = Open(Options{Home: home, Store: url}); err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if in, err := a.settings(); err != nil || !slices.Equal(in.Approval, []string{"summit/alder-1"}) {
		t.Errorf("%+v, %v", in, err)
	}
}
