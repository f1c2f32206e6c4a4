package lsp

import "encoding/json"

// The part of the Language Server Protocol, version 3.17, that is spoken here, under
// its names.

type position struct {
	Line      int `json:"line"`
	Character int `json:"character"`
}

type span struct {
	Start position `json:"start"`
	End   position `json:"end"`
}

type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

type documentID struct {
	URI string `json:"uri"`
}

type versionedID struct {
	URI     string `json:"uri"`
	Version *int   `json:"version"`
}

// placeParams are the parameters of what is asked about a place, a range or a file.
type placeParams struct {
	TextDocument documentID `json:"textDocument"`
	Position     position   `json:"position"`
	Range        span       `json:"range"`
	NewName      string     `json:"newName"`
	Query        string     `json:"query"`
	Context      struct {
		IncludeDeclaration bool     `json:"includeDeclaration"`
		Only               []string `json:"only"`
	} `json:"context"`
}

type initializeParams struct {
	RootURI          string `json:"rootUri"`
	WorkspaceFolders []struct {
		URI string `json:"uri"`
	} `json:"workspaceFolders"`
	Capabilities struct {
		General struct {
			PositionEncodings []string `json:"positionEncodings"`
		} `json:"general"`
		TextDocument struct {
			Completion struct {
				CompletionItem struct {
					SnippetSupport bool `json:"snippetSupport"`
				} `json:"completionItem"`
			} `json:"completion"`
		} `json:"textDocument"`
		Workspace struct {
			WorkspaceEdit struct {
				DocumentChanges    bool     `json:"documentChanges"`
				ResourceOperations []string `json:"resourceOperations"`
			} `json:"workspaceEdit"`
			CodeLens struct {
				RefreshSupport bool `json:"refreshSupport"`
			} `json:"codeLens"`
			InlayHint struct {
				RefreshSupport bool `json:"refreshSupport"`
			} `json:"inlayHint"`
		} `json:"workspace"`
	} `json:"capabilities"`
}

type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

type diagnostic struct {
	Range           span        `json:"range"`
	Severity        int         `json:"severity"`
	Code            string      `json:"code"`
	CodeDescription *codeAbout  `json:"codeDescription,omitempty"`
	Source          string      `json:"source"`
	Message         string      `json:"message"`
	Related         []relatedTo `json:"relatedInformation,omitempty"`
}

type codeAbout struct {
	Href string `json:"href"`
}

type relatedTo struct {
	Location location `json:"location"`
	Message  string   `json:"message"`
}

type publishParams struct {
	URI         string       `json:"uri"`
	Version     *int         `json:"version,omitempty"`
	Diagnostics []diagnostic `json:"diagnostics"`
}

type completionItem struct {
	Label            string   `json:"label"`
	Kind             int      `json:"kind"`
	Detail           string   `json:"detail,omitempty"`
	Documentation    string   `json:"documentation,omitempty"`
	SortText         string   `json:"sortText"`
	FilterText       string   `json:"filterText"`
	InsertTextFormat int      `json:"insertTextFormat"`
	InsertTextMode   int      `json:"insertTextMode"`
	TextEdit         textEdit `json:"textEdit"`
}

type completionList struct {
	IsIncomplete bool             `json:"isIncomplete"`
	Items        []completionItem `json:"items"`
}

type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

type hover struct {
	Contents markup `json:"contents"`
	Range    span   `json:"range"`
}

type documentSymbol struct {
	Name           string           `json:"name"`
	Detail         string           `json:"detail,omitempty"`
	Kind           int              `json:"kind"`
	Range          span             `json:"range"`
	SelectionRange span             `json:"selectionRange"`
	Children       []documentSymbol `json:"children,omitempty"`
}

type foldingRange struct {
	StartLine int `json:"startLine"`
	EndLine   int `json:"endLine"`
}

type workspaceEdit struct {
	Changes         map[string][]textEdit `json:"changes,omitempty"`
	DocumentChanges []any                 `json:"documentChanges,omitempty"`
}

type documentEdit struct {
	TextDocument versionedID `json:"textDocument"`
	Edits        []textEdit  `json:"edits"`
}

type createFile struct {
	Kind string `json:"kind"`
	URI  string `json:"uri"`
}

type codeAction struct {
	Title       string        `json:"title"`
	Kind        string        `json:"kind"`
	IsPreferred bool          `json:"isPreferred,omitempty"`
	Diagnostics []diagnostic  `json:"diagnostics,omitempty"`
	Edit        workspaceEdit `json:"edit"`
}

type inlayHint struct {
	Position    position `json:"position"`
	Label       string   `json:"label"`
	PaddingLeft bool     `json:"paddingLeft"`
}

type codeLens struct {
	Range   span    `json:"range"`
	Command command `json:"command"`
}

type command struct {
	Title   string `json:"title"`
	Command string `json:"command"`
}

type changeParams struct {
	TextDocument   versionedID `json:"textDocument"`
	ContentChanges []struct {
		Range *span  `json:"range"`
		Text  string `json:"text"`
	} `json:"contentChanges"`
}

type openParams struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version *int   `json:"version"`
		Text    string `json:"text"`
	} `json:"textDocument"`
}

type cancelParams struct {
	ID json.RawMessage `json:"id"`
}

// Errors of the protocol beside those of JSON-RPC.
const (
	notInitialized   = -32002
	requestCancelled = -32800
	requestFailed    = -32803
)
