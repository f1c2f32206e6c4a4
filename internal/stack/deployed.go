package stack

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"
	"unicode"

	"brickrow/internal/tosca"
)

// State is the state of a stack.
type State string

// The states of a stack.
const (
	Empty     State = "empty"
	Deploying State = "deploying"
	Ready     State = "ready"
	Partial   State = "partial" // not wholly at its revision: held after a failure, or left so by an earlier run
	Undoing   State = "undoing"
	Removing  State = "removing"
	Removed   State = "removed"
	Stuck     State = "stuck"

	// These are shown, and not recorded; see Shown.
	Interrupted State = "interrupted" // nobody carries its run out any more
	Paused      State = "paused"      // its run waits for somebody to go on with it
	AtRest      State = "at rest"     // all of it that can rest does
	PartAtRest  State = "partly at rest"
	Amiss       State = "amiss" // something of it has failed since it was deployed
)

// Shown is how a stack stands, by all that is known of it. Every place that says so asks this.
func (s *Stack) Shown() State {
	switch {
	case s.State.Moving() && s.Alone != "":
		return s.Alone
	case s.State == Ready && s.Seen != "":
		return s.Seen
	}
	return s.State
}

// SeenAs is how what is there of a stack stands, where it is not all up: something has failed, or rests. Resting is of how
// many that can.
func SeenAs(failed, resting, can int) State {
	switch {
	case failed > 0:
		return Amiss
	case resting > 0 && resting >= can:
		return AtRest
	case resting > 0:
		return PartAtRest
	}
	return ""
}

// Moving reports whether a run changes the stack, or was to.
func (s State) Moving() bool { return s == Deploying || s == Undoing || s == Removing }

// Stack is a stack as it is recorded.
type Stack struct {
	ID          int64
	Name        string
	Target      Target
	State       State
	Seen        State // how what is there stands, as somebody has seen last; "" is that it runs
	Alone       State // of one that moves: Interrupted or Paused, where nobody moves it; else ""
	Revision    int   // the one deployed; 0 is none
	Description string
	StackFile   string // the file it was last deployed from
	Careful     bool
	Throwaway   bool     // losing its data does not matter
	Approvers   []string // who may agree to what is done to it; empty is anybody
	Created     time.Time
	Updated     time.Time
	// Differs is how many of its resources were not as they are recorded when somebody looked
	// last.
	Differs int
	Fleet   string // that it is a place of; "" is none
}

// Revision is one deployed version of a stack.
type Revision struct {
	Number   int
	Template string            // path of the template
	Text     string            // the template itself
	Entry    string            // its path among its files; "" is its name without the folder
	Files    map[string][]byte // what it imports and uses, by path
	Found    map[string]Found  // what its look-ups found, by node
	Inputs   []Input
	Tags     map[string]string
	By       string
	Created  time.Time
	Note     string
	// Origin is where it came from, as JSON of the app; "" is not known.
	Origin string
}

// Result is a result of a stack, as its outputs say.
type Result struct {
	Name, Description string
	Value             tosca.Value
	Was               tosca.Value // before the last run, where that changed it; else nil
	Command           string      // with $value where the value belongs; "" is none
}

// Text is the value of the result, without what is secret in it.
func (r Result) Text() string { return tosca.Show(r.Value) }

// Reveal is the value of the result in clear.
func (r Result) Reveal() string { return tosca.InClear(r.Value) }

// Ready is the command that is ready to be run with the result, its value quoted for a
// shell; "" where there is none. In clear, what is secret is in it.
func (r Result) Ready(text func(Result) string) string {
	return strings.ReplaceAll(r.Command, "$value", ShellWord(text(r)))
}

// Address is the result where it is an address that a browser opens; "" where it is none.
func (r Result) Address() string {
	if tosca.HasSecret(r.Value) {
		return ""
	}
	u, err := url.Parse(r.Text())
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return ""
	}
	return u.String()
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_@%+=:,./-]+$`)

// ShellWord is a text as one word of a shell's command line.
func ShellWord(text string) string {
	if plainWord.MatchString(text) {
		return text
	}
	if strings.ContainsFunc(text, func(c rune) bool { return unicode.IsControl(c) && c != '\n' }) { // not as it is, on a terminal
		var b strings.Builder
		for i := range len(text) {
			if c := text[i]; c < ' ' || c == 0x7f || c >= 0x80 || c == '\'' || c == '\\' {
				fmt.Fprintf(&b, "\\x%02x", c)
			} else {
				b.WriteByte(c)
			}
		}
		return "$'" + b.String() + "'"
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
