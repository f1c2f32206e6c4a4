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

// BenchmarkScripts (BRICKROW_LONG=1) carries out 1,000 scripts on 200 servers, those of four groups,
// and deploys as many topics beside: what a step costs the engine, and what a script takes in all.
func BenchmarkScripts(b *testing.B) {
	if os.Getenv("BRICKROW_LONG") == "" {
		b.Skip("it takes long")
	}
	for b.Loop() {
		a, err := Open(Options{Home: filepath.Join(b.TempDir(), "home"), Speed: 1e4})
		if err != nil {
			b.Fatal(err)
		}
		dir := b.TempDir()
		var text strings.Builder
		text.WriteString("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n" +
			"    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n    sub: { type: Subnet, properties: { cidr: 10.0.0.0/20 }, requirements: [ { network: net } ] }\n")
		for g := range 4 {
			fmt.Fprintf(&text, "    team_%d: { type: ServerGroup, properties: { size: small, image: fern-12, want: 50, max: 50 }, requirements: [ { subnet: sub } ] }\n", g)
			for i := range 5 {
				fmt.Fprintf(&text, "    soft_%d_%d: { type: Software, requirements: [ { host: team_%d } ], interfaces: { Lifecycle: { inputs: { n: %d }, operations: { create: up.sh } } } }\n", g, i, g, i)
			}
		}
		for name, text := range map[string]string{"many.yaml": text.String(), "up.sh": "echo $n >> /count\nresult lines $(wc -l < /count)\n",
			"many.stack.yaml": "stack: many\ntemplate: many.yaml\ntarget: workshop/alder-1\n"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		d, err := a.Load(b.Context(), filepath.Join(dir, "many.stack.yaml"), Values{})
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
		took := time.Since(began)
		st, err := a.Find(b.Context(), "many")
		if err != nil {
			b.Fatal(err)
		}
		list, err := a.Scripts(b.Context(), st, "")
		if err != nil || len(list) != 1000 {
			b.Fatal(len(list), err)
		}
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(took.Seconds()*1000/float64(len(list)), "ms/script")
		a.Close()
	}
}
