package tosca_test

import (
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/bundle"
	"brickrow/internal/precheck"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

var shipped = profile.Read()

var (
	wantPattern = regexp.MustCompile(`# want (.*)$`)
	codePattern = regexp.MustCompile(`"([^"]*)"`)
)

// findings reads, checks and resolves a template, as the program does.
func findings(name, text string) tosca.Findings {
	_, list := resolved(name, text)
	return list
}

func resolved(name, text string) (*stack.Wanted, tosca.Findings) {
	f, list := bundle.Folder(bundle.Disk, name, []byte(text)).Read(shipped.Load)
	w, more := stack.Resolve(f, stack.Options{Lenient: true})
	list = append(list, more...)
	list = append(list, precheck.Rules(shipped, w, precheck.ExtentOf(list))...)
	list.Sort()
	return w, list
}

// TestTemplates holds every template of the folder against the codes that
// stand in comments beside the offending lines.
func TestTemplates(t *testing.T) {
	files, err := filepath.Glob("testdata/check/*.yaml")
	if err != nil || len(files) < 40 {
		t.Fatalf("%d templates: %v", len(files), err)
	}
	for _, path := range files {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".yaml"), func(t *testing.T) {
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			got := map[string]map[int][]string{path: {}}
			for _, f := range findings(path, string(text)) {
				if got[f.File] == nil {
					got[f.File] = map[int][]string{}
				}
				got[f.File][f.Line] = append(got[f.File][f.Line], f.Code)
				if f.Column < 1 || f.Message == "" {
					t.Errorf("%+v has no column or no message", f)
				}
			}
			for file, lines := range got {
				text, err := os.ReadFile(file)
				if err != nil {
					t.Fatal(err)
				}
				want := wanted(string(text))
				for line := 1; line <= strings.Count(string(text), "\n")+1; line++ {
					slices.Sort(lines[line])
					slices.Sort(want[line])
					if !slices.Equal(lines[line], want[line]) {
						t.Errorf("%s:%d: found %q, want %q", file, line, lines[line], want[line])
					}
				}
			}
		})
	}
}

// wanted lists the codes that stand in the comments of a file, by line.
func wanted(text string) map[int][]string {
	want := map[int][]string{}
	for i, line := range strings.Split(text, "\n") {
		if m := wantPattern.FindStringSubmatch(line); m != nil {
			for _, c := range codePattern.FindAllStringSubmatch(m[1], -1) {
				want[i+1] = append(want[i+1], c[1])
			}
		}
	}
	return want
}

// TestResolutions holds what templates resolve to against golden files. With
// UPDATE_GOLDEN=1 it writes them.
func TestResolutions(t *testing.T) {
	files, err := filepath.Glob("testdata/resolve/*.yaml")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d templates: %v", len(files), err)
	}
	for _, path := range files {
		t.Run(filepath.Base(path), func(t *testing.T) {
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			w, list := resolved(path, string(text))
			if list.HasErrors() {
				t.Fatal(list)
			}
			got, err := w.ResolvedTemplate()
			if err != nil {
				t.Fatal(err)
			}
			golden := strings.TrimSuffix(path, ".yaml") + ".golden"
			if os.Getenv("UPDATE_GOLDEN") != "" {
				if err := os.WriteFile(golden, got, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil || string(got) != string(want) {
				t.Errorf("%v; it resolves to\n%s", err, got)
			}
			again, list := resolved("golden.yaml", string(got))
			if list.HasErrors() {
				t.Fatalf("what it resolves to is wrong: %v", list)
			}
			if twice, err := again.ResolvedTemplate(); err != nil || string(twice) != string(got) {
				t.Errorf("it does not resolve to itself: %v\n%s", err, twice)
			}
			formatted, list := tosca.Format(path, text)
			if list.HasErrors() {
				t.Fatal(list)
			}
			w, _ = resolved(path, string(formatted))
			if same, err := w.ResolvedTemplate(); err != nil || string(same) != string(got) {
				t.Errorf("formatted, it resolves to something else: %v\n%s", err, same)
			}
		})
	}
}

func TestTextsThatAreNoTemplates(t *testing.T) {
	deep := strings.Repeat("[", 10_000) + strings.Repeat("]", 10_000)
	bomb := "tosca_definitions_version: tosca_2_0\ndsl_definitions:\n  a0: &a0 [ x, x, x, x, x, x, x, x, x, x ]\n"
	for i := 1; i < 12; i++ {
		prev := "*a" + string(rune('a'+i-2))
		if i == 1 {
			prev = "*a0"
		}
		bomb += "  a" + string(rune('a'+i-1)) + ": &a" + string(rune('a'+i-1)) + " [ " +
			strings.TrimSuffix(strings.Repeat(prev+", ", 10), ", ") + " ]\n"
	}
	bomb += "service_template:\n  node_templates:\n    t: { type: Topic, properties: { label: *ak } }\n"
	for _, test := range []struct{ name, text, code string }{
		{"empty", "", "empty-file"},
		{"blank", "\n\n  \n", "empty-file"},
		{"comment alone", "# nothing\n", "empty-file"},
		{"a scalar", "hello\n", "wrong-type"},
		{"a list", "- a\n- b\n", "wrong-type"},
		{"a tab", "a:\n\tb: c\n", "not-yaml"},
		{"an open bracket", "a: [ b, c\n", "not-yaml"},
		{"an unknown alias", "a: *nobody\n", "not-yaml"},
		{"binary", "\x00\x01\xff\xfe", "not-text"},
		{"10,000 levels", deep, "too-deep"},
		{"two documents", "tosca_definitions_version: tosca_2_0\n---\na: b\n", "several-documents"},
		{"an alias bomb", bomb, "too-many-aliases"},
		{"a huge file", strings.Repeat("# nothing but comments\n", tosca.MaxBytes/22), "too-large"},
	} {
		t.Run(test.name, func(t *testing.T) {
			began := time.Now()
			list := findings("t.yaml", test.text)
			if !slices.ContainsFunc(list, func(f tosca.Finding) bool { return f.Code == test.code }) {
				t.Errorf("found %v, want %s", list, test.code)
			}
			if took := time.Since(began); took > 5*time.Second {
				t.Errorf("it took %s", took)
			}
		})
	}
}

func TestFixes(t *testing.T) {
	const head = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n"
	for _, test := range []struct{ text, fix string }{
		{"    n: { type: Netwrok, properties: { cidr: 10.0.0.0/8 } }\n", "did you mean 'Network'?"},
		{"    n: { type: network, properties: { cidr: 10.0.0.0/8 } }\n", "did you mean 'Network'?"},
		{"    n: { type: Network, properties: { cird: 10.0.0.0/8 } }\n", "did you mean 'cidr'?"},
		{"    n: { type: Network }\n", "add cidr: 10.40.0.0/16"},
		{"    n: { typ: Network, properties: { cidr: 10.0.0.0/8 } }\n", "did you mean 'type'?"},
		{"    q: { type: Queue, properties: { keep: 4 } }\n", "write a number and a unit, such as 30 s"},
		{"    q: { type: Queue, properties: { keep: 4 days } }\n", "the units are ms, s, m, h, d"},
		{"    t: { type: Topic, properties: { label: { $conct: [ a ] } } }\n", "did you mean 'concat'?"},
		{"    t: { type: Topic, properties: { label: 5 } }\n", `put it in quotes: "5"`},
		{"    a: { type: Topic }\n    t: { type: Topic, properties: { label: { $get_property: [ a, url ] } } }\n",
			"it is an attribute: use $get_attribute"},
	} {
		list := findings("t.yaml", head+test.text)
		if !slices.ContainsFunc(list, func(f tosca.Finding) bool { return f.Fix == test.fix }) {
			t.Errorf("%s: found %v, want the fix %q", strings.TrimSpace(test.text), list, test.fix)
		}
	}
}

// TestLargeTemplates reads large templates: what is wrong anywhere is found at
// its place, and the order stays.
func TestLargeTemplates(t *testing.T) {
	text := large(2000)
	w, list := resolved("large.yaml", text)
	if len(list) > 0 || len(w.Resources) != 2001 {
		t.Fatalf("%d resources, %v", len(w.Resources), list)
	}
	lines := strings.Split(text, "\n")
	wrong := map[int]bool{}
	for i, line := range lines {
		if i%97 == 0 && strings.Contains(line, "visible_after: 30 s") {
			lines[i], wrong[i+1] = strings.Replace(line, "visible_after", "visible_aftr", 1), true
		}
	}
	_, list = resolved("large.yaml", strings.Join(lines, "\n"))
	if len(wrong) < 5 || len(list) != len(wrong) {
		t.Fatalf("%d mistakes, %d findings", len(wrong), len(list))
	}
	for _, f := range list {
		if f.Code != "unknown-property" || !wrong[f.Line] {
			t.Errorf("found %s", f)
		}
	}
	f, _ := tosca.Read("large.yaml", []byte(text), tosca.Source{Profile: shipped.Load})
	last := 0
	for _, n := range f.Service.Nodes {
		if n.Line < last {
			t.Fatalf("%s of line %d stands behind line %d", n.Name, n.Line, last)
		}
		last = n.Line
	}
}

func FuzzRead(f *testing.F) {
	files, err := filepath.Glob("testdata/check/*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
	f.Add("a: &a [ *a ]")
	f.Add("tosca_definitions_version: tosca_2_0\nservice_template: { node_templates: { x: { count: $node_index } } }")
	f.Fuzz(func(t *testing.T, text string) {
		for _, found := range findings("fuzz.yaml", text) {
			if found.Message == "" || found.Code == "" {
				t.Errorf("an empty finding: %+v", found)
			}
		}
	})
}

// BenchmarkRead compares reading, checking and resolving with the bare parse
// of the same text. Beside that it reports how the time grows from 1,000
// resources, measured in turns so that both see the same machine, and what a
// resource takes in memory.
func BenchmarkRead(b *testing.B) {
	read := func(text string) time.Duration {
		runtime.GC() // so that each pays for its own garbage
		began := time.Now()
		f, list := tosca.Read("large.yaml", []byte(text), tosca.Source{Profile: shipped.Load})
		_, more := stack.CheckAndResolve(f, stack.Options{})
		if list = append(list, more...); len(list) > 0 {
			b.Fatal(list[0])
		}
		return time.Since(began)
	}
	parse := func(text string) time.Duration {
		runtime.GC()
		began := time.Now()
		var doc yaml.Node
		if err := yaml.NewDecoder(strings.NewReader(text)).Decode(&doc); err != nil {
			b.Fatal(err)
		}
		return time.Since(began)
	}
	for _, n := range []int{100, 1000, 10000} {
		text, thousand := large(n), large(1000)
		b.Run(itoa(n), func(b *testing.B) {
			var ours, bare, small []time.Duration
			for b.Loop() {
				for range 10000 / n { // the small ones more often, so that their median stands still
					ours, bare = append(ours, read(text)), append(bare, parse(text))
				}
				for range n / 10000 * 10 {
					small = append(small, read(thousand))
				}
			}
			b.ReportMetric(median(ours)/median(bare), "×parse")
			if len(small) > 0 {
				b.ReportMetric(median(ours)/median(small), "×1,000")
			}
			b.ReportMetric(held(text)/float64(n), "B/resource")
		})
	}
}

// median is the one in the middle: what else the machine does matters less.
func median(times []time.Duration) float64 {
	slices.Sort(times)
	return float64(times[len(times)/2])
}

// held is how many bytes a resolved template holds.
func held(text string) float64 {
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	f, _ := tosca.Read("large.yaml", []byte(text), tosca.Source{Profile: shipped.Load})
	w, _ := stack.Resolve(f, stack.Options{})
	runtime.GC()
	runtime.ReadMemStats(&after)
	runtime.KeepAlive(w)
	return float64(after.HeapAlloc) - float64(before.HeapAlloc)
}

func itoa(n int) string {
	return map[int]string{100: "100", 1000: "1000", 10000: "10000"}[n]
}

// large is a template with about n resources.
func large(n int) string {
	var s strings.Builder
	s.WriteString("tosca_definitions_version: tosca_2_0\nimports:\n  - profile: brickrow.cloud:1\nservice_template:\n  inputs:\n    keep: { type: Duration, default: 2 d }\n  node_templates:\n    net:\n      type: Network\n      properties: { cidr: 10.0.0.0/8 }\n")
	for i := range n / 4 {
		id := strings.Repeat("i", i%7) + string(rune('a'+i%26)) + "_" + time.Duration(i).String()
		s.WriteString("    queue_" + id +
			":\n      type: Queue\n      properties:\n        keep: { $get_input: keep }\n        visible_after: 30 s\n")
		s.WriteString("    topic_" + id +
			":\n      type: Topic\n      properties:\n        label: { $concat: [ to-, { $get_attribute: [ queue_" +
			id + ", url ] } ] }\n")
		s.WriteString("    sub_" + id +
			":\n      type: Subscription\n      properties:\n        to: huts@kestrelridge.example\n      requirements:\n        - topic: topic_" + id + "\n")
		s.WriteString("    rules_" + id +
			":\n      type: Rules\n      properties:\n        allow:\n          - { ports: \"443\", peer: 10.0.0.0/8 }\n      requirements:\n        - network: net\n")
	}
	return s.String()
}
