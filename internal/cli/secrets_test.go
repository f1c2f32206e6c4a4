package cli

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// quarry is a template in which secrets stand at every place where a value can.
// Each SECRET gets an input of its own.
const quarry = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
data_types:
  Login: { properties: { user: { type: string }, word: { type: Secret } } }
service_template:
  inputs:
%s
    logins: { type: list, entry_schema: Login }
    words: { type: map, entry_schema: Secret }
    marks: { type: map, key_schema: Secret, entry_schema: string }
    rider: { type: Login, default: { user: anna, word: "default-hush-word" } }
  node_templates:
    net: { type: Network, properties: { cidr: { $get_input: cidr }, label: { $concat: [ "net ", SECRET ] }, tags: { pw: SECRET, plain: stays } } }
    sub: { type: Subnet, properties: { cidr: 10.77.1.0/24, tags: { $get_input: words } }, requirements: [ { network: net } ] }
    gate: { type: Rules, properties: { allow: [ { direction: in, protocol: tcp, ports: "443", peer: { $get_input: peer } } ] }, requirements: [ { network: net } ] }
    key: { type: Key, properties: { public_key: { $concat: [ "ssh-key ", SECRET ] } } }
    reader: { type: Server, properties: { size: small, image: fern-12, user_data: { $concat: [ "#!/bin/sh\nlogin ", SECRET, "\n" ] }, label: { $get_input: [ words, first ] } }, requirements: [ { subnet: sub }, { rules: gate }, { key: key } ] }
    job_role: { type: Role, properties: { for: function, label: { $get_input: [ rider, word ] } } }
    job: { type: Function, properties: { runtime: go-1, env: { TOKEN: { $concat: [ "pager ", SECRET ] }, plain: stays, NESTED: { $join: [ [ a, SECRET ], "," ] }, WORD: { $get_input: [ logins, 0, word ] } } }, requirements: [ { role: job_role } ] }
    box: { type: Bucket, properties: { name: { $get_input: bucket }, tags: { $get_input: marks } } }
    alarm: { type: Topic }
    hear: { type: Subscription, properties: { to: { $concat: [ "https://hook.example/", SECRET ] } }, requirements: [ { topic: alarm } ] }
    db: { type: Database, properties: { engine: relational, version: "15", size: small, storage: 10 GiB, admin: SECRET, password: SECRET }, requirements: [ { subnet: sub } ] }
    safe: { type: Vault, properties: { value: SECRET } }
    zone: { type: Zone, properties: { domain: { $get_input: domain } } }
    rec: { type: Record, properties: { name: www, kind: TXT, values: [ { $concat: [ "v=", SECRET ] }, open ] }, requirements: [ { zone: zone } ] }
    crowd: { type: Cluster, properties: { version: "5", node_size: small }, requirements: [ { subnet: sub }, { role: crowd_role } ] }
    crowd_role: { type: Role, properties: { for: cluster } }
    work: { type: Workload, properties: { image: SECRET, env: { PW: SECRET } }, requirements: [ { cluster: crowd } ] }
  outputs:
    where: { value: { $get_attribute: [ rec, fqdn ] } }
    url: { value: { $get_attribute: [ box, url ] } }
    both: { value: { $concat: [ "x ", SECRET ] } }
    inside: { value: { a: [ { b: SECRET } ] } }
    entry: { value: { $get_attribute: [ crowd, access ] } }
`

// hush makes the template with its secrets, and what gives them: some as
// variables, some in files, some on the command line.
func hush(t *testing.T, s *shell) (stackFile string, flags, secrets []string) {
	t.Helper()
	given := map[string]string{"cidr": "10.77.0.0/16", "peer": "198.51.100.77/32", "bucket": "hush-bucket-name-55",
		"domain": "hush-valley.example"}
	text := quarry
	for n := 0; strings.Contains(text, "SECRET"); n++ {
		name := fmt.Sprintf("s%02d", n)
		given[name] = fmt.Sprintf("hush-<quarry>&%02d'%c/ü+w==", n, 'a'+n)
		text = strings.Replace(text, "SECRET", "{ $get_input: "+name+" }", 1)
	}
	var inputs, values strings.Builder
	names := make([]string, 0, len(given))
	for name := range given {
		names = append(names, name)
	}
	slices.Sort(names)
	for i, name := range names {
		secret := given[name]
		secrets = append(secrets, secret)
		fmt.Fprintf(&inputs, "    %s: { type: Secret }\n", name)
		switch i % 4 {
		case 0:
			t.Setenv("HUSH_"+strings.ToUpper(name), secret)
			fmt.Fprintf(&values, "  %s: { from_env: HUSH_%s }\n", name, strings.ToUpper(name))
		case 1:
			s.write("hush/"+name, secret+"\n")
			fmt.Fprintf(&values, "  %s: { from_file: hush/%s }\n", name, name)
		case 2:
			fmt.Fprintf(&values, "  %s: \"%s\"\n", name, secret)
		default:
			flags = append(flags, "-i", name+"="+secret)
		}
	}
	more := []string{"hush-word-in-list-1", "hush-word-in-list-2", "hush-word-in-map", "hush-key-of-a-map",
		"hush-in-inputs-file", "default-hush-word"}
	flags = append(flags, "-i", "logins=[ { user: ada, word: "+more[0]+" }, { user: bo, word: "+more[1]+" } ]", "-i",
		"marks={ "+more[3]+": set }")
	inputsFile := s.write("hush.inputs.yaml", "words: { first: "+more[2]+", second: "+more[4]+" }\n")
	flags = append(flags, "--inputs", inputsFile)
	s.write("hush.yaml", fmt.Sprintf(text, strings.TrimSuffix(inputs.String(), "\n")))
	return s.write("hush.stack.yaml", "stack: hush\ntemplate: hush.yaml\ntarget: summit/birch-1\ninputs:\n"+
		values.String()), flags, append(secrets, more...)
}

// leaks lists the secrets that stand in a text, in any of the usual forms.
func leaks(text []byte, secrets []string) []string {
	var out []string
	for _, s := range secrets {
		in := base64.StdEncoding.EncodeToString([]byte("\n\n\n" + s))[4:]
		quoted := strings.Trim(fmt.Sprintf("%q", s), `"`)
		escaped := strings.NewReplacer("<", `\u003c`, ">", `\u003e`, "&", `\u0026`).Replace(s)
		for form, f := range map[string]string{"clear": s, "base64": in[:max(len(in)-5, min(8, len(in)))],
			"url": url.QueryEscape(s), "path": url.PathEscape(s), "hex": hex.EncodeToString([]byte(s)),
			"quoted": quoted, "json": escaped} {
			if bytes.Contains(text, []byte(f)) {
				out = append(out, s+" ("+form+")")
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func TestSecretsAreNowhereInClear(t *testing.T) {
	s := newShell(t)
	if err := os.MkdirAll(s.file("hush"), 0o700); err != nil {
		t.Fatal(err)
	}
	file, flags, secrets := hush(t, s)
	loud := func(want int, args ...string) string {
		t.Helper()
		out, errs := s.run(want, args...)
		for _, l := range leaks([]byte(out+errs), secrets) {
			t.Errorf("brickrow %s: tells %s", args[0], l)
		}
		return out + errs
	}
	with := func(args ...string) []string { return append(args, flags...) }
	loud(0, with("check", file)...)
	loud(0, with("check", "--target", file)...)
	loud(0, with("resolve", file)...)
	loud(0, with("resolve", file, "--origins")...)
	loud(0, with("resolve", file, "--origins", "--json")...)
	loud(0, with("whatif", file)...)
	loud(0, with("whatif", file, "--json")...)
	loud(0, with("whatif", file, "--markdown")...)
	saved := filepath.Join(s.home, "hush.changeset")
	loud(0, with("whatif", file, "--save", saved)...)
	loud(0, "deploy", saved, "--yes")
	loud(0, with("whatif", file, "--expect-none")...)

	// The cloud repeats what it was told, in its own words.
	words := "cannot use " + secrets[0] + " nor " + url.QueryEscape(secrets[5]) + " nor " +
		base64.StdEncoding.EncodeToString([]byte("user:"+secrets[7])) + " nor " + hex.EncodeToString([]byte(secrets[9]))
	s.run(0, "yard", "fault", "add", "--name", "job", "--reason", words, "--times", "3")
	loud(ExitUndone, with("deploy", file, "--yes", "-i", "s01=another-hush-word", "-i", "s04=and-one-more-hush")...)
	loud(ExitUndone, with("deploy", file, "--yes", "--json", "-i", "s05=another-hush-word")...)
	secrets = append(secrets, "another-hush-word", "and-one-more-hush")
	s.run(0, "yard", "fault", "clear")
	loud(0, with("deploy", file, "--yes", "-i", "s08=another-hush-word")...)
	loud(0, "show", "hush")
	loud(0, "show", "hush", "--json")
	loud(0, "results", "hush")
	loud(0, "results", "hush", "--json")
	loud(0, "events", "hush", "--run", "2")
	loud(0, "yard", "resources", "--json")
	looks := func() {
		t.Helper()
		for _, args := range [][]string{{"whatif", file}, {"drift", "hush"}, {"drift", "hush", "--json"}, {"drift", "hush", "--patch"}, {"cloud"}, {"cloud", "--json"},
			{"observe"}, {"observe", "--json"}, {"history", "hush"}, {"history", "hush", "--json"}, {"history", "hush", "--markdown"},
			{"history", "--since", "1h"}, {"history", "--since", "1h", "--json"}, {"compliance"}, {"compliance", "--json"}} {
			_, out, errs := s.try(args...)
			for _, l := range leaks([]byte(out+errs), secrets) {
				t.Errorf("brickrow %v: tells %s", args, l)
			}
		}
	}
	looks()
	loud(0, "undo", "hush", "--yes")
	looks()
	for _, as := range []string{"wall", "times"} {
		loud(0, "draw", "hush", "--as", as, "-o", filepath.Join(s.home, as+".svg"))
	}
	loud(0, with("draw", file, "--as", "changes", "-o", filepath.Join(s.home, "changes.svg"))...)
	loud(0, "delete", "hush", "--yes", "--accept", "data")
	loud(0, "stacks", "--removed")

	looks()
	err := filepath.WalkDir(s.home, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasPrefix(path, s.dir) {
			return err
		}
		text, err := os.ReadFile(path)
		for _, l := range leaks(text, secrets) {
			t.Errorf("%s has %s", filepath.Base(path), l)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A secret that somebody writes elsewhere in the cloud by hand is not told, nor stored: not by
// looking, and not by capturing it.
func TestSecretsThatStandElsewhere(t *testing.T) {
	s := newShell(t)
	if err := os.MkdirAll(s.file("hush"), 0o700); err != nil {
		t.Fatal(err)
	}
	file, flags, secrets := hush(t, s)
	s.run(0, append([]string{"deploy", file, "--yes"}, flags...)...)
	a, err := app.Open(app.Options{Home: s.home, Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	at := stack.Target{Account: "workshop", Region: "alder-1"}
	for i, words := range []string{secrets[0] + " is it", "user:" + secrets[7], secrets[9], base64.StdEncoding.EncodeToString([]byte("user:" + secrets[7]))} {
		for k, tags := range []map[string]string{{"said": words, "stack": "hush", "node": fmt.Sprint("stray", i)}, {"said": words}} {
			if _, err := a.Cloud.Create(t.Context(), at, fmt.Sprint("stray-", i, k), cloud.Request{Type: "Topic", Properties: map[string]any{"label": words}, Tags: tags}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
	told := func(what, text string) {
		t.Helper()
		for _, l := range leaks([]byte(text), secrets) {
			t.Errorf("%s: tells %s", what, l)
		}
	}
	for _, args := range [][]string{{"whatif", file}, {"drift", "hush"}, {"drift", "hush", "--json"}, {"cloud"}, {"cloud", "--json"}, {"observe", "--json"},
		{"history", "--since", "1h"}, {"history", "--since", "1h", "--json"}, {"compliance", "--json"}, {"whatif", file, "--json"},
		{"capture", "--target", "workshop/alder-1", "--stack", "hush", "-o", s.file("captured.yaml")},
		{"capture", "--target", "workshop/alder-1", "--unowned", "-o", s.file("nobodys.yaml")}} {
		if args[0] == "whatif" {
			args = append(args, flags...)
		}
		_, out, errs := s.try(args...)
		told("brickrow "+strings.Join(args[:min(2, len(args))], " "), out+errs)
	}
	for _, path := range []string{s.file("captured.yaml"), s.file("captured.stack.yaml"), s.file("nobodys.yaml"), s.file("nobodys.stack.yaml"),
		filepath.Join(s.home, "store.db"), filepath.Join(s.home, "store.db-wal")} {
		if text, err := os.ReadFile(path); err == nil {
			told(path, string(text))
		} else if !strings.HasSuffix(path, "-wal") {
			t.Error(err)
		}
	}
}
