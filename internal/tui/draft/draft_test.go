package draft

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/bundle"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/part/parttest"
)

// BenchmarkKey goes from line to line of a long template; BenchmarkOpen splits it
// into lines and colours the first ones.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, nil)
		v := New(sh)
		v.heard(newLoaded(long(n)))
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "jk") })
	}
}

func BenchmarkOpen(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh, d := parttest.New(b, nil), long(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				v := New(sh)
				v.heard(newLoaded(d))
				sh.Styled(v)
			}
		})
	}
}

func newLoaded(d *app.Draft) loaded {
	names, docs := readFiles(d, false)
	return loaded{draft: d, names: names, docs: docs}
}

// long is a draft of a template with many nodes.
func long(n int) *app.Draft {
	var text strings.Builder
	text.WriteString("tosca_definitions_version: tosca_2_0\nservice_template:\n  node_templates:\n")
	for i := range n {
		fmt.Fprintf(&text,
			"    r%d:\n      type: Topic\n      properties: { label: \"topic %d\" }\n      requirements: [ { on: r%d } ]\n", i, i, max(0, i-200))
	}
	return &app.Draft{Parsed: &app.Parsed{Path: "large.stack.yaml", Template: "large.yaml", Text: text.String(),
		File: &tosca.File{Service: &tosca.ServiceTemplate{}}}, Wanted: &stack.Wanted{}}
}

// BenchmarkWrite types words of 40 letters into a template of 1 MB: from a key to the frame that shows
// it, with what is offered; and opens it.
func BenchmarkWrite(b *testing.B) {
	sh, d := parttest.New(b, nil), long(10_000)
	if len(d.Text) < 1<<20 {
		b.Fatalf("it has %d bytes", len(d.Text))
	}
	b.Run("key", func(b *testing.B) {
		v := New(sh)
		v.work = assist.New(bundle.Disk, profile.Read().Library, tosca.Shipped...)
		v.heard(newLoaded(d))
		f := v.file()
		f.doc = &app.Document{Path: d.Template, Text: d.Text, Disk: []byte(d.Text)}
		v.edit()
		var took []time.Duration
		for word := 0; b.Loop(); word++ { // in one place after the other, in front of a text
			n := 4 + 5*(word*443%8000)
			for !strings.Contains(f.Text.Line(n), "label:") {
				n++
			}
			f.Move(assist.Place{Line: n, Column: strings.Index(f.Text.Line(n), "label") + 8}, false)
			sh.Styled(v)
			for i := range 40 {
				begun := time.Now()
				v.Update(tea.KeyPressMsg{Code: 'a' + rune(i%26), Text: string('a' + rune(i%26))})
				sh.Styled(v)
				took = append(took, time.Since(begun))
			}
		}
		slices.Sort(took)
		b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms/median")
		b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "ms/99th")
	})
	b.Run("open", func(b *testing.B) {
		for b.Loop() {
			v := New(sh)
			v.heard(newLoaded(d))
			v.edit()
			sh.Styled(v)
		}
	})
}

// TestPouredIntoAnInput pours 100,000 letters into an input, each as a key of its own, and wants what they would change to be asked
// once they have come to an end, and no more of them than an input takes.
func TestPouredIntoAnInput(t *testing.T) {
	d := long(3)
	d.File.Service.Inputs = []*tosca.Property{{Name: "label", Type: &tosca.Type{Name: "string"}}}
	v := New(parttest.New(t, nil))
	v.heard(newLoaded(d))
	v.typeValue()
	asked := 0
	began := time.Now()
	for i := range 100_000 {
		if cmd := v.formKey(tea.KeyPressMsg{Code: 'a', Text: string('a' + rune(i%26))}); cmd != nil {
			asked++
		}
	}
	t.Log(time.Since(began))
	if n := len(v.form.input.Value()); asked != 1 || n != part.LongestInput {
		t.Errorf("asked %d times, %d letters", asked, n)
	}
	if cmd := v.rested(rested{1, d.File.Service.Inputs[0]}); cmd == nil || !v.form.resting {
		t.Error("the last letters are not waited for")
	}
	if cmd := v.rested(rested{v.form.asked, d.File.Service.Inputs[0]}); cmd == nil || v.form.resting {
		t.Error("it is not asked")
	}
}

// TestInputsAsTheyAreWritten wants the list of the inputs to hold one that has no value yet, which is an error; a value that is typed
// to stay with its input while others come and go; and the list to stay while the text is not YAML.
func TestInputsAsTheyAreWritten(t *testing.T) {
	v := New(parttest.New(t, nil))
	reads := func(code string, inputs ...string) {
		d := long(3)
		for _, name := range inputs {
			d.File.Service.Inputs = append(d.File.Service.Inputs, &tosca.Property{Name: name, Type: &tosca.Type{Name: "string"}})
		}
		if code != "" {
			d.Findings.Errorf(tosca.Pos{Line: 1}, code, "", "made up")
		}
		v.heard(newLoaded(d))
	}
	names := func() (out []string) {
		for _, in := range v.fields() {
			out = append(out, in.Name)
		}
		return out
	}
	wants := func(want ...string) {
		t.Helper()
		if !slices.Equal(names(), want) {
			t.Errorf("inputs %q, want %q", names(), want)
		}
	}
	reads("", "size")
	wants("size")
	reads("no-value", "region", "size")
	wants("region", "size")
	reads("not-yaml")
	wants("region", "size")
	v.askInput()
	v.form.at = 1
	v.typeValue()
	reads("", "owner", "region", "size")
	if !v.form.typing || names()[v.form.at] != "size" {
		t.Errorf("the value is typed for %s", names()[v.form.at])
	}
	reads("", "owner")
	if v.form.typing || v.form.at != 0 || !v.form.on {
		t.Errorf("a value is typed for an input that is gone: %+v", v.form)
	}
	reads("")
	wants()
	if v.form.on {
		t.Error("the marks are in an empty list")
	}
}
