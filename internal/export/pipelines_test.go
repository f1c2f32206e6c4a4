package export

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"brickrow/internal/tosca"
)

// TestSARIF holds what is written against the schema of SARIF.
func TestSARIF(t *testing.T) {
	list := tosca.Findings{
		{Pos: tosca.Pos{File: "a b/row.yaml", Line: 3, Column: 7}, Severity: tosca.Error, Code: "unknown-type", Message: "there is no type 'Serve'", Fix: "did you mean 'Server'?"},
		{Pos: tosca.Pos{File: "/elsewhere/x.yaml", Line: 1}, Severity: tosca.Warning, Code: "no-effect", Message: "ümlaut ▲ \x01"},
		{Severity: tosca.Warning, Code: "no-effect", Message: "of no place"},
	}
	var b bytes.Buffer
	if err := SARIF(&b, list, "/work/a folder", "0.1", func(code string) string { return tosca.Codes[code] }); err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	text, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	if err := c.AddResource("sarif.json", schema); err != nil {
		t.Fatal(err)
	}
	compiled, err := c.Compile("sarif.json")
	if err != nil {
		t.Fatal(err)
	}
	holds := func(text []byte) error {
		x, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		return compiled.Validate(x)
	}
	if err := holds(b.Bytes()); err != nil {
		t.Errorf("%v\n%s", err, b.String())
	}
	if err := holds(bytes.Replace(b.Bytes(), []byte(`"level": "error"`), []byte(`"level": "bad"`), 1)); err == nil {
		t.Error("the schema takes anything")
	}
	b.Reset()
	if err := SARIF(&b, nil, "/work", "0.1", func(string) string { return "" }); err != nil || holds(b.Bytes()) != nil {
		t.Errorf("nothing found: %v %s", err, b.String())
	}
	b.Reset()
	_ = SARIF(&b, list, "/work/a folder", "0.1", func(string) string { return "" })
	var out struct {
		Runs []struct {
			Results []struct {
				RuleIndex int
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI, URIBaseID string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &out); err != nil {
		t.Fatal(err)
	}
	r := out.Runs[0].Results
	if at := r[0].Locations[0].PhysicalLocation; at.ArtifactLocation.URI != "a%20b/row.yaml" || at.ArtifactLocation.URIBaseID != "FOLDER" || at.Region.StartColumn != 7 || r[0].RuleIndex != 1 {
		t.Errorf("%+v", r[0])
	}
	if at := r[1].Locations[0].PhysicalLocation.ArtifactLocation; at.URI != "file:///elsewhere/x.yaml" || len(r[2].Locations) > 0 {
		t.Errorf("%+v", r)
	}
}

// TestJUnit holds what is written against a schema of JUnit XML.
func TestJUnit(t *testing.T) {
	j := &JUnit{Name: "a <fleet>"}
	j.Add(Suite{Name: "wave 1", At: "2026-11-26T10:00:00", Hostname: "hut", Cases: []Check{
		{Name: "good", Class: "workshop/alder-1", Time: Seconds(1500e6)},
		{Name: "bad & worse", Class: "c", Failure: &Failure{Message: "no \x1b[31mhost\x00 has \"room\"", Kind: "undone", Text: "]]> \xff"}},
		{Name: "left out", Class: "c", Skipped: &Skipped{"it is waiting"}},
	}})
	j.Add(Suite{Name: "none"})
	var b bytes.Buffer
	if err := j.Write(&b); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(b.String(), `tests="3" failures="1"`) || !strings.Contains(b.String(), `time="1.500"`) {
		t.Error(b.String())
	}
	file := filepath.Join(t.TempDir(), "j.xml")
	if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("xmllint", "--noout", "--schema", "testdata/junit.xsd", file).CombinedOutput(); err != nil {
		t.Errorf("%v %s\n%s", err, out, b.String())
	}
	if err := os.WriteFile(file, bytes.Replace(b.Bytes(), []byte("<testcase name="), []byte("<testcase label="), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := exec.Command("xmllint", "--noout", "--schema", "testdata/junit.xsd", file).Run(); err == nil {
		t.Error("the schema takes anything")
	}
}
