package app

import (
	"path/filepath"
	"testing"
)

// BenchmarkOpen opens a data folder that is there, as every command does.
func BenchmarkOpen(b *testing.B) {
	home := filepath.Join(b.TempDir(), "home")
	for b.Loop() {
		a, err := Open(Options{Home: home, Speed: 1})
		if err != nil {
			b.Fatal(err)
		}
		if _, err := a.Stacks(b.Context()); err != nil {
			b.Fatal(err)
		}
		a.Close()
	}
}
