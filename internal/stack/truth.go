package stack

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// What is said as a fact is decided here, from what was seen: who made a change, whether something is as it is recorded,
// whether all is as it was before a run, whether anything is left. Where that is not known, these say so.

// AuthorKind is what kind of author a change has.
type AuthorKind string

// The kinds of authors.
const (
	ByRun    AuthorKind = "run"     // a run, of this store or of another one
	ByPerson AuthorKind = "person"  // somebody whom the cloud names, and who is no run
	Outside  AuthorKind = "outside" // nobody says who it was
)

// Author is who made a change, as far as that is known.
type Author struct {
	Kind  AuthorKind `json:"kind"`
	Name  string     `json:"name,omitempty"`  // user@host, or as the cloud says
	Run   int        `json:"run,omitempty"`   // the number of the run
	Stack string     `json:"stack,omitempty"` // that it is a run of
	Store string     `json:"store,omitempty"` // in which that run is
	// Own says that the run is one of the store that is open.
	Own bool `json:"-"`
}

// runAuthor is what a run says of itself to a cloud.
var runAuthor = regexp.MustCompile(`^(.*) \(run (\d+) of (\S+), store ([0-9a-z-]+)\)$`)

// AuthorText is what a run says of itself to a cloud: who carries it out, and which run of which store it is.
func AuthorText(caller string, run int, stack, store string) string {
	return fmt.Sprintf("%s (run %d of %s, store %s)", caller, run, stack, store)
}

// AuthorOf is who a cloud says has made a change; store is the id of the store that is open.
func AuthorOf(said, store string) Author {
	if said == "" {
		return Author{Kind: Outside}
	}
	m := runAuthor.FindStringSubmatch(said)
	if m == nil {
		return Author{Kind: ByPerson, Name: said}
	}
	number, _ := strconv.Atoi(m[2])
	return Author{Kind: ByRun, Name: m[1], Run: number, Stack: m[3], Store: m[4], Own: m[4] == store}
}

// OwnRun is a run of the store that is open.
func OwnRun(number int, stack, store string) Author {
	return Author{Kind: ByRun, Run: number, Stack: stack, Store: store, Own: true}
}

// Hand reports whether somebody made the change past all stacks, by name.
func (a Author) Hand() bool { return a.Kind == ByPerson }

// Words say who it was: "by run 7", "by hand, by warden@hut", "outside of this store".
func (a Author) Words() string {
	switch {
	case a.Kind == ByRun && a.Own:
		return fmt.Sprintf("by run %d", a.Run)
	case a.Kind == ByRun:
		return fmt.Sprintf("by run %d of %s in another store (%s), by %s", a.Run, a.Stack, a.Store, a.Name)
	case a.Kind == ByPerson:
		return "by hand, by " + a.Name
	}
	return "outside of this store"
}

// Changed says in the middle of a sentence how something in the cloud came to be other than it was: "was changed by hand in the
// cloud, by warden@hut".
func (a Author) Changed() string {
	if a.Kind == ByPerson {
		return "was changed by hand in the cloud, by " + a.Name
	}
	return "was changed in the cloud " + a.Words()
}

// Short is Words in a few letters: "run 7", "hand", "outside".
func (a Author) Short() string {
	switch {
	case a.Kind == ByRun && a.Own:
		return fmt.Sprintf("run %d", a.Run)
	case a.Kind == ByRun:
		return "another store"
	case a.Kind == ByPerson:
		return "by hand"
	}
	return "outside"
}

// UnmarshalJSON also takes what former versions wrote: who changed it, as the cloud said it.
func (a *Author) UnmarshalJSON(text []byte) error {
	if len(text) == 0 || string(text) == `""` || string(text) == "null" {
		*a = Author{Kind: Outside}
		return nil
	}
	if text[0] == '"' {
		var said string
		err := json.Unmarshal(text, &said)
		*a = AuthorOf(said, "")
		return err
	}
	type plain Author
	return json.Unmarshal(text, (*plain)(a))
}

// Unread is a resource that could not be read: nothing is known of how it is.
type Unread struct {
	Name    string `json:"name"`
	ID      string `json:"id"`
	Through string `json:"through,omitempty"` // the connection that it is reached through, by its name
	Why     string `json:"why"`
}

// Words say which it is and why.
func (u Unread) Words() string {
	through := ""
	if u.Through != "" {
		through = ", through " + u.Through
	}
	return fmt.Sprintf("%s (%s%s) is not known: %s", u.Name, u.ID, through, u.Why)
}

// UnreadNames are the names of what could not be read, the first of them where they are many.
func UnreadNames(list []Unread) string {
	var names []string
	for _, u := range list {
		names = append(names, u.Name)
	}
	return Few(names)
}

// fewNames is how many names stand in a sentence.
const fewNames = 7

// Few are names in a sentence: all of them, or the first with how many more there are.
func Few(names []string) string {
	if len(names) <= fewNames {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:fewNames-1], ", "), len(names)-fewNames+1)
}

// Standing is how a stack stands to its record, as far as the cloud has answered.
type Standing struct {
	Differs  int // resources that are not as they are recorded, are gone, or are in no record
	Unread   int // that could not be read
	Accepted int // places that are as the files say by now
}

// Words say it: "is as it is recorded" only of what was read as a whole.
func (s Standing) Words() string {
	switch {
	case s.Differs > 0 && s.Unread > 0:
		return fmt.Sprintf("differs from the record at %s, and %s not known", resources(s.Differs), s.isAre(s.Unread))
	case s.Differs > 0:
		return "differs from the record at " + resources(s.Differs)
	case s.Unread > 0:
		return fmt.Sprintf("is not known as a whole: %s could not be read; what was read is as it is recorded", resources(s.Unread))
	case s.Accepted > 0:
		return "is as it is recorded, or as the files say by now: deploy them"
	}
	return "is as it is recorded"
}

func resources(n int) string { return Count(n, "resource") }

func (s Standing) isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// What is said of one resource that is looked at.
const (
	// AsRecorded is said of what was read and does not differ.
	AsRecorded = "as recorded"
	// NotAsRecorded is said of what was read and differs.
	NotAsRecorded = "not as recorded"
	// NotKnown is said of what could not be read.
	NotKnown = "not known"
)

// GoneWords say of what is recorded under an id and was asked for that it is not there: by whom is not known, as what is
// gone does not tell.
func GoneWords(id string) string {
	return "It is recorded as " + id + ", and the cloud says that it is not there any more; by whom is not known."
}

// StrayWords say of what carries the tag of a stack that it is in no record; by is who changed it last.
func StrayWords(by Author) string {
	words := "It carries the tag of the stack, and is in no record: it was made past the stack, or the tags were copied."
	if by.Kind != Outside && by.Kind != "" {
		words += " It was changed last " + by.Words() + "."
	}
	return words
}

// ReceiptKind is what a receipt is of.
type ReceiptKind string

// The kinds of receipts.
const (
	OfUndo   ReceiptKind = "undo"
	OfDelete ReceiptKind = "delete"
)

// Receipt is what the cloud said at the end of a run of which nothing should be left, or all should be as before.
type Receipt struct {
	Kind   ReceiptKind `json:"kind"`
	Equal  bool        `json:"equal"`  // all that was asked for is as it was, or gone
	Before string      `json:"before"` // a fingerprint of the stack's resources when the run began: sha256:…
	After  string      `json:"after"`  // and at its end
	Asked  int         `json:"asked"`  // how many resources were asked for
	// Differs is what is not as it was, Left what is there still and should not, or stays on purpose.
	Differs    []ReceiptPart `json:"differs"`
	Left       []ReceiptLeft `json:"left"`
	Unreadable []Unread      `json:"unreadable"`
	Made       []string      `json:"made,omitempty"` // what was made again, under another id
}

// ReceiptPart is one place that is not as it was before the run.
type ReceiptPart struct {
	Name   string  `json:"name"`
	ID     string  `json:"id"`
	Path   string  `json:"path,omitempty"` // "" is the resource as a whole
	Before any     `json:"before"`
	After  any     `json:"after"`
	By     *Author `json:"by,omitempty"`
	Words  string  `json:"-"`
}

// ReceiptLeft is a resource that is there still.
type ReceiptLeft struct {
	Name string `json:"name"`
	ID   string `json:"id"`
	Why  string `json:"why"`
}

// MarshalJSON writes empty lists as such.
func (r *Receipt) MarshalJSON() ([]byte, error) {
	type plain Receipt
	out := plain(*r)
	out.Differs, out.Left = append([]ReceiptPart{}, r.Differs...), append([]ReceiptLeft{}, r.Left...)
	out.Unreadable = append([]Unread{}, r.Unreadable...)
	return json.Marshal(out)
}

// Whole reports whether the receipt is one that says that nothing is left, or all as it was.
func (r *Receipt) Whole() bool {
	return r.Equal && len(r.Differs)+len(r.Left)+len(r.Unreadable) == 0
}

// The reasons why something is there still that may be.
const (
	StaysKept = "kept"
	StaysLeft = "left"
)

// Words are the receipt in a sentence, of a stack in a target.
func (r *Receipt) Words(name, target string) string {
	var parts, kept, left []string
	for _, d := range r.Differs {
		parts = append(parts, d.Words)
	}
	for _, l := range r.Left {
		is := fmt.Sprintf("%s (%s)", l.Name, l.ID)
		switch why, _, _ := strings.Cut(l.Why, ":"); {
		case why == StaysKept:
			kept = append(kept, is)
		case why == StaysLeft:
			left = append(left, is)
		default:
			parts = append(parts, "the cloud still has "+is)
		}
	}
	stays := ""
	if len(kept) > 0 {
		stays = "kept: " + strings.Join(kept, ", ")
	}
	if len(left) > 0 {
		if stays != "" {
			stays += "; "
		}
		stays += "left: " + strings.Join(left, ", ")
	}
	if r.Kind == OfUndo && len(left) > 0 {
		parts = append(parts, "left in the cloud: "+strings.Join(left, ", "))
	}
	for _, u := range r.Unreadable {
		parts = append(parts, u.Words())
	}
	switch {
	case r.Kind == OfUndo && r.Whole() && r.Asked == 0:
		return "undone: nothing of the stack is in the cloud, as before"
	case r.Kind == OfUndo && r.Whole():
		words := fmt.Sprintf("undone: the cloud was asked, all %d resources are as they were (%s)", r.Asked, r.print())
		if len(r.Made) > 0 {
			words += "; made again: " + strings.Join(r.Made, ", ")
		}
		return words
	case r.Kind == OfUndo && len(r.Differs)+len(r.Left) == 0:
		return "undone; whether all is as before is not known: " + strings.Join(parts, "; ")
	case r.Kind == OfUndo:
		return "undone, but not all is as before: " + strings.Join(parts, "; ")
	case r.Whole():
		return fmt.Sprintf("the cloud was asked for %d resources: nothing of %s is left in %s", r.Asked, name, target)
	case len(r.Unreadable) > 0:
		if stays != "" {
			parts = append(parts, stays)
		}
		return "whether all is gone is not known: " + strings.Join(parts, "; ")
	case len(parts) == 0:
		return "nothing is there any more but what is " + stays
	}
	if stays != "" {
		parts = append(parts, stays)
	}
	return strings.Join(parts, "; ")
}

// print are both fingerprints, shortly.
func (r *Receipt) print() string {
	short := func(s string) string {
		return strings.TrimPrefix(s, "sha256:")[:min(12, len(strings.TrimPrefix(s, "sha256:")))]
	}
	return fmt.Sprintf("fingerprint %s before, %s after", short(r.Before), short(r.After))
}
