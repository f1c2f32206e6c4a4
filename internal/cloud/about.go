package cloud

import (
	"slices"
	"strings"
)

// About is what a target says of itself and of the one who asks.
type About struct {
	Who string `json:"who"` // whose token it is
	// Actions are what the token may do: server:create, network:remove,
	// *:change.
	Actions []string `json:"actions"`
	Limits  []Limit  `json:"limits"`
	// Images are what servers can start from here, as resources that nobody
	// made.
	Images []Resource `json:"images"`
	// AtOnce is how many operations it takes at once; 0 is not told.
	AtOnce int `json:"at_once,omitempty"`
	// FreeAddresses is how many public addresses can still be had.
	FreeAddresses int `json:"free_addresses"`
}

// Limit is how many of a type there can be in a target, and how many there are.
type Limit struct {
	Type string `json:"type"`
	Most int    `json:"most"`
	Used int    `json:"used"`
}

// The verbs of actions on resources.
const (
	VerbCreate = "create"
	VerbChange = "change"
	VerbRemove = "remove"
)

// Action is what it takes to do something to resources of a type.
func Action(typ, verb string) string { return strings.ToLower(typ) + ":" + verb }

// Covers reports whether an allowed action, such as bucket:*, covers a needed
// one.
func Covers(allowed, needed string) bool {
	kind, verb, _ := strings.Cut(allowed, ":")
	wantKind, wantVerb, _ := strings.Cut(needed, ":")
	return (kind == "*" || kind == wantKind) && (verb == "*" || verb == wantVerb)
}

// May reports whether the one who asks may do something.
func (a *About) May(action string) bool {
	return slices.ContainsFunc(a.Actions, func(allowed string) bool { return Covers(allowed, action) })
}
