package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/programs"
)

func TestScriptsOfAStack(t *testing.T) {
	s := newShell(t)
	s.dir = t.TempDir()
	s.write("up.sh", "echo \"hello $WORD\"; echo oops >&2; result said hi; exit $CODE\n")
	s.write("huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/cedar-2\n")
	s.write("huts.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { code: { type: integer, default: 0 }, word: { type: Secret, default: hunter2-of-the-huts } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }
    low: { type: Subnet, properties: { cidr: 10.1.1.0/24 }, requirements: [ { network: net } ] }
    hut: { type: Server, properties: { size: small, image: fern-12 }, requirements: [ { subnet: low } ] }
    soft:
      type: Software
      requirements: [ { host: hut } ]
      interfaces: { Lifecycle: { inputs: { WORD: { $get_input: word }, CODE: { $get_input: code } }, operations: { create: up.sh } } }
`)
	s.run(0, "deploy", s.file("huts.stack.yaml"), "--yes")
	out, _ := s.run(0, "scripts", "huts")
	s.wants(out, "create  soft  on hut (server~", "done")
	out, _ = s.run(0, "scripts", "huts", "soft")
	s.wants(out, "    hello (secret)", "  ! oops", "  = said  hi")
	list := decode[[]jsonScript](t, first(s.run(0, "scripts", "huts", "--json")))
	if len(list) != 1 || list[0].Node != "soft" || list[0].Operation != "create" || list[0].State != "done" || list[0].Results["said"] != "hi" || list[0].Begun == nil ||
		list[0].Output != "hello (secret)\n" || list[0].ServerNode != "hut" {
		t.Errorf("%+v", list)
	}
	out, errs := s.run(4, "deploy", s.file("huts.stack.yaml"), "--yes", "-i", "code=9")
	s.wants(out+errs, "exit code 9: oops", "'brickrow scripts huts' shows what it printed")
	out, _ = s.run(0, "scripts", "huts", "soft")
	s.wants(out, "failed", "exit code 9")
	out, _ = s.run(0, "scripts", "bulletin-test")
	s.wants(out, "create  forecast_setup  on forecasters")
	out, _ = s.run(0, "scripts", "ridge-base")
	s.wants(out, "ridge-base has no scripts")
	s.run(1, "scripts", "nowhere")
	all, _ := s.run(0, "scripts", "huts", "soft")
	if strings.Contains(all+out+errs, "hunter2") {
		t.Error("a secret is told")
	}
}

func TestTypeTest(t *testing.T) {
	s := newShell(t)
	s.dir = t.TempDir()
	s.write("lamp.types-1.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  Lamp:
    derived_from: ProgramResource
    properties: { name: { type: string, metadata: { swap: "true" } }, lit: { type: boolean, default: true } }
    interfaces:
      Resource:
        operations: { create: &it { implementation: { primary: { file: lamp.sh, type: Executable, properties: { interpreter: sh } } } }, read: *it, update: *it, delete: *it }
`)
	program := `in=$(cat); text() { printf '%s' "$in" | sed -n 's/.*"'$1'":"\([^"]*\)".*/\1/p'; }
lit=$(printf '%s' "$in" | sed 's/.*"properties":{\([^}]*\)}.*/\1/' | sed -n 's/.*"lit":\([a-z]*\).*/\1/p'); name=$(text name); id=$(text id); mkdir -p lamps
: "${id:=lamp-$name}"
case $(text operation) in
create|update) echo "$name $lit" > "lamps/$id" ;;
delete) rm -f "lamps/$id"; echo '{"gone":true}'; exit ;;
esac
if [ -e "lamps/$id" ]; then read -r name lit < "lamps/$id"; printf '{"id":"%s","properties":{"name":"%s","lit":%s}}\n' "$id" "$name" "$lit"; else echo '{"gone":true}'; fi
`
	s.write("lamp.sh", program)
	out, _ := s.run(0, "type", "test", s.file("lamp.types-1.yaml"), "Lamp")
	s.wants(out, "■ create makes it  its id is lamp-scratch-", "■ update changes it", "Lamp: 10 of 10 hold")
	if left, _ := os.ReadDir(filepath.Join(s.dir, "lamps")); len(left) != 0 {
		t.Errorf("it left %v", left)
	}
	s.write("lamp.sh", strings.Replace(program, "create|update)", "create)", 1))
	checks := decode[[]programs.Check](t, first(s.run(1, "type", "test", s.file("lamp.types-1.yaml"), "Lamp", "--json", "-i", "name=scratch-x", "--edit", "lit=false")))
	failed := ""
	for _, c := range checks {
		if !c.Passes {
			failed += c.Name + ": " + c.Said
		}
	}
	if !strings.Contains(failed, "update changes it: lit is true, and was asked to be false") {
		t.Errorf("%s %+v", failed, checks)
	}
	_, errs := s.run(1, "type", "test", s.file("lamp.types-1.yaml"), "Lmp")
	s.wants(errs, "has no node type Lmp", "did you mean 'Lamp'")
	_, errs = s.run(1, "type", "test", s.file("lamp.types-1.yaml"), "Server")
	s.wants(errs, "does not derive from ProgramResource")
	s.run(2, "type", "test", s.file("lamp.types-1.yaml"), "Lamp", "-i", "name")
}
