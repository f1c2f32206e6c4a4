package app

import (
	"brickrow/internal/precheck"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"fmt"
	"go.yaml.in/yaml/v4"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

func BenchmarkZZ(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			w := newWriter(b, n)
			sum := map[string]time.Duration{}
			for i := 0; i < b.N; i++ {
				w.letters++
				now := strings.Replace(w.text, "LABEL", fmt.Sprint("letter ", w.letters), 1)
				os.WriteFile(filepath.Join(filepath.Dir(w.file), "large.yaml"), []byte(now), 0o600)
				lap := func(k string, f func()) { runtime.GC(); t := time.Now(); f(); sum[k] += time.Since(t) }
				lap("bare", func() { var doc yaml.Node; yaml.NewDecoder(strings.NewReader(now)).Decode(&doc) })
				var p *Parsed
				lap("parse", func() { p, _ = w.parse(w.file, Values{}) })
				lap("check", func() { p.checked() })
				lap("checkfull", func() { tosca.Check(p.File) })
				var d *Draft
				lap("resolve", func() { w2, _ := stack.Resolve(p.File, stack.Options{Orders: w.Profile}); _ = w2 })
				lap("draft", func() { d = w.draft(b.Context(), p, Values{}) })
				lap("prerules", func() { precheck.Rules(w.Profile, d.Wanted, precheck.ExtentOf(nil)) })
				lap("whatif", func() { w.WhatIfRecorded(b.Context(), d) })
			}
			for k, v := range sum {
				b.ReportMetric(float64(v.Microseconds())/1000/float64(b.N), k)
			}
		})
	}
}
