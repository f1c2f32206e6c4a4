package app

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/tosca"
)

// told is all that a draft says, in words.
func told(d *Draft) string {
	var b strings.Builder
	for _, f := range d.Findings {
		fmt.Fprintln(&b, f)
	}
	for _, res := range d.Wanted.Resources {
		fmt.Fprintln(&b, res.Name, res.Node, res.Index, res.Key, res.Type.Name, res.Own.Name, res.Pos, res.Needs, res.Keep, res.Guard)
		for _, p := range res.Properties {
			fmt.Fprintln(&b, " ", p.Name, tosca.Show(p.Value), p.Pos, tosca.Awaits(p.Value))
		}
		for _, l := range res.Links {
			fmt.Fprintln(&b, "  ->", l.Requirement, l.Targets, l.Pos)
		}
	}
	for _, o := range d.Wanted.Outputs {
		fmt.Fprintln(&b, "=", o.Name, tosca.Show(o.Value), o.Pos())
	}
	return b.String()
}

var someWord = regexp.MustCompile(`[A-Za-z0-9_.$-]+`)

// mutated is a text with a small change in a random line of its nodes.
func mutated(r *rand.Rand, text string, words []string) string {
	lines := strings.Split(text, "\n")
	for range 50 {
		n := r.IntN(len(lines))
		places := someWord.FindAllStringIndex(lines[n], -1)
		if len(places) == 0 || strings.TrimSpace(lines[n])[0] == '#' {
			continue
		}
		at := places[r.IntN(len(places))]
		word := lines[n][at[0]:at[1]]
		switch r.IntN(11) {
		case 0:
			word = words[r.IntN(len(words))]
		case 1:
			word += "x"
		case 2:
			word = word[:len(word)-1]
		case 3:
			word = fmt.Sprint(r.IntN(40))
		case 4:
			word = "{ $get_property: [ " + words[r.IntN(len(words))] + ", label ] }"
		case 5:
			word = "\"" + word + "\""
		case 6: // lines more, and fewer
			lines = slices.Insert(lines, n+1, "")
		case 7:
			lines = slices.Insert(lines, n+1, lines[n])
		case 8:
			lines = slices.Insert(lines, n+1, strings.Repeat(" ", len(lines[n])-len(strings.TrimLeft(lines[n], " ")))+"label: "+word)
		case 9:
			lines = slices.Insert(lines, n, "      # said", "")
			n += 2
		case 10:
			return strings.Join(slices.Delete(lines, n, n+1), "\n")
		}
		lines[n] = lines[n][:at[0]] + word + lines[n][at[1]:]
		break
	}
	return strings.Join(lines, "\n")
}

// What is read letter by letter is, after each, what is read of the whole: findings,
// resources, results and changes.
func TestWritingIsLikeReading(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	b.write("chain.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { n: { type: integer, default: 2 }, token: { type: Secret, default: hush-hush } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16, label: one } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24, label: { $get_property: [ net, label ] } }, requirements: [ network: net ] }
    hat: { type: Role, properties: { for: server } }
    may: { type: Grant, properties: { actions: [ queue:read ] }, requirements: [ role: hat, "on": jobs ] }
    jobs: { type: Queue, count: { $get_input: n }, properties: { label: { $get_property: [ sub, label ] } } }
    hut:
      type: Server
      properties:
        size: small
        image: fern-12
        needs: [ queue:read ]
        label: { $concat: [ { $get_property: [ SELF, size ] }, "-", { $get_attribute: [ [ jobs, 0 ], url ] } ] }
      requirements: [ subnet: sub, role: hat ]
    hook: { type: Topic, properties: { label: { $get_property: [ hut, label ] } } }
    p1: { type: Topic, properties: { label: a, tags: { desk: snow } } }
    p2: { type: Queue, properties: { keep: 3 d, visible_after: 40 s } }
    p3: { type: Topic, count: 2, properties: { label: { $concat: [ p, $node_index ] } } }
    p4: { type: Bucket, properties: { name: chain-p4, keep_days: 3 } }
    p5: { type: Subscription, properties: { to: a@b.example }, requirements: [ topic: p1 ] }
    p6: { type: Vault, properties: { value: { $get_input: token } } }
    p7: { type: Topic, properties: { label: { $get_property: [ p2, keep ] } } }
    p8: { type: Rules, properties: { allow: [ { ports: "443", peer: 10.0.0.0/8 } ] }, requirements: [ network: net ] }
    p9: { type: Topic, properties: { label: last } }
    p10: { type: Topic, count: { $get_input: n }, metadata: { keyed_by: label }, properties: { label: { $concat: [ k, $node_index ] } } }
    p11: { type: Address }
  outputs:
    where: { value: { $get_attribute: [ hook, url ] } }
    size: { value: { $get_property: [ hut, size ] } }
  policies:
    - keep: { type: Keep, targets: [ jobs ] }
`)
	b.write("chain.stack.yaml", "stack: chain\ntemplate: chain.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "chain.stack.yaml")
	short, moved := 0, 0
	for _, test := range []struct {
		file, template string
		rounds         int
	}{{"bulletin-test.stack.yaml", "bulletin.yaml", 250}, {"chain.stack.yaml", "chain.yaml", 350}} {
		file, template := filepath.Join(b.dir, test.file), filepath.Join(b.dir, test.template)
		original, err := os.ReadFile(template)
		if err != nil {
			t.Fatal(err)
		}
		words := someWord.FindAllString(string(original), -1)
		r := rand.New(rand.NewPCG(11, uint64(test.rounds)))
		text := string(original)
		for round := range test.rounds {
			before := text
			if text = mutated(r, text, words); round%4 == 0 {
				text = string(original)
			}
			v := Values{Texts: map[string][]byte{template: []byte(text)}, Quick: true}
			got, err := b.Load(t.Context(), file, v)
			if err != nil {
				t.Fatal(err)
			}
			if b.inPart.Load() {
				short++
			}
			gotChanges, err := b.WhatIfRecorded(t.Context(), got)
			if err != nil {
				t.Fatal(err)
			}
			last, whole, rules, key, lib := b.lastDraft, b.lastWhole, b.rules, b.rulesKey, b.rulesLib
			memory := b.memory
			b.lastDraft, b.lastWhole, b.trees, b.memory = nil, nil, tosca.Trees{}, nil
			want, err := b.Load(t.Context(), file, v)
			if err != nil {
				t.Fatal(err)
			}
			wantChanges, err := b.WhatIfRecorded(t.Context(), want)
			if err != nil {
				t.Fatal(err)
			}
			b.lastDraft, b.lastWhole, b.rules, b.rulesKey, b.rulesLib, b.memory = last, whole, rules, key, lib, memory
			if got.InPart() { // its findings are where they belong; all else is the same but for its lines
				moved++
				if g, w := fmt.Sprint(got.Findings), fmt.Sprint(want.Findings); g != w {
					t.Fatalf("%s, round %d: %s\ngot\n%s\nwant\n%s", test.file, round, diffOf(before, text), g, w)
				}
				if g, w := anyLine(told(got)), anyLine(told(want)); g != w {
					t.Fatalf("%s, round %d: %s\ngot\n%s\nwant\n%s", test.file, round, diffOf(before, text), only(g, w), only(w, g))
				}
				if fmt.Sprint(gotChanges.Tally) != fmt.Sprint(wantChanges.Tally) {
					t.Fatalf("%s, round %d: %s\ngot\n%v\nwant\n%v", test.file, round, diffOf(before, text), gotChanges.Tally, wantChanges.Tally)
				}
				v.Quick = false
				if got, err = b.Load(t.Context(), file, v); err != nil || got.InPart() {
					t.Fatal(err, got.InPart())
				}
				if gotChanges, err = b.WhatIfRecorded(t.Context(), got); err != nil {
					t.Fatal(err)
				}
			}
			if g, w := told(got), told(want); g != w {
				t.Fatalf("%s, round %d: %s\ngot\n%s\nwant\n%s", test.file, round, diffOf(before, text), only(g, w), only(w, g))
			}
			g, err := json.Marshal(gotChanges.ChangeSet)
			if err != nil {
				t.Fatal(err)
			}
			w, err := json.Marshal(wantChanges.ChangeSet)
			if err != nil {
				t.Fatal(err)
			}
			if string(g) != string(w) {
				t.Fatalf("%s, round %d: %s\ngot\n%s\nwant\n%s", test.file, round, diffOf(before, text), g, w)
			}
		}
	}
	if short < 100 {
		t.Errorf("only %d of the texts were read in part", short)
	}
	if moved < 20 {
		t.Errorf("only %d of them had other lines", moved)
	}
	t.Logf("%d of 600 were read in part, %d with other lines", short, moved)
}

var lineOf = regexp.MustCompile(`(\.yaml:)-?\d+`)

// anyLine is a text without the lines that places are in.
func anyLine(text string) string { return lineOf.ReplaceAllString(text, "$1") }

// only lists the lines of a text that another one has not.
func only(a, b string) string {
	have := map[string]bool{}
	for _, l := range strings.Split(b, "\n") {
		have[l] = true
	}
	var out []string
	for _, l := range strings.Split(a, "\n") {
		if !have[l] {
			out = append(out, l)
		}
	}
	return strings.Join(out, "\n")
}

func diffOf(a, b string) string { return only(a, b) + " => " + only(b, a) }
