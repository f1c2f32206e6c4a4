// Package lsp is a language server: what assist knows, and what app finds, for any
// editor that speaks the Language Server Protocol 3.17. It works nothing out itself.
//
// Notifications are taken in their order, as they change the texts; requests are
// answered side by side, and can be cancelled. Findings are published some moments
// after the last change, for all open files and all that they import.
package lsp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"

	"github.com/sourcegraph/jsonrpc2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
)

// server serves one client.
type server struct {
	app  *app.App
	work *assist.Work
	log  io.Writer
	wire *wire

	mu       sync.Mutex
	state    state
	utf8     bool // columns are counted in bytes
	client   initializeParams
	root     string               // the folder that is worked in
	docs     map[string]*document // the open ones, by path
	conn     *jsonrpc2.Conn
	lens     map[string]string // the tally of stack files, by path
	findings map[string]tosca.Findings
	told     map[string]bool               // files whose findings the client has
	cancel   map[string]context.CancelFunc // of requests, by id

	running sync.WaitGroup
	changed chan struct{}
	left    chan struct{} // closed when the client said exit
	exiting sync.Once
	help    string // URI of what the codes of findings mean
}

type state int

const (
	unknown state = iota // nobody has said initialize
	serving
	leaving // shutdown was asked for
)

// document is a file that the client has open.
type document struct {
	uri     string
	version *int
	text    *assist.Text
}

// ErrNoShutdown says that the client left without asking to.
var ErrNoShutdown = errors.New("the client left without saying shutdown")

// Serve serves a client until it leaves, and says to log what went wrong. The file
// help says what the codes of findings mean; "" is none.
func Serve(ctx context.Context, a *app.App, in io.Reader, out, log io.Writer, help string) error {
	ctx, stop := context.WithCancel(ctx)
	s := &server{app: a, work: a.Assist(ctx), log: log, wire: newWire(in, out), docs: map[string]*document{},
		findings: map[string]tosca.Findings{}, told: map[string]bool{}, cancel: map[string]context.CancelFunc{},
		changed: make(chan struct{}, 1), left: make(chan struct{})}
	if help != "" {
		s.help = uriOf(help)
	}
	s.mu.Lock()
	conn := jsonrpc2.NewConn(ctx, s.wire, s, jsonrpc2.SetLogger(quiet{}))
	s.conn = conn
	s.mu.Unlock()
	s.running.Go(func() { s.watch(ctx) })
	select {
	case <-s.left:
	case <-conn.DisconnectNotify():
	}
	stop()
	err := conn.Close()
	s.running.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state != leaving {
		return ErrNoShutdown
	}
	if errors.Is(err, jsonrpc2.ErrClosed) {
		err = nil
	}
	return err
}

// quiet keeps what the connection would log to itself: each request is answered.
type quiet struct{}

func (quiet) Printf(string, ...any) {}

// method answers a request, or takes a notification, whose answer is nil.
type method = func(s *server, ctx context.Context, params json.RawMessage) (any, error)

// methods are all that is understood.
var methods map[string]method

func init() { // it names itself
	methods = map[string]method{
		"initialize":                        (*server).initialize,
		"shutdown":                          (*server).shutdown,
		"textDocument/completion":           about((*server).completion),
		"textDocument/hover":                about((*server).hover),
		"textDocument/definition":           about((*server).definition),
		"textDocument/references":           about((*server).references),
		"textDocument/documentHighlight":    about((*server).highlights),
		"textDocument/prepareRename":        about((*server).prepareRename),
		"textDocument/rename":               about((*server).rename),
		"textDocument/documentSymbol":       about((*server).symbols),
		"textDocument/foldingRange":         about((*server).folding),
		"textDocument/semanticTokens/full":  about((*server).allTokens),
		"textDocument/semanticTokens/range": about((*server).someTokens),
		"textDocument/codeAction":           about((*server).actions),
		"textDocument/inlayHint":            about((*server).inlays),
		"textDocument/codeLens":             about((*server).lenses),
		"textDocument/formatting":           about((*server).format),
		"workspace/symbol":                  (*server).search,
	}
}

// notifications are taken in their order, before what comes next is read.
var notifications = map[string]func(s *server, params json.RawMessage) error{
	"initialized":                         func(*server, json.RawMessage) error { return nil },
	"exit":                                (*server).exit,
	"$/cancelRequest":                     (*server).cancelled,
	"$/setTrace":                          func(*server, json.RawMessage) error { return nil },
	"textDocument/didOpen":                (*server).didOpen,
	"textDocument/didChange":              (*server).didChange,
	"textDocument/didClose":               (*server).didClose,
	"textDocument/didSave":                func(s *server, _ json.RawMessage) error { s.wake(); return nil },
	"workspace/didChangeWatchedFiles":     func(s *server, _ json.RawMessage) error { s.wake(); return nil },
	"workspace/didChangeConfiguration":    func(*server, json.RawMessage) error { return nil },
	"workspace/didChangeWorkspaceFolders": func(*server, json.RawMessage) error { return nil },
}

// Handle takes what the client says.
func (s *server) Handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) {
	if ctx.Err() != nil {
		return
	}
	var params json.RawMessage
	if r.Params != nil {
		params = *r.Params
	}
	if r.Notif {
		if do := notifications[r.Method]; do != nil {
			if err := s.safely(r.Method, func() error { return do(s, params) }); err != nil {
				fmt.Fprintf(s.log, "%s: %v\n", r.Method, err)
			}
		}
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	id := r.ID.String()
	s.mu.Lock()
	state := s.state
	s.cancel[id] = cancel
	s.mu.Unlock()
	answer := func() {
		result, err := s.answer(ctx, state, r.Method, params)
		s.mu.Lock()
		delete(s.cancel, id)
		s.mu.Unlock()
		if ctx.Err() != nil && err == nil {
			err = &jsonrpc2.Error{Code: requestCancelled, Message: "cancelled"}
		}
		cancel()
		var known *jsonrpc2.Error
		switch {
		case err == nil:
			err = conn.Reply(ctx, r.ID, result)
		case errors.As(err, &known):
			err = conn.ReplyWithError(ctx, r.ID, known)
		default:
			err = conn.ReplyWithError(ctx, r.ID, &jsonrpc2.Error{Code: requestFailed, Message: err.Error()})
		}
		if err != nil && !errors.Is(err, jsonrpc2.ErrClosed) {
			fmt.Fprintf(s.log, "%s: %v\n", r.Method, err)
		}
	}
	if r.Method == "initialize" || r.Method == "shutdown" {
		answer()
		return
	}
	s.running.Go(answer)
}

// answer answers a request.
func (s *server) answer(ctx context.Context, state state, name string, params json.RawMessage) (result any, err error) {
	do := methods[name]
	switch {
	case state == leaving:
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "shutdown was asked for"}
	case state == unknown && name != "initialize":
		return nil, &jsonrpc2.Error{Code: notInitialized, Message: "initialize comes first"}
	case do == nil:
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: "there is no method " + name}
	}
	if err := ctx.Err(); err != nil {
		return nil, &jsonrpc2.Error{Code: requestCancelled, Message: "cancelled"}
	}
	err = s.safely(name, func() (err error) { result, err = do(s, ctx, params); return err })
	return result, err
}

// safely turns a panic into an error: the other files and requests go on.
func (s *server) safely(name string, do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			fmt.Fprintf(s.log, "%s: %v\n%s", name, p, debug.Stack())
			err = &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: fmt.Sprintf("%s went wrong: %v", name, p)}
		}
	}()
	return do()
}

// read reads parameters.
func read[T any](params json.RawMessage) (T, error) {
	var out T
	if len(params) == 0 {
		params = []byte("null")
	}
	if err := json.Unmarshal(params, &out); err != nil {
		return out, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
	}
	return out, nil
}

// asked is what a request is about: a file, and a place in it.
type asked struct {
	placeParams
	path string
	text *assist.Text
	at   assist.Place
}

// about makes a method of one that is asked about a place in a file.
func about(do func(s *server, ctx context.Context, q asked) (any, error)) method {
	return func(s *server, ctx context.Context, params json.RawMessage) (any, error) {
		p, err := read[placeParams](params)
		if err != nil {
			return nil, err
		}
		q := asked{placeParams: p, path: s.pathOf(p.TextDocument.URI)}
		if q.text = s.work.Text(q.path); q.text == nil {
			return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams,
				Message: "there is no file " + p.TextDocument.URI}
		}
		q.at = s.place(q.text, p.Position)
		return do(s, ctx, q)
	}
}

func (s *server) initialize(_ context.Context, params json.RawMessage) (any, error) {
	p, err := read[initializeParams](params)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state != unknown {
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "initialize comes once"}
	}
	s.state, s.client = serving, p
	encoding := "utf-16"
	for _, e := range p.Capabilities.General.PositionEncodings {
		if e == "utf-8" {
			s.utf8, encoding = true, e
		}
	}
	if s.root = p.RootURI; len(p.WorkspaceFolders) > 0 {
		s.root = p.WorkspaceFolders[0].URI
	}
	s.root = filePath(s.root)
	type object = map[string]any
	return object{
		"serverInfo": object{"name": "brickrow"},
		"capabilities": object{
			"positionEncoding":           encoding,
			"textDocumentSync":           object{"openClose": true, "change": 2, "save": object{"includeText": false}},
			"completionProvider":         object{"triggerCharacters": []string{"$", ":", " ", "[", "{", ",", ".", "-", "/"}},
			"hoverProvider":              true,
			"definitionProvider":         true,
			"referencesProvider":         true,
			"documentHighlightProvider":  true,
			"documentSymbolProvider":     true,
			"workspaceSymbolProvider":    true,
			"foldingRangeProvider":       true,
			"documentFormattingProvider": true,
			"inlayHintProvider":          true,
			"renameProvider":             object{"prepareProvider": true},
			"codeLensProvider":           object{},
			"codeActionProvider":         object{"codeActionKinds": []string{"quickfix", "refactor.extract"}},
			"semanticTokensProvider": object{"full": true, "range": true,
				"legend": object{"tokenTypes": tokenTypes, "tokenModifiers": []string{"definition"}}},
		},
	}, nil
}

func (s *server) shutdown(context.Context, json.RawMessage) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state = leaving
	return nil, nil
}

func (s *server) exit(json.RawMessage) error {
	s.exiting.Do(func() { close(s.left) })
	return nil
}

func (s *server) cancelled(params json.RawMessage) error {
	p, err := read[cancelParams](params)
	if err != nil {
		return err
	}
	var id jsonrpc2.ID
	if err := json.Unmarshal(p.ID, &id); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if cancel := s.cancel[id.String()]; cancel != nil {
		cancel()
	}
	return nil
}

func (s *server) didOpen(params json.RawMessage) error {
	p, err := read[openParams](params)
	if err != nil {
		return err
	}
	path := s.pathOf(p.TextDocument.URI)
	d := &document{uri: p.TextDocument.URI, version: p.TextDocument.Version, text: assist.NewText(p.TextDocument.Text)}
	s.mu.Lock()
	s.docs[path] = d
	s.mu.Unlock()
	s.work.Set(path, d.text)
	s.wake()
	return nil
}

func (s *server) didChange(params json.RawMessage) error {
	p, err := read[changeParams](params)
	if err != nil {
		return err
	}
	path := s.pathOf(p.TextDocument.URI)
	s.mu.Lock()
	d := s.docs[path]
	s.mu.Unlock()
	if d == nil {
		return fmt.Errorf("%s was never opened", p.TextDocument.URI)
	}
	text := d.text
	for _, c := range p.ContentChanges {
		if c.Range == nil {
			text = assist.NewText(c.Text)
			continue
		}
		r := assist.Range{From: s.place(text, c.Range.Start), To: s.place(text, c.Range.End)}
		text = text.Apply(assist.Edit{Range: r, New: strings.ReplaceAll(c.Text, "\r\n", "\n")})
	}
	s.mu.Lock()
	s.docs[path] = &document{uri: d.uri, version: p.TextDocument.Version, text: text}
	s.mu.Unlock()
	s.work.Set(path, text)
	s.wake()
	return nil
}

func (s *server) didClose(params json.RawMessage) error {
	p, err := read[openParams](params)
	if err != nil {
		return err
	}
	path := s.pathOf(p.TextDocument.URI)
	s.mu.Lock()
	delete(s.docs, path)
	s.mu.Unlock()
	s.work.Close(path)
	s.wake()
	return nil
}

// wake lets findings be looked for again.
func (s *server) wake() {
	select {
	case s.changed <- struct{}{}:
	default:
	}
}

// filePath is the path of a file's URI; "" where it is none.
func filePath(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return ""
	}
	return filepath.Clean(filepath.FromSlash(u.Path))
}

// pathOf is the path of a URI. What was never saved is as if it lay in the folder
// that is worked in.
func (s *server) pathOf(uri string) string {
	if path := filePath(uri); path != "" {
		return path
	}
	u, err := url.Parse(uri)
	name := uri
	if err == nil {
		name = filepath.Base(u.Opaque + u.Path)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return filepath.Join(s.root, strings.NewReplacer("/", "-", "\x00", "").Replace(name))
}

// uriOf is the URI of a path.
func uriOf(path string) string {
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String()
}

// uri is the URI of a file, as the client writes it where it has it open.
func (s *server) uri(path string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d := s.docs[path]; d != nil {
		return d.uri
	}
	return uriOf(path)
}

// place is a position in a text.
func (s *server) place(t *assist.Text, p position) assist.Place {
	line := t.Line(p.Line)
	if !s.utf8 {
		p.Character = assist.FromUTF16(line, p.Character)
	}
	return t.Clamp(assist.Place{Line: p.Line, Column: p.Character})
}

// position is a place as the client counts.
func (s *server) position(t *assist.Text, p assist.Place) position {
	if s.utf8 || t == nil {
		return position{p.Line, p.Column}
	}
	return position{p.Line, assist.UTF16(t.Line(p.Line), p.Column)}
}

func (s *server) span(t *assist.Text, r assist.Range) span {
	return span{s.position(t, r.From), s.position(t, r.To)}
}

// open lists the open files by path, in order, with their texts.
func (s *server) open() (paths []string, docs map[string]*document) {
	s.mu.Lock()
	defer s.mu.Unlock()
	docs = map[string]*document{}
	for path, d := range s.docs {
		docs[path] = d
		paths = append(paths, path)
	}
	slices.Sort(paths)
	return paths, docs
}
