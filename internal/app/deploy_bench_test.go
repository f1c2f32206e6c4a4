package app

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// BenchmarkDeploy deploys resources that rest on nothing, on a cloud that takes no
// time: what is left is the work of the engine, durable journal included.
func BenchmarkDeploy(b *testing.B) {
	for _, n := range []int{100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var took time.Duration
			for b.Loop() {
				a, err := Open(Options{Home: filepath.Join(b.TempDir(), "home"), Speed: 1e6})
				if err != nil {
					b.Fatal(err)
				}
				dir := b.TempDir()
				var text strings.Builder
				text.WriteString("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n")
				for i := range n {
					fmt.Fprintf(&text, "    topic_%d: { type: Topic, properties: { label: \"topic %d\" } }\n", i, i)
				}
				file := filepath.Join(dir, "many.stack.yaml")
				for name, text := range map[string]string{"many.yaml": text.String(),
					"many.stack.yaml": "stack: many\ntemplate: many.yaml\ntarget: workshop/alder-1\n"} {
					if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
						b.Fatal(err)
					}
				}
				d, err := a.Load(b.Context(), file, Values{})
				if err != nil {
					b.Fatal(err)
				}
				p, err := a.WhatIf(b.Context(), d)
				if err != nil {
					b.Fatal(err)
				}
				t, err := a.Prepare(b.Context(), p, "undo")
				if err != nil {
					b.Fatal(err)
				}
				began := time.Now()
				r, err := a.Execute(b.Context(), t.Run.ID, t.Token)
				if err != nil || r.State != "done" {
					b.Fatal(err, r)
				}
				took += time.Since(began)
				a.Close()
			}
			b.ReportMetric(float64(took.Microseconds())/float64(b.N*n)/1000, "ms/step")
		})
	}
}
