// Package app is the use cases of Brick Row: check, what-if, deploy, watch,
// resume, undo, delete. The command line and the interface both call it and do
// nothing themselves. It wires the language, the comparison, the runs, the
// store and the cloud together and knows no screen.
package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/adrg/xdg"
	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/profile"
	"brickrow/internal/programs"
	"brickrow/internal/queue"
	"brickrow/internal/rules"
	"brickrow/internal/run"
	"brickrow/internal/shareddb"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/ways"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// Options say where the data is and which cloud to use.
type Options struct {
	Home     string  // folder of the data; "" is BRICKROW_HOME or the user's data folder
	Store    string  // URL of a shared store; "" is BRICKROW_STORE, else InFile
	CloudURL string  // "" is BRICKROW_CLOUD or the embedded stand-in
	Speed    float64 // of the stand-in; 0 is BRICKROW_YARD_SPEED or 1
	// Tokens are credentials by account that were handed over; they come before
	// those of the environment.
	Tokens map[string]string
	// AskPrograms lets programs of own types be asked at a look that were never deployed.
	AskPrograms bool
	// Looking says that nothing will be changed: a folder of data that cannot be written will do.
	Looking bool
	Seams
}

// Seams are where a simulation takes hold. None of them is set otherwise.
type Seams struct {
	// Reach is how the cloud at CloudURL is reached; nil is over the network.
	Reach http.RoundTripper
	// Halt is asked before and after each entry of the journal, and is told in words which. An error ends the run there, as
	// if its process had ended.
	Halt func(at string) error
	// Around is around all that is written to the store.
	Around func(write func() error) error
}

// App is an open Brick Row.
type App struct {
	original string // the folder of the data, where Home is a copy of it that is looked at
	store    *store.Store
	Cloud    cloud.Cloud
	Door     *yard.Door       // the operator's way into the stand-in
	Profile  *profile.Profile // the types that ship with the program
	// AskPrograms lets programs of own types be asked that were never deployed: somebody has looked at them.
	AskPrograms atomic.Bool
	Home        string
	Speed       float64
	Duration    whatif.Duration
	yard        *yard.Yard // nil with a cloud elsewhere

	deployedMu   sync.Mutex
	lastDeployed *deployed // the stack that was compared with last

	draftMu    sync.Mutex
	lastDraft  *Draft // that was read last
	limits     limits
	failedMu   sync.Mutex
	lastFailed failed
	lastWhole  *Draft // the last one whose template could be read as a whole

	recordsMu sync.Mutex
	records   records // those read last

	keepMu  sync.Mutex
	keeping map[string]*os.File // locks of the unsaved texts that are kept

	inPart atomic.Bool // what was read last was read in part, for the tests

	memoryMu sync.Mutex
	memory   *whatif.Memory // of the stack that was compared last

	trees tosca.Trees // of the template that was read last

	// clock lets a test say what time it is; nil is the time of the machine.
	clock func() time.Time

	halt func(at string) error // as in Seams

	rulesMu  sync.Mutex
	rules    *rules.Set // those read last
	rulesKey string     // what they were read from
	rulesLib *tosca.Library
	// shippedWith is the library to which all shipped types were added last, as withOwn.
	shippedWith, withOwn *tosca.Library
	programs             *programs.Cloud   // of types of one's own
	connections          *ways.Connections // to what is elsewhere
	client               *httpcloud.Client // of the cloud of the targets

	whenceMu sync.Mutex
	whences  map[string]Whence // where stack files are, by their paths
	named    map[string]string // members by their keys

	queueMu sync.Mutex
	queue   *queue.Queue // nil as long as nobody needs it
	set     set
	targets listedTargets
	secrets knownSecrets
}

// DataFiles are the files that a data folder may hold, the store first.
var DataFiles = []string{store.File, store.File + "-wal", store.File + "-shm", "yard.db", "yard.db-wal", "yard.db-shm",
	queue.File, queue.File + "-wal", queue.File + "-shm", store.KeyFile, yard.CredentialsFile, "logs", unsavedFolder, FindingsPage, "programs", "connections", store.SeenFolder}

// stamp tells one state of the store from another, at no cost.
func (a *App) stamp() string {
	if a.Shared() {
		n, sure := a.store.Heard()
		if !sure { // it may be another one each time
			n = time.Now().UnixNano()
		}
		return fmt.Sprint(n)
	}
	stamp := ""
	for _, name := range DataFiles[:2] {
		if info, err := os.Stat(filepath.Join(a.Home, name)); err == nil {
			stamp += fmt.Sprint(info.Size(), info.ModTime().UnixNano(), " ")
		}
	}
	return stamp
}

// Home is the folder of the data.
func Home(given string) string {
	switch {
	case given != "":
		return given
	case os.Getenv("BRICKROW_HOME") != "":
		return os.Getenv("BRICKROW_HOME")
	}
	return filepath.Join(xdg.DataHome, "brickrow")
}

// StorePlace says where the store is: given, or as BRICKROW_STORE says, or a file in the folder of the data.
func StorePlace(home, given string) (store.Place, error) {
	if given == "" {
		var set bool
		if given, set = os.LookupEnv("BRICKROW_STORE"); set && strings.TrimSpace(given) == "" {
			return store.Place{}, refusal("BRICKROW_STORE is set and empty, so which store is meant is not known: give the URL of the shared store, "+
				"'file' for the one in %s, or unset it", home)
		}
	}
	if given == "" {
		return store.Place{Dir: home}, nil
	}
	if shareddb.IsWords(given) {
		return store.Place{}, refusal("%v", shareddb.ErrWords)
	}
	return store.ParsePlace(given, home), nil
}

// InFile is the Store of Options that means the file in the folder of the data, whatever else is set.
const InFile = store.InFile

// storeText is the Store of Options that means the store that is open.
func (a *App) storeText() string {
	if place := a.store.Place(); place.URL != "" {
		return place.URL
	}
	return InFile
}

// Shared reports whether the store is one that several people share.
func (a *App) Shared() bool { return a.store.Place().URL != "" }

// Speed is how much faster than nominal the stand-in runs.
func Speed(given float64) (float64, error) {
	if given > 0 {
		return given, nil
	}
	text := os.Getenv("BRICKROW_YARD_SPEED")
	if text == "" {
		return 1, nil
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil || f <= 0 || f > 1e6 {
		return 0, fmt.Errorf("BRICKROW_YARD_SPEED is '%s': give a number above 0, such as 2", text)
	}
	return f, nil
}

// Open opens the store and the cloud. The folder is made where it is missing.
func Open(o Options) (*App, error) {
	shipped := inBackground(profile.Read)
	a := &App{Home: Home(o.Home), halt: o.Halt}
	a.AskPrograms.Store(o.AskPrograms)
	var err error
	if a.Speed, err = Speed(o.Speed); err != nil {
		return nil, err
	}
	if readOnly(a.Home) {
		if !o.Looking {
			return nil, &ReadOnlyError{a.Home}
		}
		home := a.Home
		if a.Home, err = lookAt(home); err != nil {
			return nil, fmt.Errorf("the folder of the data, %s, cannot be written, and no copy of it can be made: %w", home, err)
		}
		a.original = home
	}
	if err := MakeHome(a.Home); err != nil {
		return nil, err
	}
	var opening errgroup.Group // side by side: it is waited for at every start
	var client *httpcloud.Client
	place, err := StorePlace(a.Home, o.Store)
	if err != nil {
		return nil, err
	}
	opening.Go(func() (err error) {
		a.store, err = store.Open(context.Background(), place, func() *tosca.Library { return shipped().Library })
		return err
	})
	opening.Go(func() (err error) {
		client, err = a.openCloud(o, shipped)
		return err
	})
	if err := opening.Wait(); err != nil {
		return nil, errors.Join(err, a.Close())
	}
	if o.Around != nil {
		a.store.Around(o.Around)
	}
	a.Profile = shipped()
	a.Duration = whatif.Nominal(a.Profile.Library, a.Speed)
	mux, err := a.clouds(client)
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	a.Cloud, a.client = mux, client
	a.Door = &yard.Door{Base: client.Base, HTTP: client.HTTP, Token: client.Tokens["operator"]}
	return a, nil
}

// MakeHome makes the folder of the data where it is missing. One that others can
// open is refused.
func MakeHome(home string) error {
	if err := os.MkdirAll(home, 0o700); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w", err)
	}
	info, err := os.Stat(home)
	if err != nil {
		return err
	}
	return files.Private(home, info)
}

func (a *App) openCloud(o Options, shipped func() *profile.Profile) (*httpcloud.Client, error) {
	url := cmp.Or(o.CloudURL, os.Getenv("BRICKROW_CLOUD"))
	if url != "" {
		tokens, err := credentials(a.Home, o.Tokens)
		way := httpcloud.Direct
		if o.Reach != nil {
			way = &http.Client{Transport: o.Reach}
		}
		return &httpcloud.Client{Base: strings.TrimSuffix(url, "/"), HTTP: way,
			Tokens: tokens, By: identity.Caller(), Without: a.without}, err
	}
	y, err := yard.Open(a.Home, yard.Options{Library: shipped().Library, Speed: a.Speed})
	if err != nil {
		return nil, err
	}
	a.yard = y
	tokens, err := credentials(a.Home, o.Tokens)
	return &httpcloud.Client{Base: "http://yard.local", By: identity.Caller(), Without: a.without,
		HTTP: &http.Client{Transport: yard.Transport{Handler: y.Handler()}}, Tokens: tokens}, err
}

// without says what mends it that there is nothing to be let into an account with.
func (a *App) without(account string) error {
	return refusal("there are no credentials for the account %s: set BRICKROW_TOKEN_%s, or put the token of each account into %s, as "+
		"{ \"account\": \"token\" }", account, strings.ToUpper(strings.ReplaceAll(account, "-", "_")), filepath.Join(a.Home, yard.CredentialsFile))
}

// credentials are the tokens of the accounts: those of the file, and over them
// those of the environment, such as BRICKROW_TOKEN_WORKSHOP.
func credentials(home string, handed map[string]string) (map[string]string, error) {
	given := environmentTokens()
	maps.Copy(given, handed)
	path := filepath.Join(home, yard.CredentialsFile)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) { // who looks and agrees alone needs none
		return given, nil
	}
	tokens, err := readTokens(path)
	if err != nil {
		return nil, err
	}
	for account, token := range given {
		tokens[account] = token
	}
	return tokens, nil
}

// environmentTokens are the tokens of the environment, by account.
func environmentTokens() map[string]string {
	given := map[string]string{}
	for _, v := range os.Environ() {
		if name, token, _ := strings.Cut(v, "="); strings.HasPrefix(name, "BRICKROW_TOKEN_") {
			given[strings.ToLower(strings.ReplaceAll(strings.TrimPrefix(name, "BRICKROW_TOKEN_"), "_", "-"))] = token
		}
	}
	return given
}

// readTokens reads the credentials file. One that others can read is refused.
func readTokens(path string) (map[string]string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if err := files.Private(path, info); err != nil {
		return nil, err
	}
	b, err := files.Read(path, 1<<20)
	if err != nil {
		return nil, err
	}
	var tokens map[string]string
	if err := json.Unmarshal(b, &tokens); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return tokens, nil
}

// Close closes the store and the embedded cloud.
func (a *App) Close() error {
	var err error
	if a.connections != nil {
		a.connections.Close()
	}
	if a.queue != nil {
		a.queue.Close()
	}
	if a.store != nil {
		err = a.store.Close()
	}
	if a.yard != nil {
		err = errors.Join(err, a.yard.Close())
	}
	if a.original != "" {
		err = errors.Join(err, os.RemoveAll(a.Home))
	}
	return err
}

// storeID is what the store is told by; "" where it cannot be asked.
func (a *App) storeID(ctx context.Context) string {
	id, err := a.store.ID(ctx)
	if err != nil {
		return ""
	}
	return id
}

// StandIn reports whether the cloud is the embedded stand-in, which can be
// made to fail on purpose.
func (a *App) StandIn() bool { return a != nil && a.yard != nil }

// LetFail makes the stand-in fail once at a resource, in its last inner step,
// with these words.
func (a *App) LetFail(ctx context.Context, resource, reason string) error {
	return errorOf(a.Door.AddFault(ctx, yard.Fault{Name: resource, At: "last", Times: 1, Reason: reason}))
}

func errorOf[T any](_ T, err error) error { return err }

// Refusal is a refusal that the user can do something about. Findings may be
// empty; Message then says it all.
type Refusal struct {
	Message  string
	Findings tosca.Findings
}

func (r *Refusal) Error() string {
	lines := make([]string, 0, len(r.Findings)+1)
	for _, f := range r.Findings {
		lines = append(lines, f.String())
	}
	if r.Message != "" {
		lines = append(lines, r.Message)
	}
	return strings.Join(lines, "\n")
}

func refusal(format string, args ...any) error {
	return &Refusal{Message: fmt.Sprintf(format, args...)}
}

// Results lists a stack's results. While it is removed, or half of it is, it has
// none: what they speak of may be gone.
func (a *App) Results(ctx context.Context, st *stack.Stack) ([]stack.Result, error) {
	if st.State == stack.Removing || st.State == stack.Stuck {
		last, err := a.store.RunNumber(ctx, st.ID, 0)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if err == nil && last.Kind == run.KindDelete {
			return nil, nil
		}
	}
	return a.store.Results(ctx, st.ID)
}

// resultUsers answers who gets a result of a stack; it asks the store when it is
// asked first.
func (a *App) resultUsers(ctx context.Context, st *stack.Stack) func(name string) []string {
	var uses []using
	asked := false
	return func(name string) []string {
		if !asked {
			asked = true
			all, err := a.uses(ctx)
			if err != nil {
				return []string{fmt.Sprintf("somebody, perhaps (%v)", err)}
			}
			for _, u := range all {
				if u.of(st) {
					uses = append(uses, u)
				}
			}
		}
		var out []string
		for _, u := range uses {
			if u.Result == name {
				out = append(out, fmt.Sprintf("%s in %s (its input %s)", u.Stack.Name, u.Stack.Target, u.Input))
			}
		}
		return out
	}
}

// using is a use with the stacks that its name stands for.
type using struct {
	store.Use
	means []*stack.Stack
}

// uses lists who uses results of whom.
func (a *App) uses(ctx context.Context) ([]using, error) {
	all, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	return a.usesAmong(ctx, all)
}

// usesAmong lists who uses results of whom, where all are the stacks.
func (a *App) usesAmong(ctx context.Context, all []*stack.Stack) ([]using, error) {
	list, err := a.store.Uses(ctx, all)
	if err != nil {
		return nil, err
	}
	byName := map[string][]*stack.Stack{}
	for _, st := range all {
		byName[st.Name] = append(byName[st.Name], st)
	}
	out := make([]using, len(list))
	for i, u := range list {
		out[i] = using{u, meant(u, byName)}
	}
	return out, nil
}

// meant are the stacks that the name in a use stands for, as fetch finds them: those in the target of the user first.
func meant(u store.Use, byName map[string][]*stack.Stack) (out []*stack.Stack) {
	for _, st := range byName[u.Of] {
		if st.Fleet != "" {
			out = append(out, st)
		}
	}
	for _, st := range byName[StackIn(u.Of, u.Stack.Target)] {
		if st.Target == u.Stack.Target {
			out = append(out, st)
		}
	}
	name, place, placed := strings.Cut(u.Of, "@")
	var there, elsewhere []*stack.Stack
	for _, st := range byName[name] {
		switch {
		case placed && place != st.Target.String():
		case placed || st.Target == u.Stack.Target:
			there = append(there, st)
		default:
			elsewhere = append(elsewhere, st)
		}
	}
	if len(there) == 0 {
		there = elsewhere
	}
	return append(out, there...)
}

// of reports whether it is a result of a stack that another one uses.
func (u using) of(st *stack.Stack) bool {
	return u.Stack.ID != st.ID && slices.ContainsFunc(u.means, func(m *stack.Stack) bool { return m.ID == st.ID })
}
