package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What scripts print is there as they print it; all of them can be looked at.
func TestScriptsInATerminal(t *testing.T) {
	bin, home, dir := build(t), filepath.Join(t.TempDir(), "home"), t.TempDir()
	t.Setenv("BRICKROW_YARD_SPEED", "4")
	t.Setenv("BRICKROW_HOME", home)
	for name, text := range map[string]string{
		"huts.stack.yaml": "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\n",
		"lamp.sh":         "for i in 1 2 3 4 5 6 7 8; do echo \"lamp $i of 8 is lit for $WHO\"; sleep 5; done\nresult lamps 8\n",
		"huts.yaml": `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }
    low: { type: Subnet, properties: { cidr: 10.1.1.0/24 }, requirements: [ { network: net } ] }
    hut: { type: Server, properties: { size: small, image: fern-12 }, requirements: [ { subnet: low } ] }
    lamps:
      type: Software
      requirements: [ { host: hut } ]
      interfaces: { Lifecycle: { inputs: { WHO: ash }, operations: { create: lamp.sh } } }
`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	x := newTerminal(t, 142, 42, "sh", "-c", "cd "+dir+" && exec "+bin)
	x.wait("huts")
	x.keys("Enter", "3")
	x.wait("4 new")
	x.keys("Up", "Up", "Up")
	x.wait("operations.create.script", "lamp $i of 8")
	x.keys("d")
	x.wait("Deploy huts")
	x.keys("y")
	x.wait("4 Run", "you can leave this", "p pause")
	x.keys("Up", "Up", "Up", "Up") // to the top of the wall
	x.wait("output", "create of lamps on hut", "runs for", "lamp 3 of 8 is lit for ash")
	if strings.Contains(x.screen(), "lamp 8 of 8") {
		t.Error("it has not printed that yet")
	}
	x.keys("s")
	x.wait("scripts", "1 running", "output of create of lamps", "lamp 5 of 8")
	x.wait("done after", "lamp 8 of 8 is lit for ash", "result lamps 8")
	x.keys("Enter")
	x.wait("■ done after", "done after")
	y := newTerminal(t, 80, 24, "sh", "-c", "cd "+dir+" && exec "+bin)
	y.wait("huts")
	y.keys("Enter", "4")
	y.wait("done after")
	y.keys("s")
	y.wait("scripts", "lamp 8 of 8")
}
