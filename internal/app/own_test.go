package app

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// rotaTemplate has a type of one's own: a rota of keepers, which a shell program keeps in a file.
const rotaTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  Rota:
    derived_from: ProgramResource
    metadata: { time_limit: 30 s, at_once: "2" }
    properties:
      hut: { type: string, metadata: { swap: "true" } }
      keepers: { type: list, entry_schema: string }
      word: { type: Secret, required: false }
    attributes:
      next: { type: string }
      page: { type: string }
    interfaces:
      Resource:
        operations: { create: &rota { implementation: { primary: { file: programs/rota, type: Executable, properties: { interpreter: sh } } } }, read: *rota, update: *rota, delete: *rota }
      Actions:
        operations: { turn: *rota }
service_template:
  inputs: { hut: { type: string, default: upper }, keepers: { type: list, entry_schema: string, default: [ ash, birch ] }, word: { type: Secret, default: hunter2-of-the-huts } }
  node_templates:
    rota: { type: Rota, properties: { hut: { $get_input: hut }, keepers: { $get_input: keepers }, word: { $get_input: word } } }
    note: { type: Topic, properties: { label: { $concat: [ next is , { $get_attribute: [ rota, next ] } ] } } }
  outputs:
    next: { value: { $get_attribute: [ rota, next ] } }
`

// rotaProgram keeps each rota in a file beside it: the first line is who is next. It counts its
// calls, and goes wrong as a file beside it says.
const rotaProgram = `in=$(cat)
text() { printf '%s' "$in" | sed -n 's/.*"'"$1"'":"\([^"]*\)".*/\1/p'; }
props=$(printf '%s' "$in" | sed 's/.*"properties":{\([^}]*\)}.*/\1/')
get() { case $1 in
  properties.keepers) printf '%s' "$props" | sed -n 's/.*"keepers":\[\([^]]*\)\].*/\1/p' | sed 's/"//g;s/,/ /g' ;;
  properties.*) printf '%s' "$props" | sed -n 's/.*"'"${1#*.}"'":"\([^"]*\)".*/\1/p' ;;
  inputs.*) printf '%s' "$in" | sed -n 's/.*"inputs":{[^}]*"'"${1#*.}"'":"\([^"]*\)".*/\1/p' ;;
  *) text "$1" ;;
esac; }
op=$(get operation); key=$(get key); id=$(get id); hut=$(get properties.hut); keepers=$(get properties.keepers)
mkdir -p kept
if [ "$op" != read ]; then echo "$op $key" >> calls; fi
if [ -e wrong ]; then . ./wrong; fi
tell() { printf '{"id":"%s","properties":{"hut":"%s","keepers":[%s]},"attributes":{"next":"%s","page":"page of %s"},"secret_attributes":["page"]}\n' "$1" "$(cut -d: -f1 kept/$1)" \
  "$(cut -d: -f2 kept/$1 | sed 's/ /","/g;s/^/"/;s/$/"/')" "$(cut -d: -f3 kept/$1)" "$(cut -d: -f1 kept/$1)"; }
case $op in
create)
  if [ -z "$(get properties.word)" ]; then echo '{"problem":{"title":"no word"}}'; exit 1; fi
  id=rota-$hut
  echo '{"step":"writing the rota","number":1,"of":1}'
  echo "$hut:$keepers:${keepers%% *}" > kept/$id; tell $id ;;
read)
  if [ -z "$id" ]; then id=rota-$hut; fi
  if [ -e kept/$id ]; then tell $id; else echo '{"gone":true}'; fi ;;
update) echo "$hut:$keepers:${keepers%% *}" > kept/$id; tell $id ;;
delete) rm -f kept/$id; echo '{"gone":true}' ;;
action) echo "$hut:$keepers:$(get inputs.to)" > kept/$id; tell $id ;;
esac
`

func newRota(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.t = t
	b.dir = t.TempDir()
	b.write("ward.yaml", rotaTemplate)
	b.write("ward.stack.yaml", "stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\n")
	b.write("programs/rota", rotaProgram)
	return b
}

func (b *bench) kept() string {
	b.t.Helper()
	var out []string
	paths, _ := filepath.Glob(filepath.Join(b.dir, "kept", "*"))
	more, _ := filepath.Glob(filepath.Join(b.dir, "programs", "kept", "*"))
	for _, p := range append(paths, more...) {
		text, err := os.ReadFile(p)
		if err != nil {
			b.t.Fatal(err)
		}
		out = append(out, filepath.Base(p)+" "+strings.TrimSpace(string(text)))
	}
	return strings.Join(out, "\n")
}

// withList lets the program list what it keeps, and yields the template.
func (b *bench) withList() string {
	listing := strings.Replace(rotaTemplate, "delete: *rota }", "delete: *rota, list: *rota }", 1)
	b.write("ward.yaml", listing)
	b.write("programs/rota", strings.Replace(rotaProgram, "update) echo", `list) sep=; printf '{"items":['; for f in kept/*; do printf '%s{"id":"%s"}' "$sep" "${f#kept/}"; sep=,; done; echo ']}' ;;
update) echo`, 1))
	return listing
}

// TestTheFirstOfATypeIsAdopted adopts what a program has made of which nothing was made from here: the program is asked what is there
// only where somebody lets it be asked.
func TestTheFirstOfATypeIsAdopted(t *testing.T) {
	t.Parallel()
	b := newRota(t)
	b.withList()
	b.write("kept/rota-upper", "upper:ash birch:ash")
	b.write("ward.stack.yaml", "stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\nadopt: { rota: rota-upper }\n")
	if p := b.preview("ward.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), "whether there is a rota-upper in workshop/alder-1 is not known") ||
		!strings.Contains(fmt.Sprint(p.Findings), "--ask-programs") {
		t.Errorf("%v", p.Findings)
	}
	if _, err := os.Stat(filepath.Join(b.dir, "calls")); err == nil {
		t.Error("the program was called")
	}
	b.AskPrograms.Store(true)
	p := b.preview("ward.stack.yaml")
	if ch := p.Change("rota"); ch == nil || ch.Kind != "adopt" {
		t.Fatalf("%+v %v", ch, p.Findings)
	}
	b.AskPrograms.Store(false)
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Errorf("after it was adopted: %+v", p.Changes)
	}
	b.delete("ward")
	b.wantSame("what is kept after the deletion", b.kept(), "")
}

func TestOwnTypes(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	b.wantSame("what the program keeps", b.kept(), "rota-upper upper:ash birch:ash")
	b.wantSame("the result", b.said("next"), "ash")
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Fatalf("there is something to do still: %+v", p.Change("rota").Properties)
	}
	b.deploy(run.StatusDone, "ward.stack.yaml", "keepers=[ cedar, ash ]")
	b.wantSame("after the edit", b.kept(), "rota-upper upper:cedar ash:cedar")
	p := b.preview("ward.stack.yaml", "keepers=[ cedar, ash ]", "hut=lower")
	if p.Change("rota").Kind != "swap" {
		t.Errorf("another hut is %s", p.Change("rota").Kind)
	}
	b.carry(p, "undo")
	b.wantSame("after the swap", b.kept(), "rota-lower lower:cedar ash:cedar")
	b.delete("ward")
	b.wantSame("after the deletion", b.kept(), "")
}

// However a program goes wrong, it is said, nothing is left, and no secret is told.
func TestOwnProgramsThatFail(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	secret := "hunter2-of-the-huts"
	for wrong, want := range map[string]string{
		`if [ $op = create ]; then sleep 60; fi`:                                                                             "took longer than 5s",
		`if [ $op = create ]; then trap '' TERM; while :; do sleep 1; done; fi`:                                              "took longer than 5s",
		`if [ $op = create ]; then kill -9 $$; fi`:                                                                           "ended by the signal",
		`if [ $op = create ]; then echo no JSON; fi`:                                                                         "not a JSON object",
		`if [ $op = create ]; then exit 3; fi`:                                                                               "exit code 3, and no answer",
		`if [ $op = create ]; then echo "password $(get properties.word)" >&2; exit 0; fi`:                                   "no answer; it said: password (secret)",
		`if [ $op = create ]; then echo '{"id":"a"}'; echo '{"id":"b"}'; exit 0; fi`:                                         "after its answer",
		`if [ $op = create ]; then echo '{"id":"a","more":1}'; exit 0; fi`:                                                   "cannot be read",
		`if [ $op = create ]; then echo '{"attributes":{}}'; exit 0; fi`:                                                     "has no id",
		`if [ $op = create ]; then echo '{"problem":{"title":"no","detail":"the hut is shut","fix":"open it"}}'; exit 1; fi`: "the hut is shut",
		`if [ $op = create ]; then trap '' EXIT; (trap '' TERM; sleep 50 >&2) & fi`:                                          "",
		// it made the rota and did not say so: that is looked for, and taken back
		`if [ $op = create ]; then echo "$hut:ash:ash" > kept/rota-$hut; echo gone wrong; exit 0; fi`:                   "not a JSON object",
		`if [ $op = create ]; then echo '{"step":"'$(get properties.word)'","number":1,"of":2}'; sleep 0.2; exit 9; fi`: "exit code 9",
	} {
		b.write("wrong", wrong)
		limit := "time_limit: 30 s"
		if strings.Contains(want, "longer") {
			limit = "time_limit: 5 s"
		}
		b.write("ward.yaml", strings.Replace(rotaTemplate, "time_limit: 30 s", limit, 1))
		if want == "" {
			b.deploy(run.StatusDone, "ward.stack.yaml")
			b.delete("ward")
			continue
		}
		r := b.deploy(run.StatusUndone, "ward.stack.yaml")
		report, err := b.Report(t.Context(), b.stack("ward"), r)
		if err != nil || !strings.Contains(report.Markdown(), want) || strings.Contains(report.Markdown(), secret) {
			t.Errorf("%s: %v %s", wrong, err, report.Markdown())
		}
		b.wantSame("what is left after "+wrong, b.kept(), "")
		b.wantSame("the cloud after "+wrong, b.listing("ward"), "[]")
		b.write("wrong", "")
		if st := b.stack("ward"); st.Revision != 0 {
			t.Errorf("%s: the stack is at revision %d", wrong, st.Revision)
		}
	}
	b.App.Close()
	_ = filepath.WalkDir(b.Home, func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			if text, err := os.ReadFile(p); err != nil || strings.Contains(string(text), secret) {
				t.Errorf("the secret stands in %s (%v)", p, err)
			}
		}
		return nil
	})
}

// What programs keep is part of drift, of going back, of adoption and of actions.
func TestOwnTypesAsTheyAre(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	b.write("kept/rota-upper", "upper:ash willow:willow\n")
	d, err := b.Drift(t.Context(), b.stack("ward"))
	if err != nil || len(d.Differs) != 1 || d.Differs[0].Path != "keepers" {
		t.Fatalf("%v %+v", err, d)
	}
	p := b.preview("ward.stack.yaml")
	if ch := p.Change("rota"); ch.Kind != "edit" || !strings.Contains(strings.Join(ch.Because, " "), "keepers was changed in the cloud outside of this store; deploying puts it back") {
		t.Errorf("%s %v", ch.Kind, ch.Because)
	}
	b.carry(p, "undo")
	b.wantSame("put back", b.kept(), "rota-upper upper:ash birch:ash")
	// An edit that fails further on is put back.
	b.fault(yard.Fault{Name: "note", Times: 1})
	b.deploy(run.StatusUndone, "ward.stack.yaml", "keepers=[ willow ]")
	b.wantSame("undone", b.kept(), "rota-upper upper:ash birch:ash")
	// A program that is another one is recorded, and called from then on.
	b.write("programs/rota", strings.Replace(rotaProgram, "case $op in", "# mended\ncase $op in", 1))
	p = b.preview("ward.stack.yaml")
	if ch := p.Change("rota"); ch.Kind != "edit" || !strings.Contains(strings.Join(ch.Because, " "), "the program programs/rota has changed (rota:16)") {
		t.Errorf("%s %v", ch.Kind, ch.Because)
	}
	b.carry(p, "undo")
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Errorf("%+v", p.Change("rota").Properties)
	}
	b.wantSame("calls of it", strings.Join(callsOf(t, b), " "), "create update update update")
	// An action.
	acts, err := b.WhatIfAct(t.Context(), b.stack("ward"), "rota", "turn", map[string]string{"to": "birch"})
	if err != nil {
		t.Fatal(err)
	}
	ticket, err := b.PrepareActs(t.Context(), acts)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("%v %s", err, r.Reason)
	}
	b.wantSame("turned", b.kept(), "rota-upper upper:ash birch:birch")
	b.wantSame("the result", b.said("next"), "birch")
	// The files may be gone: what was deployed is known.
	if err := os.RemoveAll(filepath.Join(b.dir, "programs")); err != nil {
		t.Fatal(err)
	}
	b.delete("ward")
	b.wantSame("removed", b.kept(), "")
}

func callsOf(t *testing.T, b *bench) (out []string) {
	text, err := os.ReadFile(filepath.Join(b.dir, "calls"))
	if err != nil {
		t.Fatal(err)
	}
	for l := range strings.Lines(string(text)) {
		out = append(out, strings.Fields(l)[0])
	}
	return out
}

// A program says by itself how a change of it is made; one that cannot be read stops what-ifs.
func TestOwnProgramsPlan(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.write("ward.yaml", strings.Replace(rotaTemplate, "delete: *rota }", "delete: *rota, plan: *rota }", 1))
	b.write("programs/rota", strings.Replace(rotaProgram, "case $op in", `case $op in
plan) case $keepers in *willow*) echo '{"plan":"drop_first","because":["keepers"]}' ;; *elm*) exit 1 ;; *) echo '{"plan":"in_place"}' ;; esac ;;`, 1))
	b.deploy(run.StatusDone, "ward.stack.yaml")
	p := b.preview("ward.stack.yaml", "keepers=[ willow ]")
	if ch := p.Change("rota"); ch.Kind != "swap" || !ch.DropFirst || ch.Properties[0].Effect != "swap" {
		t.Errorf("%s %v %+v", ch.Kind, ch.DropFirst, ch.Properties)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.wantSame("made again", b.kept(), "rota-upper upper:willow:willow")
	b.wantSame("calls of it", strings.Join(callsOf(t, b), " "), "create plan delete create")
	if ch := b.preview("ward.stack.yaml", "keepers=[ ash ]").Change("rota"); ch.Kind != "edit" {
		t.Errorf("another edit is a %s", ch.Kind)
	}
	d, err := b.Load(t.Context(), filepath.Join(b.dir, "ward.stack.yaml"), Values{Flags: []string{"keepers=[ elm ]"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.WhatIf(t.Context(), d); err == nil || !strings.Contains(err.Error(), "plan of Rota by programs/rota: it ended with exit code 1") {
		t.Errorf("a plan that fails: %v", err)
	}
	b.write("wrong", "if [ $op = read ]; then exit 5; fi")
	p, err = b.WhatIf(t.Context(), d)
	if err != nil || len(p.Unread) != 1 || !strings.Contains(p.Unread[0].Why, "read of Rota by programs/rota: it ended with exit code 5") || !p.Findings.HasErrors() ||
		!strings.Contains(fmt.Sprint(p.Findings), "what a change of it would do is not known either") {
		t.Errorf("one that cannot be read: %v %+v", err, p.Findings)
	}
	b.write("wrong", "")
	b.delete("ward")
}

// On another machine with the same store nothing of what programs keep differs, secrets neither, and
// it can be changed and removed there.
func TestOwnTypesOnAnotherMachine(t *testing.T) {
	t.Parallel()
	b := newRota(t)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	if err := b.App.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(b.Home, "programs")); err != nil {
		t.Fatal(err)
	}
	a, err := Open(Options{Home: b.Home, Store: storeOf(b.t, b.Home), Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	b.App = a
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Errorf("it differs: %+v", p.Change("rota").Properties)
	}
	b.deploy(run.StatusDone, "ward.stack.yaml", "keepers=[ elm ]")
	b.wantSame("changed", b.kept(), "rota-upper upper:elm:elm")
	if p := b.preview("ward.stack.yaml", "word=another-word-here"); p.Change("rota").Kind != "edit" {
		t.Errorf("another secret is a %s", p.Change("rota").Kind)
	}
	b.delete("ward")
	b.wantSame("removed", b.kept(), "")
}

// TestLookingRunsNothingNew brings a program along in a change: no look runs it, however it comes, until somebody has looked at
// it and lets it be asked, or deploys it.
func TestLookingRunsNothingNew(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	ran := func() bool {
		_, err := os.Stat(filepath.Join(b.dir, "ran"))
		return err == nil
	}
	look := func(how string) *Preview {
		t.Helper()
		d, err := b.Load(t.Context(), filepath.Join(b.dir, "ward.stack.yaml"), Values{Flags: []string{"keepers=[ elm ]"}})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := b.WhatIfRecorded(t.Context(), d); err != nil {
			t.Fatal(err)
		}
		p, err := b.WhatIf(t.Context(), d)
		if err != nil {
			t.Fatalf("%s: %v", how, err)
		}
		if _, err := b.Drift(t.Context(), b.stack("ward")); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Look(t.Context(), b.stack("ward").Target); err != nil {
			t.Fatal(err)
		}
		if ran() {
			t.Errorf("%s: it has run", how)
		}
		return p
	}
	stranger := "touch ran; " + strings.Replace(rotaProgram, "case $op in", `case $op in
plan) echo '{"plan":"drop_first","because":["keepers"]}' ;;`, 1)
	b.write("programs/rota", stranger)
	if p := look("another program"); len(p.NotAsked()) > 0 || p.Change("rota").Kind != "edit" {
		t.Errorf("not asked %v, %s", p.NotAsked(), p.Change("rota").Kind)
	}
	b.write("ward.yaml", strings.Replace(rotaTemplate, "delete: *rota }", "delete: *rota, plan: *rota }", 1))
	p := look("a plan that is new")
	if ch := p.Change("rota"); ch.Kind != "edit" || ch.NotAsked != "programs/rota" || !strings.Contains(findingCodes(p), "not-asked") {
		t.Errorf("%s, not asked %q: %v", ch.Kind, ch.NotAsked, p.Findings)
	}
	if _, err := b.Prepare(t.Context(), p, "undo"); err == nil || !strings.Contains(err.Error(), "give --ask-programs") {
		t.Errorf("what is not known can be deployed: %v", err)
	}
	if err := b.Save(p, filepath.Join(b.dir, "plan.json")); err == nil {
		t.Error("what is not known can be saved")
	}
	b.AskPrograms.Store(true)
	p = b.preview("ward.stack.yaml", "keepers=[ elm ]")
	if ch := p.Change("rota"); ch.Kind != "swap" || ch.NotAsked != "" || !ran() {
		t.Errorf("asked, it is a %s, not asked %q", ch.Kind, ch.NotAsked)
	}
	b.AskPrograms.Store(false)
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	os.Remove(filepath.Join(b.dir, "ran"))
	if ch := b.preview("ward.stack.yaml", "keepers=[ oak ]").Change("rota"); ch.Kind != "swap" || ch.NotAsked != "" || !ran() {
		t.Errorf("what was deployed is not asked: %s %q", ch.Kind, ch.NotAsked)
	}
	b.delete("ward")
}

// TestProgramsWithWhatTheyRestOn tells a program by the files that it names beside it, too.
func TestProgramsWithWhatTheyRestOn(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.write("programs/words", "greeting=hello\n")
	b.write("ward.yaml", strings.Replace(rotaTemplate, "properties: { interpreter: sh } } } }", "properties: { interpreter: sh } }, dependencies: [ programs/words ] } }", 1))
	b.write("programs/rota", ". ./programs/words; "+rotaProgram)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	if p := b.preview("ward.stack.yaml"); !p.Empty() || len(p.Unread) > 0 {
		t.Fatalf("%v %v", p.Unread, p.Tally)
	}
	b.write("programs/words", "touch ran\n")
	p := b.preview("ward.stack.yaml")
	if _, err := os.Stat(filepath.Join(b.dir, "ran")); err == nil || len(p.Unread) != 1 || !strings.Contains(p.Unread[0].Why, "was not asked") {
		t.Errorf("ran %v, not known %v", err == nil, p.Unread)
	}
	if ch := p.Change("rota"); ch.Kind != "edit" { // what it depends on is another file: that is recorded
		t.Errorf("%s %+v", ch.Kind, ch.Properties)
	}
	b.deploy(run.StatusDone, "ward.stack.yaml")
	if p := b.preview("ward.stack.yaml"); !p.Empty() || len(p.Unread) > 0 {
		t.Errorf("%v %v", p.Unread, p.Tally)
	}
	b.delete("ward")
}

// What a program lists and nobody has made from here is in the cloud, is nobody's, and can be adopted. Where it does not
// answer, what it listed last is there and not known.
func TestProgramsList(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	listing := b.withList()
	b.deploy(run.StatusDone, "ward.stack.yaml")
	for _, hut := range []string{"lower", "far"} {
		b.write("kept/rota-"+hut, hut+":oak fir:oak")
	}
	found := func() string {
		t.Helper()
		v, err := b.Look(t.Context(), stack.Target{Account: "workshop", Region: "alder-1"})
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range v.There {
			if r.Type == "Program" || strings.HasPrefix(r.ID, "rota-") {
				out = append(out, fmt.Sprintf("%s owned=%v unread=%v gone=%v", r.ID, r.Owner != nil, r.Unread(), r.Gone))
			}
		}
		return strings.Join(append(out, v.Targets[0].Partly...), "\n")
	}
	b.wantSame("what is there", found(), "rota-upper owned=true unread=false gone=false\nrota-far owned=false unread=false gone=false\nrota-lower owned=false unread=false gone=false")
	b.write("ward.yaml", strings.Replace(listing, "    note:", "    old: { type: Rota, properties: { hut: lower, keepers: [ oak, fir ], word: { $get_input: word } } }\n    note:", 1))
	b.write("ward.stack.yaml", "stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\nadopt: { old: rota-lower }\n")
	p := b.preview("ward.stack.yaml")
	if ch := p.Change("old"); ch == nil || ch.Kind != "adopt" {
		t.Fatalf("%+v %v", ch, p.Findings)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Errorf("after it was adopted: %+v", p.Change("old"))
	}
	b.write("wrong", `if [ "$op" = list ]; then echo no >&2; exit 3; fi`)
	if got := found(); !strings.Contains(got, "rota-lower owned=true unread=false") || !strings.Contains(got, "rota-far owned=false unread=true") || !strings.Contains(got, "list of Rota") {
		t.Errorf("where it does not answer:\n%s", got)
	}
	b.write("ward.stack.yaml", "stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\nadopt: { old: rota-lower, more: rota-none }\n")
	b.write("ward.yaml", strings.Replace(listing, "    note:", "    more: { type: Rota, properties: { hut: far, keepers: [ oak ] } }\n    note:", 1))
	if p := b.preview("ward.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), "whether there is a rota-none in workshop/alder-1 is not known") {
		t.Errorf("%v", p.Findings)
	}
	b.delete("ward") // and with it the type is not known any more, and its program not asked
	found()
	if list, err := b.Traces(t.Context(), stack.Which{Target: "workshop/alder-1", ID: "rota-far", Most: 9}); err != nil || len(list) > 0 {
		t.Errorf("of what nobody has made from here, and is there, the time line says %+v, %v", list, err)
	}
	if _, err := os.Stat(filepath.Join(b.dir, "kept", "rota-far")); err != nil {
		t.Error(err)
	}
}
