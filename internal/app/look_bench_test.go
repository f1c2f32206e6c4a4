package app

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"brickrow/internal/stack"
)

// BenchmarkLook looks at a target with many resources: how long finding drift takes by how long
// listing them takes, and how long it is from the answer of the cloud until it is known whose
// all is.
func BenchmarkLook(b *testing.B) {
	sizes := []int{1000}
	if os.Getenv("BRICKROW_LONG") != "" {
		sizes = append(sizes, 10_000)
	}
	for _, n := range sizes {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			a, err := Open(Options{Home: filepath.Join(b.TempDir(), "home"), Speed: 100_000})
			if err != nil {
				b.Fatal(err)
			}
			b.Cleanup(func() { a.Close() })
			dir := b.TempDir()
			for name, text := range map[string]string{"big.yaml": large(n), "big.stack.yaml": "stack: big\ntemplate: big.yaml\ntarget: workshop/alder-1\n"} {
				if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
					b.Fatal(err)
				}
			}
			d, err := a.Load(b.Context(), filepath.Join(dir, "big.stack.yaml"), Values{})
			if err != nil {
				b.Fatal(err)
			}
			p, err := a.WhatIf(b.Context(), d)
			if err != nil {
				b.Fatal(err)
			}
			t, err := a.Prepare(b.Context(), p, stack.Undo)
			if err != nil {
				b.Fatal(err)
			}
			if r, err := a.Execute(b.Context(), t.Run.ID, t.Token); err != nil || r.State != "done" {
				b.Fatal(err, r)
			}
			st, err := a.Find(b.Context(), "big")
			if err != nil {
				b.Fatal(err)
			}
			took := func(b *testing.B, into *time.Duration, do func() error) {
				from := time.Now()
				if err := do(); err != nil {
					b.Fatal(err)
				}
				*into += time.Since(from)
			}
			per := func(b *testing.B, d time.Duration) float64 { return float64(d.Milliseconds()) / float64(b.N) }
			list := func() error { _, err := a.Cloud.List(b.Context(), st.Target, "big"); return err }
			b.Run("drift", func(b *testing.B) {
				var listed, drift time.Duration
				for b.Loop() {
					took(b, &listed, list)
					took(b, &drift, func() error { _, err := a.Drift(b.Context(), st); return err })
				}
				b.ReportMetric(per(b, listed), "ms/list")
				b.ReportMetric(drift.Seconds()/listed.Seconds(), "drift/list")
			})
			b.Run("target", func(b *testing.B) {
				var listed, look, rules time.Duration
				for b.Loop() {
					var v *Inventory
					took(b, &listed, list)
					took(b, &look, func() (err error) { v, err = a.Look(b.Context(), st.Target); return err })
					took(b, &rules, func() error { _, _, err := a.Compliance(b.Context(), v); return err })
				}
				b.ReportMetric(look.Seconds()/listed.Seconds(), "look/list")
				b.ReportMetric(per(b, look)-per(b, listed), "ms-after-the-answer")
				b.ReportMetric(per(b, rules), "ms/rules")
			})
		})
	}
}
