package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/postgres/postgrestest"
)

// What is nobody's is captured, adopted and released on the command line.
func TestAdoptingOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "trial.yaml")
	out, _ := s.run(0, "capture", "--target", "workshop/alder-1", "--unowned", "-o", file)
	s.wants(strings.Join(strings.Fields(out), " "), "5 resources", "trial.stack.yaml", "nothing is adopted before that is deployed")
	_, errs := s.run(1, "capture", "--target", "workshop/alder-1", "--unowned", "-o", file)
	s.wants(errs, "is there already; nothing is written")
	stackFile := filepath.Join(dir, "trial.stack.yaml")
	out, _ = s.run(0, "whatif", stackFile)
	s.wants(out, "5 adopt", "it is there as network~")
	s.run(0, "check", stackFile, "--target")
	s.run(0, "deploy", stackFile, "--yes")
	s.run(0, "whatif", stackFile, "--expect-none")
	if list := decode[[]struct{ ID string }](t, first(s.run(0, "cloud", "--unowned", "--json"))); len(list) != 0 {
		t.Errorf("%d are nobody's still", len(list))
	}
	_, errs = s.run(1, "release", "trial", "network", "--yes")
	s.wants(errs, "speaks of it still")
	out, _ = s.run(0, "release", "trial", "queue", "--yes", "--write")
	s.wants(out, "◇ kept  queue", "it is released", "-    queue:", "-  queue: queue~")
	out, _ = s.run(0, "cloud", "--stack", "trial")
	s.wants(out, "left there by the stack")
	id := decode[[]struct{ ID, Type string }](t, first(s.run(0, "cloud", "--type", "Queue", "--stack", "trial", "--json")))[0].ID

	other := filepath.Join(dir, "other.stack.yaml")
	for path, text := range map[string]string{
		filepath.Join(dir, "other.yaml"): "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    line: { type: Queue }\n    more: { type: Topic }\n",
		other:                            "stack: other\ntemplate: other.yaml\ntarget: workshop/alder-1\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, errs = s.run(1, "adopt", other, "lines", id, "--yes")
	s.wants(errs, "lines")
	out, _ = s.run(0, "adopt", other, "line", id, "--yes", "--note", "ours now")
	s.wants(out, "◈ adopt line")
	out, _ = s.run(0, "whatif", other)
	s.wants(out, "1 new", "1 same")
	out, _ = s.run(0, "history", "other")
	s.wants(out, "1 adopt", "ours now")
	out, errs = s.run(0, "release", "trial", "old_snow_photos", "--yes")
	s.wants(errs, "the files still have old_snow_photos")
	s.wants(out, "◇ kept  old_snow_photos")
	text, _ := os.ReadFile(file)
	s.run(0, "deploy", stackFile, "--yes") // which takes it back, as the files still have it
	s.run(0, "release", "trial", "old_snow_photos", "--yes", "--write")
	now, _ := os.ReadFile(file)
	if !strings.Contains(string(text), "old_snow_photos:") || strings.Contains(string(now), "    old_snow_photos:\n") {
		t.Errorf("it is in the template still:\n%s", now)
	}
	// from one stack into another
	third := filepath.Join(dir, "third.stack.yaml")
	for path, text := range map[string]string{
		filepath.Join(dir, "third.yaml"): "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    way: { type: Queue }\n",
		third:                            "stack: third\ntemplate: third.yaml\ntarget: workshop/alder-1\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s.run(2, "adopt", third, "way", "other/line")
	s.run(0, "yard", "fault", "add", "--name", "line", "--on", "update", "--reason", "not now")
	s.run(4, "adopt", third, "way", "other/line", "--yes")
	whose := func() string {
		for _, r := range decode[[]struct {
			ID    string
			Owner *struct{ Stack, Node string }
		}](t, first(s.run(0, "cloud", "--type", "Queue", "--json"))) {
			if r.ID == id && r.Owner != nil {
				return r.Owner.Stack + "/" + r.Owner.Node
			}
		}
		return ""
	}
	if is := whose(); is != "other/line" {
		t.Errorf("it did not come under the other one, and is %s", is)
	}
	s.run(0, "yard", "fault", "clear")
	out, errs = s.run(0, "adopt", third, "way", "other/line", "--yes")
	s.wants(out, "◇ kept  line", "◈ adopt way")
	s.wants(errs, "the files of other still have line")
	if is := whose(); is != "third/way" {
		t.Errorf("it is %s", is)
	}
	s.run(1, "adopt", third, "way", "other/nothing", "--yes")
	for _, args := range [][]string{{"capture", "--target", "x", "--unowned", "-o", file}, {"capture", "--target", "workshop/alder-1", "-o", file},
		{"capture", "--unowned", "-o", file}} {
		s.run(2, args...)
	}
	_, errs = s.run(1, "capture", "--target", "workshop/alder-1", "--id", "queue~none", "-o", filepath.Join(dir, "none.yaml"))
	s.wants(errs, "there is no queue~none")
	s.run(1, "capture", "--target", "workshop/alder-1", "--unowned", "-o", filepath.Join(dir, "Bad Name.yaml"))
}

// What stands on a server that is reached through a connection is listed and adopted by the id that the list gives.
func TestAdoptingThroughAConnection(t *testing.T) {
	s, server := newShell(t), postgrestest.Start(t)
	server.Exec(t, "postgres", "create role elder login connection limit 4")
	dir := t.TempDir()
	file := filepath.Join(dir, "elders.stack.yaml")
	template := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.postgresql:1 } ]\nservice_template:\n  inputs: { port: { type: integer }, word: { type: Secret } }\n" +
		"  node_templates:\n    server: { type: PostgresConnection, properties: { host: 127.0.0.1, port: { $get_input: port }, user: keeper, password: { $get_input: word }, tls: off } }\n"
	for path, text := range map[string]string{filepath.Join(dir, "word"): server.Password, filepath.Join(dir, "elders.yaml"): template,
		file: "stack: elders\ntemplate: elders.yaml\ntarget: workshop/alder-1\ninputs: { port: " + server.Port + ", word: { from_file: word } }\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s.run(0, "deploy", file, "--yes")
	id := ""
	for _, r := range decode[[]struct {
		ID, Type   string
		Properties map[string]any
	}](t, first(s.run(0, "cloud", "--type", "PostgresRole", "--json"))) {
		if r.Properties["name"] == "elder" {
			id = r.ID
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "elders.yaml"), []byte(template+"    elder: { type: PostgresRole, properties: { name: elder, login: true, connections: 4 }, requirements: [ { through: server } ] }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, _ := s.run(0, "adopt", file, "elder", id, "--yes")
	s.wants(out, "1 adopt")
	s.run(0, "whatif", file, "--expect-none")
}
