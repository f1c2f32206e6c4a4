package lsp

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/sourcegraph/jsonrpc2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
)

// itemKinds are the kinds of what is offered, as the protocol numbers them.
var itemKinds = map[assist.ItemKind]int{assist.Keyword: 14, assist.TypeName: 7, assist.PropertyKey: 10,
	assist.Requirement: 18, assist.Function: 3, assist.Input: 6, assist.Node: 6, assist.Attribute: 5,
	assist.Value: 12, assist.FileName: 17, assist.Name: 6}

// mostItems is how many are offered at once; with more the client asks again.
const mostItems = 200

func (s *server) completion(_ context.Context, q asked) (any, error) {
	items := s.work.Complete(q.path, q.at)
	out := completionList{Items: []completionItem{}}
	if len(items) > mostItems {
		items, out.IsIncomplete = items[:mostItems], true
	}
	s.mu.Lock()
	snippets := s.client.Capabilities.TextDocument.Completion.CompletionItem.SnippetSupport
	s.mu.Unlock()
	for i, it := range items {
		c := completionItem{Label: it.Label, Kind: itemKinds[it.Kind], Detail: it.Detail, Documentation: it.Meaning,
			SortText: fmt.Sprintf("%04d", i), FilterText: q.text.Slice(assist.Range{From: it.From, To: q.at}),
			InsertTextFormat: 2, InsertTextMode: 1, TextEdit: textEdit{s.span(q.text, it.Range), it.Insert}}
		if !strings.HasPrefix(it.Label, c.FilterText) { // the client filters by what is written
			c.FilterText += it.Label
		} else {
			c.FilterText = it.Label
		}
		if !snippets {
			c.InsertTextFormat = 1
			c.TextEdit.NewText, _ = assist.Expand(it.Insert)
		}
		out.Items = append(out.Items, c)
	}
	return out, nil
}

// plainMark keeps a text from being read as Markdown.
var plainMark = strings.NewReplacer("\\", "\\\\", "*", "\\*", "_", "\\_", "`", "\\`", "<", "&lt;", "[", "\\[", "#", "\\#")

func (s *server) hover(_ context.Context, q asked) (any, error) {
	h := s.work.Hover(q.path, q.at)
	if h == nil {
		return nil, nil
	}
	text := "**" + plainMark.Replace(h.Title) + "**"
	for _, l := range h.Lines {
		text += "\n\n" + plainMark.Replace(l)
	}
	return hover{markup{"markdown", text}, s.span(q.text, h.Range)}, nil
}

func (s *server) location(l assist.Location) location {
	return location{s.uri(l.Path), s.span(s.work.Text(l.Path), l.Range)}
}

func (s *server) definition(_ context.Context, q asked) (any, error) {
	if l, ok := s.work.Definition(q.path, q.at); ok {
		return s.location(l), nil
	}
	return nil, nil
}

func (s *server) references(_ context.Context, q asked) (any, error) {
	out := []location{}
	defined, _ := s.work.Definition(q.path, q.at)
	for _, l := range s.work.References(q.path, q.at) {
		if l == defined && !q.Context.IncludeDeclaration {
			continue
		}
		out = append(out, s.location(l))
	}
	return out, nil
}

func (s *server) highlights(_ context.Context, q asked) (any, error) {
	type highlight struct {
		Range span `json:"range"`
	}
	out := []highlight{}
	for _, r := range s.work.Highlights(q.path, q.at) {
		out = append(out, highlight{s.span(q.text, r)})
	}
	return out, nil
}

func (s *server) prepareRename(_ context.Context, q asked) (any, error) {
	r, ok := s.work.Renamable(q.path, q.at)
	if !ok {
		return nil, nil
	}
	return s.span(q.text, r), nil
}

func (s *server) rename(_ context.Context, q asked) (any, error) {
	edits, err := s.work.Rename(q.path, q.at, q.NewName)
	if err != nil {
		return nil, err
	}
	return s.workspaceEdit(edits, nil)
}

// workspaceEdit is edits of several files, and new ones with their texts.
func (s *server) workspaceEdit(edits map[string][]assist.Edit, create map[string]string) (workspaceEdit, error) {
	var out workspaceEdit
	s.mu.Lock()
	w := s.client.Capabilities.Workspace.WorkspaceEdit
	s.mu.Unlock()
	if !w.DocumentChanges {
		if len(create) > 0 {
			return out, fmt.Errorf("this editor cannot make files")
		}
		out.Changes = map[string][]textEdit{}
		for path, list := range edits {
			out.Changes[s.uri(path)] = s.edits(s.work.Text(path), list)
		}
		return out, nil
	}
	if len(create) > 0 && !slices.Contains(w.ResourceOperations, "create") {
		return out, fmt.Errorf("this editor cannot make files")
	}
	for _, path := range slices.Sorted(maps.Keys(create)) {
		uri := uriOf(path)
		out.DocumentChanges = append(out.DocumentChanges, createFile{"create", uri},
			documentEdit{versionedID{URI: uri}, []textEdit{{NewText: create[path]}}})
	}
	for _, path := range slices.Sorted(maps.Keys(edits)) {
		id := versionedID{URI: s.uri(path)}
		s.mu.Lock()
		if d := s.docs[path]; d != nil {
			id.Version = d.version
		}
		s.mu.Unlock()
		out.DocumentChanges = append(out.DocumentChanges, documentEdit{id, s.edits(s.work.Text(path), edits[path])})
	}
	return out, nil
}

func (s *server) edits(text *assist.Text, list []assist.Edit) []textEdit {
	out := []textEdit{}
	for _, e := range list {
		out = append(out, textEdit{s.span(text, e.Range), e.New})
	}
	return out
}

// symbolKinds are the kinds of what has a name, by its section.
func symbolKind(section string) int {
	switch section {
	case "inputs":
		return 13
	case "node_templates":
		return 19
	case "outputs":
		return 7
	case "functions":
		return 12
	}
	if strings.HasSuffix(section, "_types") {
		return 5
	}
	return 3
}

func (s *server) symbols(_ context.Context, q asked) (any, error) {
	out := []documentSymbol{}
	at := map[string]int{}
	for _, y := range s.work.Symbols(q.path) {
		name := assist.Range{From: y.At, To: assist.Place{Line: y.At.Line, Column: y.At.Column + len(y.Name)}}
		last := assist.Place{Line: y.To - 1, Column: len(q.text.Line(y.To - 1))}
		one := documentSymbol{Name: y.Name, Detail: y.Type, Kind: symbolKind(y.Section), SelectionRange: s.span(q.text, name),
			Range: s.span(q.text, assist.Range{From: y.At, To: last})}
		i, have := at[y.Section]
		if !have {
			i = len(out)
			at[y.Section] = i
			out = append(out, documentSymbol{Name: y.Section, Kind: 3, Range: one.Range, SelectionRange: one.SelectionRange})
		}
		out[i].Children = append(out[i].Children, one)
		out[i].Range.End = one.Range.End
	}
	return out, nil
}

// search finds names in all open files.
func (s *server) search(_ context.Context, params json.RawMessage) (any, error) {
	p, err := read[placeParams](params)
	if err != nil {
		return nil, err
	}
	type found struct {
		Name          string   `json:"name"`
		Kind          int      `json:"kind"`
		ContainerName string   `json:"containerName"`
		Location      location `json:"location"`
	}
	out := []found{}
	paths, _ := s.open()
	for _, path := range paths {
		text := s.work.Text(path)
		for _, y := range s.work.Symbols(path) {
			if !strings.Contains(strings.ToLower(y.Name), strings.ToLower(p.Query)) || len(out) >= mostItems {
				continue
			}
			name := assist.Range{From: y.At, To: assist.Place{Line: y.At.Line, Column: y.At.Column + len(y.Name)}}
			out = append(out, found{y.Name, symbolKind(y.Section), y.Section, location{s.uri(path), s.span(text, name)}})
		}
	}
	return out, nil
}

func (s *server) folding(_ context.Context, q asked) (any, error) {
	out := []foldingRange{}
	for _, f := range s.work.Folding(q.path) {
		out = append(out, foldingRange{f[0], f[1]})
	}
	return out, nil
}

// tokenTypes are the kinds of tokens, in the order of the legend.
var tokenTypes = []string{"keyword", "property", "type", "variable", "parameter", "function", "number", "string", "comment",
	"macro"}

func tokenType(k assist.TokenKind) int {
	switch k {
	case assist.LiteralToken:
		k = assist.KeywordToken
	case assist.DirectiveToken:
		k = "macro"
	}
	return slices.Index(tokenTypes, string(k))
}

func (s *server) allTokens(_ context.Context, q asked) (any, error) {
	return s.tokens(q.text, 0, len(q.text.Lines)), nil
}

func (s *server) someTokens(_ context.Context, q asked) (any, error) {
	return s.tokens(q.text, q.Range.Start.Line, q.Range.End.Line+1), nil
}

// tokens are those of some lines, each relative to the one before.
func (s *server) tokens(text *assist.Text, from, to int) any {
	data := []int{}
	var last position
	for _, t := range text.Tokens(from, to) {
		at, end := s.position(text, t.From), s.position(text, t.To)
		line, character := at.Line-last.Line, at.Character
		if line == 0 {
			character -= last.Character
		}
		defines := 0
		if t.Defines {
			defines = 1
		}
		data = append(data, line, character, end.Character-at.Character, tokenType(t.Kind), defines)
		last = at
	}
	return map[string]any{"data": data}
}

func (s *server) actions(_ context.Context, q asked) (any, error) {
	out := []codeAction{}
	wants := func(kind string) bool {
		return len(q.Context.Only) == 0 || slices.ContainsFunc(q.Context.Only, func(only string) bool {
			return kind == only || strings.HasPrefix(kind, only+".")
		})
	}
	s.mu.Lock()
	findings := slices.Clone(s.findings[q.path])
	s.mu.Unlock()
	for _, f := range findings {
		if !wants("quickfix") || f.Line-1 < q.Range.Start.Line || f.Line-1 > q.Range.End.Line {
			continue
		}
		for _, r := range s.work.Moves(q.path, f) {
			if edit, err := s.workspaceEdit(r.Edits, r.Files); err == nil { // else the editor cannot do it
				out = append(out, codeAction{Title: r.Title, Kind: "quickfix", Diagnostics: []diagnostic{s.diagnostic(f)}, Edit: edit})
			}
		}
		for _, fix := range s.work.Fixes(q.path, f) {
			edits := fix.Edits
			if fix.Blanks {
				edits = slices.Clone(edits)
				for i := range edits {
					edits[i].New, _ = assist.Expand(edits[i].New)
				}
			}
			edit, err := s.workspaceEdit(map[string][]assist.Edit{q.path: edits}, nil)
			if err != nil {
				return nil, err
			}
			out = append(out, codeAction{Title: fix.Title, Kind: "quickfix", IsPreferred: fix.Best,
				Diagnostics: []diagnostic{s.diagnostic(f)}, Edit: edit})
		}
	}
	if wants("refactor.extract") {
		for _, r := range s.work.Refactorings(q.path, s.place(q.text, q.Range.Start)) {
			edit, err := s.workspaceEdit(r.Edits, r.Files)
			if err != nil {
				continue // the editor cannot do it
			}
			out = append(out, codeAction{Title: r.Title, Kind: "refactor.extract", Edit: edit})
		}
	}
	return out, nil
}

func (s *server) inlays(_ context.Context, q asked) (any, error) {
	out := []inlayHint{}
	for _, i := range s.work.Inlays(q.path, q.Range.Start.Line, q.Range.End.Line) {
		out = append(out, inlayHint{s.position(q.text, i.Place), i.Text, true})
	}
	return out, nil
}

func (s *server) lenses(_ context.Context, q asked) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []codeLens{}
	if text := s.lens[q.path]; text != "" {
		out = append(out, codeLens{Command: command{Title: text}})
	}
	return out, nil
}

// format puts a file into its one form. What cannot be formatted is a finding already.
func (s *server) format(_ context.Context, q asked) (any, error) {
	before := q.text.String()
	after, changed, findings := app.Format(q.path, []byte(before))
	if findings.HasErrors() {
		i := slices.IndexFunc(findings, func(f tosca.Finding) bool { return f.Severity == tosca.Error })
		return nil, &jsonrpc2.Error{Code: requestFailed, Message: findings[i].Message}
	}
	if !changed {
		return []textEdit{}, nil
	}
	return s.edits(q.text, []assist.Edit{q.text.Difference(assist.NewText(string(after)))}), nil
}
