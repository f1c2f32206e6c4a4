package lsp

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/sourcegraph/jsonrpc2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/helper"
)

// client is an editor, as far as the server sees.
type client struct {
	t         *testing.T
	conn      *jsonrpc2.Conn
	dir       string
	raw       io.Writer // straight onto the wire
	mu        sync.Mutex
	published map[string]publishParams // by file
	news      chan struct{}
	done      chan error
	log       *bytes.Buffer
}

type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error { return nil }

// begin starts a server over a folder of files, and says initialize.
func begin(t *testing.T, capabilities string, files ...string) *client {
	t.Helper()
	c := &client{t: t, dir: t.TempDir(), published: map[string]publishParams{}, news: make(chan struct{}, 100),
		done: make(chan error, 1), log: &bytes.Buffer{}}
	for i := 0; i+1 < len(files); i += 2 {
		if err := os.WriteFile(filepath.Join(c.dir, files[i]), []byte(files[i+1]), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	a, err := app.Open(app.Options{Home: filepath.Join(t.TempDir(), "home"), Speed: 1000})
	if err != nil {
		t.Fatal(err)
	}
	toServer, fromClient := io.Pipe()
	toClient, fromServer := io.Pipe()
	c.raw = fromClient
	go func() {
		err := Serve(context.Background(), a, toServer, fromServer, c.log, "/help/findings.md")
		fromServer.Close()
		toServer.Close()
		c.done <- errors.Join(err, a.Close())
	}()
	c.conn = jsonrpc2.NewConn(context.Background(),
		jsonrpc2.NewBufferedStream(pipe{toClient, fromClient}, jsonrpc2.VSCodeObjectCodec{}), c, jsonrpc2.SetLogger(quiet{}))
	t.Cleanup(func() { fromClient.Close() })
	if capabilities == "" {
		capabilities = `{}`
	}
	var answer struct {
		Capabilities struct {
			PositionEncoding string `json:"positionEncoding"`
		} `json:"capabilities"`
	}
	c.ask("initialize", fmt.Sprintf(`{"processId":1,"rootUri":%q,"capabilities":%s}`, uriOf(c.dir), capabilities), &answer)
	c.say("initialized", `{}`)
	return c
}

// Handle takes what the server says.
func (c *client) Handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) {
	if r.Method == "textDocument/publishDiagnostics" {
		var p publishParams
		if json.Unmarshal(*r.Params, &p) == nil {
			c.mu.Lock()
			c.published[p.URI[strings.LastIndexAny(p.URI, "/:")+1:]] = p
			c.mu.Unlock()
			c.news <- struct{}{}
		}
	}
	if !r.Notif {
		_ = conn.Reply(ctx, r.ID, nil)
	}
}

// ask makes a request, whose answer goes into out.
func (c *client) ask(method, params string, out any) {
	c.t.Helper()
	if err := c.try(method, params, out); err != nil {
		c.t.Fatalf("%s %s: %v", method, params, err)
	}
}

func (c *client) try(method, params string, out any) error {
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	return c.conn.Call(ctx, method, json.RawMessage(params), out)
}

func (c *client) say(method, params string) {
	c.t.Helper()
	if err := c.conn.Notify(context.Background(), method, json.RawMessage(params)); err != nil {
		c.t.Fatal(err)
	}
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

func (c *client) uri(name string) string { return uriOf(filepath.Join(c.dir, name)) }

func (c *client) open(name, text string) {
	c.t.Helper()
	c.say("textDocument/didOpen", fmt.Sprintf(`{"textDocument":{"uri":%q,"languageId":"yaml","version":1,"text":%s}}`,
		c.uri(name), quoted(text)))
}

// change replaces a range of a file, in UTF-16.
func (c *client) change(name string, version, fromLine, from, toLine, to int, text string) {
	c.t.Helper()
	c.say("textDocument/didChange", fmt.Sprintf(`{"textDocument":{"uri":%q,"version":%d},"contentChanges":[{"range":
		{"start":{"line":%d,"character":%d},"end":{"line":%d,"character":%d}},"text":%s}]}`,
		c.uri(name), version, fromLine, from, toLine, to, quoted(text)))
}

func (c *client) at(name string, line, character int) string {
	return fmt.Sprintf(`{"textDocument":{"uri":%q},"position":{"line":%d,"character":%d}}`, c.uri(name), line, character)
}

// wait waits until the findings of a file, as code:line, are as wanted.
func (c *client) wait(name string, version int, want string) publishParams {
	c.t.Helper()
	end := time.After(20 * time.Second)
	for {
		c.mu.Lock()
		p, have := c.published[name]
		c.mu.Unlock()
		got := ""
		for _, d := range p.Diagnostics {
			got += fmt.Sprintf(" %s:%d", d.Code, d.Range.Start.Line)
		}
		if have && strings.TrimSpace(got) == want && (version == 0 || p.Version != nil && *p.Version == version) {
			return p
		}
		select {
		case <-c.news:
		case <-end:
			c.t.Fatalf("the findings of %s are%s, want %s (%s)", name, got, want, c.log)
		}
	}
}

// hear waits until a file has findings.
func (c *client) hear(name string) {
	c.t.Helper()
	for end := time.After(20 * time.Second); ; {
		c.mu.Lock()
		_, have := c.published[name]
		c.mu.Unlock()
		if have {
			return
		}
		select {
		case <-c.news:
		case <-end:
			c.t.Fatalf("%s has no findings (%s)", name, c.log)
		}
	}
}

// leave ends the session as the protocol says.
func (c *client) leave() {
	c.t.Helper()
	c.ask("shutdown", `null`, nil)
	c.say("exit", `null`)
	select {
	case err := <-c.done:
		if err != nil {
			c.t.Error(err)
		}
	case <-time.After(10 * time.Second):
		c.t.Error("the server does not leave")
	}
}

const types = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  Hut: { derived_from: Topic }
`

const valley = `tosca_definitions_version: tosca_2_0
imports:
  - profile: brickrow.cloud:1
  - types.yaml
service_template:
  inputs:
    beds: { type: integer, default: 2 }
    site: { type: string }
  node_templates:
    hut:
      type: Hut
      count: { $get_input: beds }
      properties: { label: { $get_input: site } }
    alarm: { type: Topic, properties: { label: { $concat: [ "Grüße 🏔 ", { $get_input: site } ] } } }
  outputs:
    where: { value: { $get_attribute: [ alarm, url ] } }
`

const valleyStack = "stack: valley\ntemplate: valley.yaml\ntarget: workshop/alder-1\ninputs:\n  site: upper\n  beds: 3\n"

func TestSession(t *testing.T) {
	c := begin(t, `{"workspace":{"workspaceEdit":{"documentChanges":true,"resourceOperations":["create"]}},
		"textDocument":{"completion":{"completionItem":{"snippetSupport":true}}}}`,
		"types.yaml", types, "valley.yaml", valley, "valley.stack.yaml", valleyStack)
	c.open("valley.yaml", valley)
	c.open("valley.stack.yaml", valleyStack)
	c.wait("valley.yaml", 1, "")
	c.wait("valley.stack.yaml", 1, "")

	// hover, definition, references and rename go over files and count in UTF-16
	var h hover
	line := strings.Split(valley, "\n")[13]
	at := assist.UTF16(line, strings.LastIndex(line, "site"))
	c.ask("textDocument/hover", c.at("valley.yaml", 13, at+2), &h)
	if !strings.Contains(h.Contents.Value, "site: string") || !strings.Contains(h.Contents.Value, "Here: upper") ||
		h.Range.Start.Character != at {
		t.Errorf("%+v", h)
	}
	var l location
	c.ask("textDocument/definition", c.at("valley.yaml", 13, at+2), &l)
	if l.Range.Start != (position{7, 4}) || l.URI != c.uri("valley.yaml") {
		t.Errorf("%+v", l)
	}
	c.ask("textDocument/definition", c.at("valley.yaml", 10, 13), &l)
	if l.Range.Start != (position{3, 2}) || l.URI != c.uri("types.yaml") {
		t.Errorf("%+v", l)
	}
	var refs []location
	c.ask("textDocument/references", strings.TrimSuffix(c.at("valley.yaml", 7, 5), "}")+`,"context":{"includeDeclaration":true}}`, &refs)
	if len(refs) != 4 {
		t.Errorf("%d references: %+v", len(refs), refs)
	}
	var edit struct {
		DocumentChanges []documentEdit `json:"documentChanges"`
	}
	c.ask("textDocument/rename", strings.TrimSuffix(c.at("valley.yaml", 7, 5), "}")+`,"newName":"place"}`, &edit)
	if len(edit.DocumentChanges) != 2 || len(edit.DocumentChanges[0].Edits)+len(edit.DocumentChanges[1].Edits) != 4 {
		t.Errorf("%+v", edit)
	}
	if err := c.try("textDocument/rename", strings.TrimSuffix(c.at("valley.yaml", 7, 5), "}")+`,"newName":"beds"}`, &edit); err == nil ||
		!strings.Contains(err.Error(), "there is a 'beds' already") {
		t.Error(err)
	}

	// what a deployment would change stands over the stack file
	var lenses []codeLens
	c.ask("textDocument/codeLens", c.at("valley.stack.yaml", 0, 0), &lenses)
	if len(lenses) != 1 || lenses[0].Command.Title != "4 new · not deployed yet" {
		t.Errorf("%+v", lenses)
	}
	var inlays []inlayHint
	c.ask("textDocument/inlayHint", fmt.Sprintf(`{"textDocument":{"uri":%q},"range":{"start":{"line":0,"character":0},"end":{"line":90,"character":0}}}`,
		c.uri("valley.yaml")), &inlays)
	if len(inlays) != 3 || !strings.HasPrefix(inlays[0].Label, "= 3") || inlays[2].Label != "× 3" {
		t.Errorf("%+v", inlays)
	}

	// a mistake is told with its version, and mended by its fix
	c.change("valley.yaml", 2, 10, 12, 10, 15, "Hutt")
	p := c.wait("valley.yaml", 2, "unknown-type:10")
	d := p.Diagnostics[0]
	if d.CodeDescription == nil || d.CodeDescription.Href != "file:///help/findings.md#unknown-type" || d.Range.End.Character != 16 {
		t.Errorf("%+v", d)
	}
	var actions []struct {
		Title string `json:"title"`
		Edit  struct {
			DocumentChanges []documentEdit `json:"documentChanges"`
		} `json:"edit"`
	}
	c.ask("textDocument/codeAction", fmt.Sprintf(`{"textDocument":{"uri":%q},"range":{"start":{"line":10,"character":13},"end":{"line":10,"character":13}},"context":{"diagnostics":[]}}`,
		c.uri("valley.yaml")), &actions)
	if len(actions) == 0 || actions[0].Title != "write Hut" {
		t.Fatalf("%+v", actions)
	}
	e := actions[0].Edit.DocumentChanges[0].Edits[0]
	c.change("valley.yaml", 3, e.Range.Start.Line, e.Range.Start.Character, e.Range.End.Line, e.Range.End.Character, e.NewText)
	c.wait("valley.yaml", 3, "")

	// completion, with blanks
	c.change("valley.yaml", 4, 14, 0, 14, 0, "    x:\n      type: Bu\n")
	var list completionList
	c.ask("textDocument/completion", c.at("valley.yaml", 15, 14), &list)
	if len(list.Items) == 0 || list.Items[0].Label != "Bucket" || list.Items[0].TextEdit.Range.Start.Character != 12 {
		t.Errorf("%+v", list.Items)
	}
	c.change("valley.yaml", 5, 15, 0, 16, 0, "      type: Bucket\n      pro\n")
	c.ask("textDocument/completion", c.at("valley.yaml", 16, 9), &list)
	if len(list.Items) == 0 || list.Items[0].TextEdit.NewText != "properties:\n        $0" {
		t.Errorf("%+v", list.Items)
	}

	// what is broken in an imported file is told, and told no more when it is gone
	c.open("types.yaml", strings.Replace(types, "Topic", "Topc", 1))
	c.wait("types.yaml", 1, "unknown-type:3")
	c.say("textDocument/didClose", fmt.Sprintf(`{"textDocument":{"uri":%q}}`, c.uri("types.yaml")))
	c.wait("types.yaml", 0, "")

	var symbols []documentSymbol
	c.ask("textDocument/documentSymbol", c.at("valley.yaml", 0, 0), &symbols)
	if len(symbols) != 3 || symbols[1].Name != "node_templates" || len(symbols[1].Children) != 3 {
		t.Errorf("%+v", symbols)
	}
	var folds []foldingRange
	c.ask("textDocument/foldingRange", c.at("valley.yaml", 0, 0), &folds)
	if !slices.Contains(folds, foldingRange{1, 3}) {
		t.Errorf("%+v", folds)
	}
	var tokens struct{ Data []int }
	c.ask("textDocument/semanticTokens/full", c.at("valley.yaml", 0, 0), &tokens)
	if len(tokens.Data)%5 != 0 || len(tokens.Data) < 5*40 || tokens.Data[3] != 0 {
		t.Errorf("%v", tokens.Data)
	}
	c.leave()
}

func TestFormatting(t *testing.T) {
	c := begin(t, `{"general":{"positionEncodings":["utf-16","utf-8"]}}`)
	c.open("valley.stack.yaml", "template:   valley.yaml # ä\nstack: valley\ntarget: workshop/alder-1\n")
	var edits []textEdit
	c.ask("textDocument/formatting", c.at("valley.stack.yaml", 0, 0), &edits)
	if len(edits) != 1 || !strings.Contains(edits[0].NewText, "template: valley.yaml # ä") {
		t.Errorf("%+v", edits)
	}
	c.open("broken.yaml", "stack: [\n")
	if err := c.try("textDocument/formatting", c.at("broken.yaml", 0, 0), &edits); err == nil {
		t.Error("what is no YAML was formatted")
	}
	c.leave()
}

// A file that was never saved, also one without a path, gets its help.
func TestUnsaved(t *testing.T) {
	c := begin(t, "", "valley.yaml", valley, "types.yaml", types)
	c.open("new.stack.yaml", "stack: aa\ntemplate: valley.yaml\ntarget: workshop/alder-1\ninputs:\n  \n")
	c.wait("new.stack.yaml", 1, "missing-input:3")
	var list completionList
	c.ask("textDocument/completion", c.at("new.stack.yaml", 4, 2), &list)
	var labels []string
	for _, it := range list.Items {
		labels = append(labels, it.Label)
	}
	if !slices.Equal(labels, []string{"site", "beds"}) {
		t.Errorf("%v", labels)
	}
	c.say("textDocument/didOpen", `{"textDocument":{"uri":"untitled:Untitled-1","languageId":"yaml","version":1,"text":"tosca_definitions_version: tosca_2_0\nservice_template:\n  node_templates:\n    a: { type: Nothing }\n"}}`)
	c.wait("Untitled-1", 1, "unknown-type:3")
	c.leave()
}

// Fleet files have findings and completion too, and the stack file of one needs no target.
func TestFleetFiles(t *testing.T) {
	c := begin(t, "", "valley.yaml", valley, "types.yaml", types, "valley.stack.yaml", "stack: valley\ntemplate: valley.yaml\n")
	c.open("valley.fleet.yaml", "fleet: valley\nstack: valley.stack.yaml\nplaces:\n  - { target: workshop/*, inputs: { site: low, bed: 2 } }\nwave: [ 1 ]\n")
	c.wait("valley.fleet.yaml", 1, "unknown-input:3 unknown-key:4")
	c.open("valley.stack.yaml", "stack: valley\ntemplate: valley.yaml\ninputs: { site: low }\n")
	c.wait("valley.stack.yaml", 1, "")
	var list completionList
	c.ask("textDocument/completion", c.at("valley.fleet.yaml", 3, 38), &list)
	if len(list.Items) == 0 {
		t.Error("nothing is offered for the inputs of a place")
	}
	c.change("valley.fleet.yaml", 2, 3, 47, 3, 50, "beds")
	c.change("valley.fleet.yaml", 3, 4, 0, 4, 4, "waves")
	c.wait("valley.fleet.yaml", 3, "")
	c.leave()
}

// TestFixesOfStackFiles wants what is wrong with a stack file to have a fix after which it is right.
func TestFixesOfStackFiles(t *testing.T) {
	c := begin(t, "", "types.yaml", types, "valley.yaml", valley, "secrets.yaml",
		strings.Replace(valley, "  inputs:\n", "  inputs:\n    token: { type: Secret }\n", 1))
	heads := "stack: valley\ntemplate: valley.yaml\ntarget: workshop/alder-1\n"
	for i, test := range []struct{ text, code, title, want string }{
		{strings.Replace(heads, "valley\n", "Valley_1\n", 1) + "inputs: { site: low }\n", "bad-name", "call it valley-1", "stack: valley-1"},
		{strings.Replace(heads, "valley.y", "vally.y", 1), "no-template", "write valley.yaml", "template: valley.yaml"},
		{strings.Replace(heads, "/alder-1", "", 1) + "inputs: { site: low }\n", "bad-target", "write workshop/alder-1", "target: workshop/alder-1"},
		{strings.Replace(heads, "stack:", "stak:", 1) + "inputs: { site: low }\n", "unknown-key", "write stack", "stack: valley"},
		{strings.Replace(heads, "stack: valley\n", "", 1) + "inputs: { site: low }\n", "missing-key", "add what is missing", "stack: "},
		{heads + "inputs: { beds: 2 }\n", "missing-input", "add the inputs that need a value", "inputs: { site: , beds: 2 }"},
		{heads + "inputs: {}\n", "missing-input", "add the inputs that need a value", "inputs: { site: }"},
		{heads + "inputs:\n  beds: 2\n", "missing-input", "add the inputs that need a value", "  site: "},
		{heads + "inputs:\n  site: { fom_env: HOME }\n", "wrong-type", "write from_env", "  site: { from_env: HOME }"},
		{heads + "inputs:\n  site: { from_stack: base } # of it\n", "missing-key", "name its stack and its output",
			"  site: { from_stack: { stack: base, output:  } } # of it"},
		{heads + "inputs:\n  site: { from_stack: { output: name } }\n", "missing-key", "name its stack and its output",
			"  site: { from_stack: { stack: , output: name } }"},
		{heads + "inputs:\n  - site: low\n  - beds: 2\n", "wrong-type", "write them as a map", "  site: low"},
		{heads + "inputs:\n- site: low # ä\n- beds: 2\n", "wrong-type", "write them as a map", "  beds: 2"},
		{heads + "site: low # here\ninputs:\n  beds: 2\n", "unknown-key", "put it under inputs", "  site: low"},
		{heads + "site: low\n", "unknown-key", "put it under inputs", "  site: low"},
		{strings.Replace(heads, "valley.y", "secrets.y", 1) + "inputs: { site: low, token: hoarfrost }\n", "secret-in-clear",
			"take it from the environment", "inputs: { site: low, token: { from_env: NAME } }"},
	} {
		name := fmt.Sprintf("s%d.stack.yaml", i)
		c.open(name, test.text)
		c.hear(name)
		var actions []codeAction
		c.ask("textDocument/codeAction", fmt.Sprintf(`{"textDocument":{"uri":%q},"range":{"start":{"line":0,"character":0},"end":{"line":99,"character":0}},"context":{"diagnostics":[]}}`,
			c.uri(name)), &actions)
		at := slices.IndexFunc(actions, func(a codeAction) bool { return a.Title == test.title && a.Diagnostics[0].Code == test.code })
		if at < 0 {
			t.Errorf("%q: no %q for %s among %+v", test.text, test.title, test.code, actions)
			continue
		}
		lines := strings.Split(test.text, "\n")
		edits := actions[at].Edit.Changes[c.uri(name)]
		slices.SortFunc(edits, func(a, b textEdit) int {
			return cmp.Or(b.Range.Start.Line-a.Range.Start.Line, b.Range.Start.Character-a.Range.Start.Character)
		})
		for _, e := range edits {
			from, to := e.Range.Start, e.Range.End
			for to.Line >= len(lines) {
				lines = append(lines, "")
			}
			text := lines[from.Line][:from.Character] + e.NewText + lines[to.Line][to.Character:]
			lines = slices.Replace(lines, from.Line, to.Line+1, strings.Split(text, "\n")...)
		}
		if !slices.Contains(lines, test.want) {
			t.Errorf("%q: %q, want the line %q", test.text, lines, test.want)
		}
	}
	c.leave()
}

// A node moves to a file of its own by an action of the server.
func TestMovingANode(t *testing.T) {
	c := begin(t, `{"workspace":{"workspaceEdit":{"documentChanges":true,"resourceOperations":["create"]}}}`,
		"types.yaml", types, "valley.stack.yaml", valleyStack)
	c.open("valley.yaml", valley)
	c.wait("valley.yaml", 1, "")
	var actions []struct {
		Title string `json:"title"`
		Edit  any    `json:"edit"`
	}
	c.ask("textDocument/codeAction", fmt.Sprintf(`{"textDocument":{"uri":%q},"range":{"start":{"line":13,"character":6},"end":{"line":13,"character":6}},"context":{"diagnostics":[]}}`,
		c.uri("valley.yaml")), &actions)
	if len(actions) != 1 || actions[0].Title != "move alarm to alarm.yaml" || !strings.Contains(fmt.Sprint(actions[0].Edit), "alarm_part") {
		t.Errorf("%+v", actions)
	}
	c.leave()
}

// Nothing that comes over the wire ends a session.
func TestGarbage(t *testing.T) {
	c := begin(t, "", "valley.yaml", valley, "types.yaml", types)
	write := func(text string) {
		if _, err := io.WriteString(c.raw, text); err != nil {
			t.Fatal(err)
		}
	}
	frame := func(body string) { write(fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body)) }
	write("hello\r\n\r\n\x00\x01\x02\n" + strings.Repeat("x", 300_000) + "\n")
	write("Content-Length: -5\r\n\r\n")
	write("Content-Length: 99999999999999\r\n\r\n")
	frame(`{`)
	frame(`[]`)
	frame(`[1,2]`)
	frame(`"text"`)
	frame(`{"jsonrpc":"2.0"}`)
	frame(`{"jsonrpc":"2.0","id":77,"result":1}`)
	frame(`{"jsonrpc":"2.0","method":"nothing"}`)
	frame(`{"jsonrpc":"2.0","method":"$/cancelRequest","params":{"id":12345}}`)
	frame(`{"jsonrpc":"2.0","method":"$/cancelRequest","params":7}`)
	frame(`{"jsonrpc":"2.0","method":"textDocument/didChange","params":{"textDocument":{"uri":"file:///none"},"contentChanges":[{"text":"x"}]}}`)
	frame(`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":[]}`)
	frame(`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"::%%","text":"a: b"}}}`)
	c.open("valley.yaml", valley)
	c.change("valley.yaml", 2, 900, 900, -3, -9, "x")
	c.change("valley.yaml", 3, 0, 0, 9999, 9999, valley)
	for method, want := range map[string]int64{"nothing": jsonrpc2.CodeMethodNotFound, "$/nothing": jsonrpc2.CodeMethodNotFound,
		"initialize": jsonrpc2.CodeInvalidRequest} {
		var e *jsonrpc2.Error
		if err := c.try(method, `{}`, nil); !errors.As(err, &e) || e.Code != want {
			t.Errorf("%s: %v", method, err)
		}
	}
	for _, params := range []string{`[]`, `"x"`, `null`, `{"textDocument":{"uri":"file:///none.yaml"}}`} {
		var e *jsonrpc2.Error
		if err := c.try("textDocument/hover", params, nil); !errors.As(err, &e) || e.Code != jsonrpc2.CodeInvalidParams {
			t.Errorf("hover %s: %v", params, err)
		}
	}
	c.wait("valley.yaml", 3, "")
	var h *hover
	c.ask("textDocument/hover", c.at("valley.yaml", 10, 13), &h)
	if h == nil || !strings.Contains(h.Contents.Value, "Hut") {
		t.Errorf("%+v", h)
	}
	c.leave()
	if strings.Contains(c.log.String(), "goroutine") {
		t.Errorf("it broke down: %s", c.log)
	}
}

// Before initialize nothing is answered, after shutdown nothing more; a client that
// just goes away is noticed.
func TestOrder(t *testing.T) {
	c := begin(t, "")
	c.ask("shutdown", `null`, nil)
	if err := c.try("textDocument/hover", c.at("a.yaml", 0, 0), nil); err == nil {
		t.Error("it answers after shutdown")
	}
	c.say("exit", `null`)
	if err := <-c.done; err != nil {
		t.Error(err)
	}
	c = begin(t, "")
	c.raw.(io.Closer).Close()
	if err := <-c.done; !errors.Is(err, ErrNoShutdown) {
		t.Error(err)
	}
}

func TestCancel(t *testing.T) {
	s := &server{cancel: map[string]context.CancelFunc{}, state: serving, log: io.Discard}
	ctx, cancel := context.WithCancel(context.Background())
	id := jsonrpc2.ID{Num: 7}
	s.cancel[id.String()] = cancel
	if err := s.cancelled(json.RawMessage(`{"id":7}`)); err != nil || ctx.Err() == nil {
		t.Error(err, ctx.Err())
	}
	_, err := s.answer(ctx, serving, "textDocument/hover", nil)
	var e *jsonrpc2.Error
	if !errors.As(err, &e) || e.Code != requestCancelled {
		t.Error(err)
	}
}

// TestMain lets the test binary be one of the processes that are begun.
func TestMain(m *testing.M) {
	helper.Serve()
	os.Exit(m.Run())
}
