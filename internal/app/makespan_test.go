package app

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// many writes a stack of n disks, of which each but those of the ground rests on one to
// three of the course below; with one course none rests on another.
func many(b testing.TB, n, courses int) (file string) {
	dir := b.TempDir()
	random := rand.New(rand.NewPCG(1, 2))
	var text strings.Builder
	text.WriteString("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n")
	each := n / courses
	for i := range n {
		label := "{ $concat: [ above"
		for range 1 + random.IntN(3) {
			if course := i / each; course > 0 {
				label += fmt.Sprintf(", { $get_attribute: [ d%d, id ] }", (course-1)*each+random.IntN(each))
			}
		}
		fmt.Fprintf(&text, "    d%d: { type: Disk, properties: { size: 1 GiB, kind: plain, tags: { above: %s ] } } } }\n", i, label)
	}
	for name, text := range map[string]string{"many.yaml": text.String(),
		"many.stack.yaml": "stack: many\ntemplate: many.yaml\ntarget: workshop/alder-1\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	return filepath.Join(dir, "many.stack.yaml")
}

// BenchmarkMakespan deploys 1,024 resources, on and beside each other, where the target
// takes 16, 64 or 256 at once, and holds how long it takes against the least that it could:
// the critical path, or all the work divided by the limit.
// It takes as long as these would: BRICKROW_LONG=1 runs it.
func BenchmarkMakespan(b *testing.B) {
	if os.Getenv("BRICKROW_LONG") == "" {
		b.Skip("it takes some minutes: BRICKROW_LONG=1 runs it")
	}
	for _, courses := range []int{1, 8} {
		for _, atOnce := range []int{16, 64, 256} {
			b.Run(fmt.Sprintf("%d-courses/%d-at-once", courses, atOnce), func(b *testing.B) {
				const n, speed = 1024, 1
				var took time.Duration
				least := 0.0
				for b.Loop() {
					a, err := Open(Options{Home: filepath.Join(b.TempDir(), "home"), Speed: speed})
					if err != nil {
						b.Fatal(err)
					}
					if err := a.Door.AtOnce(b.Context(), yard.AtOnce{Account: "workshop", AtOnce: atOnce}); err != nil {
						b.Fatal(err)
					}
					d, err := a.Load(b.Context(), many(b, n, courses), Values{})
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
					least = p.Estimate.Seconds
					began := time.Now()
					r, err := a.Execute(b.Context(), t.Run.ID, t.Token)
					if err != nil || r.State != "done" {
						b.Fatal(err, r)
					}
					took += time.Since(began)
					a.Close()
				}
				b.ReportMetric(took.Seconds()/float64(b.N)/least, "of_the_least")
				b.ReportMetric(least, "least_s")
			})
		}
	}
}
