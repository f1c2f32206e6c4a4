// Package part has what the views of the interface share: the screen and its
// colours, the wall, lines of input, and the contract between a view and the shell
// around it. It knows no view.
package part

import (
	"context"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// View is one view of the interface: a component that hears messages, draws
// itself into the room it gets, and says which keys do something now. It knows the
// shell, and no other view.
type View interface {
	// Name is what stands in the line of views.
	Name() string
	// Accepts reports whether an intent, which somebody sent by the shell, is for this
	// view. It then gets it as a message.
	Accepts(intent any) bool
	// Update hears a message: those of this package, what the view's own commands
	// answer, and what the components in it want. It may hear those of other views
	// too, and lets them pass.
	Update(msg tea.Msg) tea.Cmd
	Draw(s *Screen, r Rect)
	// Bindings are the keys that do something now, the ones that matter first.
	Bindings() []Binding
	// Hint is the next step in words.
	Hint() string
	// Status is the right side of the second line.
	Status() string
}

// Typist is a view that may be typed into: while it is, it hears all keys, and
// what is pasted, and no key does anything else.
type Typist interface{ Typing() bool }

// Capturer is a typist that has a meaning of its own for some of the keys that the
// shell takes otherwise, such as ctrl+c and ctrl+z.
type Capturer interface{ Captures(key string) bool }

// Keeper is a view with texts that are not saved.
type Keeper interface {
	// Unsaved names them.
	Unsaved() []string
	// Keep keeps them for the next time; the interface ends.
	Keep() error
}

// Roamer is a view that needs no stack to be chosen.
type Roamer interface{ Roams() bool }

// Mover is a view in which something moves by itself now, so that it is drawn
// again and again.
type Mover interface{ Moves() bool }

// Shell is what a view knows of the interface around it.
type Shell interface {
	App() *app.App
	Context() context.Context
	Theme() *Theme
	Size() (w, h int) // of the whole screen
	// Subject is the stack that all views are about, and About makes another one it: where
	// somebody chooses one, or acts on one. Looking at something never does.
	Subject() Subject
	About(Subject)
	// Values are the inputs that were given here for a stack file, and Give replaces
	// them, each as name=value.
	// The values have the texts with them that are held.
	Values(file string) app.Values
	Give(file string, flags []string)
	// Hold lets a text stand for a file while it is not saved; nil no longer does.
	Hold(file string, text []byte)
	// Say tells what was done, Warn what is wrong.
	Say(format string, args ...any)
	Warn(format string, args ...any)
	// Ask asks a question; nothing else is done until it is answered or left.
	Ask(*Ask)
	// Send sends an intent to the view that takes it.
	Send(intent any) tea.Cmd
	// Front reports whether a view is the one on the screen, and Bring makes it that; esc
	// leads back from there.
	Front(View) bool
	Bring(View)
	// Later tells a message after a time.
	Later(d time.Duration, msg tea.Msg) tea.Cmd
	// Wait waits for a message that may never come.
	Wait(func() tea.Msg) tea.Cmd
	// Watch asks to be told when files change.
	Watch(files ...string)
}

// What the shell tells its views.
type (
	// Opened says that a view was brought to the front by the user.
	Opened struct{}
	// StoreChanged says that the store was written, or that it is time to look.
	StoreChanged struct{}
	// FileChanged says that a file changed that somebody watches, or one beside it.
	FileChanged struct{ Path string }
	// InputsGiven says that the inputs of a stack file were given here anew.
	InputsGiven struct{ File string }
	// Click is a click with the mouse, Drag its way while the button is down, and Wheel a
	// turn of its wheel: -1 is up.
	Click struct{ X, Y int }
	Drag  struct{ X, Y int }
	Wheel struct{ By int }
)

// What the views tell the shell, which does it.
type (
	// Failed says that something could not be done.
	Failed struct {
		Doing string
		Err   error
	}
	// Done says that something was done.
	Done struct{ Words string }
)

// ShowThere wants to see a resource as it is in the cloud.
type ShowThere app.Place

// ShowTrail wants to see what has become of a resource.
type ShowTrail struct {
	Of   app.Place
	Name string // what it is called
}

// Compared says what the text of a stack would change by the record, as it is being
// written.
type Compared struct{ Preview *app.Preview }

// What the views want of each other.
type (
	// ShowPlace wants a place of a file to be shown.
	ShowPlace struct{ Pos tosca.Pos }
	// ShowDraft wants a draft to be shown that was opened. With Fill it was begun just now,
	// and what is to be filled in is gone through.
	ShowDraft struct {
		Draft *app.Draft
		Fill  bool
	}
	// AskFor wants to be asked which file to open.
	AskFor struct{}
	// ShowWhatIf wants to see what a deployment would do.
	ShowWhatIf struct{}
	// ShowUndo and ShowDeletion want to see what going back would do, or removing. To is the
	// revision that is gone back to; 0 lets one choose it.
	ShowUndo struct{ To int }
	// ShowPreview wants to see what is made then.
	ShowPreview struct {
		Make func() (*app.Preview, error)
	}
	ShowDeletion struct{}
	// ShowRun wants to see the last run of the stack that all views are about.
	ShowRun struct{}
	// ShowSaved wants a saved change set to be shown.
	ShowSaved struct{ Path string }
	// Begin wants a run to be carried out that was prepared, and to be shown.
	Begin struct{ Ticket *app.Ticket }
)

// Begun is the message that a run was prepared, or why it was not.
func Begun(t *app.Ticket, err error) tea.Msg {
	if err != nil {
		return Failed{Err: err}
	}
	return Begin{t}
}

// Subject is the stack that the views are about. Stack is nil while it is only
// a stack file.
type Subject struct {
	Name    string
	File    string
	Target  string
	Stack   *stack.Stack
	Careful bool // the stack file says so, or the target is
}

// Is reports whether two subjects are the same stack.
func (a Subject) Is(b Subject) bool { return a.Name == b.Name && a.Target == b.Target }

// Place is the target in words.
func (a Subject) Place() string {
	account, region, ok := strings.Cut(a.Target, "/")
	if !ok {
		return a.Target
	}
	return account + " / " + region
}

// Binding is a key with what it does. Footer, help and palette are made of
// bindings.
type Binding struct {
	key.Binding
	Do func() tea.Cmd
	// Command is its name in the palette; "" leaves it out.
	Command string
}

// Bind is a binding of keys that are not shown.
func Bind(do func() tea.Cmd, keys ...string) Binding {
	return Binding{Binding: key.NewBinding(key.WithKeys(keys...)), Do: do}
}

// Shown shows a binding in the footer and in the help, and has it as a command.
func (b Binding) Shown(keys, words string) Binding {
	b.SetHelp(keys, words)
	b.Command = strings.ToUpper(words[:1]) + words[1:]
	return b
}

// As gives the command another name than what is shown; "" is no command.
func (b Binding) As(command string) Binding {
	b.Command = command
	return b
}

// Hidden are bindings that work and are not shown.
func Hidden(list []Binding) []Binding {
	out := make([]Binding, len(list))
	for i, b := range list {
		out[i] = Bind(b.Do, b.Keys()...)
	}
	return out
}

// Run makes something that leaves no command behind a function of a binding.
func Run(do func()) func() tea.Cmd {
	return func() tea.Cmd {
		do()
		return nil
	}
}

// Press carries out the first of some bindings that a key is for; done is false
// where there is none.
func Press(list []Binding, k tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	for _, b := range list {
		if key.Matches(k, b.Binding) {
			return b.Do(), true
		}
	}
	return nil, false
}
