package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// What a shell offers while a command is typed. The words in the usage of a command say what stands where, such as
// STACK, so each place of each command is completed by what its word means; and flags by their names.

// offer is what can stand at a place: words, each with its meaning behind a tab, or files.
type offer struct {
	words   []string
	files   []string // ends of the names of files; with none, and no words, any file
	folders bool
	open    bool // more is written behind what was chosen
}

// asking is what is known when something is offered: the words before it, and what it begins with.
type asking struct {
	context.Context
	cmd  *cobra.Command
	args []string
	word string
}

// offers are what a word in the usage of a command means. A nil App is that there is no data yet.
var offers = map[string]func(a *app.App, q asking) offer{
	"STACK":     func(a *app.App, q asking) offer { return offer{words: stackNames(a, q)} },
	"RESOURCE":  ofStack(resources),
	"RESULT":    ofStack(results),
	"ACTION":    ofStack(actions),
	"REVISION":  ofStack(revisions),
	"STACKFILE": func(*app.App, asking) offer { return offer{files: []string{".stack.yaml", ".csar"}} },
	"FLEETFILE": func(a *app.App, q asking) offer {
		return offer{words: fleetNames(a, q), files: []string{".fleet.yaml"}}
	},
	"CHANGESET": func(*app.App, asking) offer { return offer{files: []string{".changes"}} },
	"TEMPLATE":  yamlFiles,
	"FILE":      yamlFiles,
	"FOLDER":    func(*app.App, asking) offer { return offer{folders: true} },
	"DIR":       func(*app.App, asking) offer { return offer{folders: true} },
	"NODE":      nodesOf,
	"NODE_TYPE": typesOf,
	"TARGET":    targetsThere,
	"ACCOUNT":   accountsOf,
	"STARTER":   startersThere,
	"WORKER":    workersThere,
	"MEMBER":    membersThere,
	"FLEET":     func(a *app.App, q asking) offer { return offer{words: fleetNames(a, q)} },
}

// flagOffers are what can be given to a flag, by its name, or by the command and its name.
var flagOffers = map[string]func(a *app.App, q asking) offer{
	"target": targetsThere, "careful": targetsThere, "not-careful": targetsThere, "approval": targetsThere, "no-approval": targetsThere,
	"stack": offers["STACK"], "resource": ofStack(resources), "retry": ofStack(resources), "type": typesOf,
	"only": nodesOf, "fail-at": nodesOf, "of": nodesOf,
	"run": ofStack(runs), "undo to": ofStack(revisions), "whatif from": ofStack(revisions), "whatif to": ofStack(revisions),
	"input": inputsOf, "inputs": yamlFiles, "accept": fixed("data", "origin", "leaving"), "on-failure": fixed("undo", "hold"), "as": fixed("wall", "changes", "times"),
	"state": fixed(textsOf(run.States)...), "priority": fixed("1\tfirst", "2", "3", "4\tlast"),
	"on": fixed("create", "update", "delete", "drain", "refill", "backup", "restore"), "mode": fixed("fail", "busy", "lose", "silent", "slow", "endless", "unheard"),
	"leave": rulesBuiltIn, "take": rulesBuiltIn, "queue": fixed(app.UsualQueue),
}

func yamlFiles(*app.App, asking) offer { return offer{files: []string{".yaml", ".yml", ".csar"}} }

func textsOf[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = string(x)
	}
	return out
}

// fixed offers the same always.
func fixed(words ...string) func(*app.App, asking) offer {
	return func(*app.App, asking) offer { return offer{words: words} }
}

// completing lets all commands below one offer what can stand where.
func (p *Program) completing(cmd *cobra.Command) {
	words := placesIn(cmd.Use)
	if len(words) > 0 {
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return p.offered(words, asking{cmd.Context(), cmd, args, word})
		}
	} else if cmd.HasParent() {
		cmd.ValidArgsFunction = cobra.NoFileCompletions
	}
	for name, of := range flagOffers {
		command, flag, ok := strings.Cut(name, " ")
		if !ok {
			command, flag = cmd.Name(), name
		}
		if command != cmd.Name() || cmd.LocalNonPersistentFlags().Lookup(flag) == nil {
			continue
		}
		_ = cmd.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return p.answer(asking{cmd.Context(), cmd, args, word}, of)
		})
	}
	for _, below := range cmd.Commands() {
		p.completing(below)
	}
}

// argument is a word in the usage of a command.
type argument struct {
	names   []string // STACKFILE, CHANGESET
	many    bool     // it may be given again
	free    bool     // it may be left out, and what follows stand here
	literal bool     // the names are meant as they are
}

// placesIn reads what stands where in the usage of a command, such as "act STACK [RESOURCE] ACTION".
func placesIn(use string) []argument {
	var out []argument
	for _, w := range strings.Fields(use)[1:] {
		if strings.HasPrefix(w, "-") || w == "|" {
			break // flags, which are completed by their names
		}
		p := argument{many: strings.HasSuffix(w, "..."), free: strings.HasPrefix(w, "[")}
		w = strings.Trim(strings.TrimSuffix(w, "..."), "[]()")
		p.names = strings.FieldsFunc(w, func(r rune) bool { return r == '|' })
		for i, n := range p.names {
			p.names[i] = strings.Trim(n, "[]")
			p.literal = p.literal || strings.ToLower(n) == n
		}
		out = append(out, p)
	}
	return out
}

func (p *Program) offered(places []argument, q asking) ([]string, cobra.ShellCompDirective) {
	at := len(q.args)
	if at >= len(places) {
		if !places[len(places)-1].many {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		at = len(places) - 1
	}
	return p.answer(q, func(a *app.App, q asking) offer {
		here := places[at]
		if here.literal {
			return offer{words: here.names}
		}
		var all offer
		names := here.names
		if here.free && at+1 < len(places) {
			names = slices.Concat(names, places[at+1].names)
		}
		for _, n := range names {
			of, ok := offers[n]
			if !ok {
				continue
			}
			o := of(a, q)
			all.words, all.files, all.folders, all.open = append(all.words, o.words...), append(all.files, o.files...), all.folders || o.folders, all.open || o.open
		}
		return all
	})
}

// howLong a shell is kept waiting.
const howLong = 2 * time.Second

// answer turns what is offered into what the shells are told. What cannot be found out is not offered: a shell that
// is asked for a completion has no place for an error.
func (p *Program) answer(q asking, of func(*app.App, asking) offer) ([]string, cobra.ShellCompDirective) {
	if q.Context == nil {
		q.Context = context.Background()
	}
	ctx, stop := context.WithTimeout(q.Context, howLong)
	defer stop()
	q.Context = ctx
	o := p.ask(q, of)
	fits := slices.DeleteFunc(slices.Clone(o.words), func(w string) bool { return !strings.HasPrefix(w, q.word) })
	switch {
	case len(fits) > 0 && o.open:
		return fits, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
	case len(fits) == 0 && o.folders:
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	fits = append(fits, filesLike(q.word, o.files)...)
	if len(fits) == 1 && strings.HasSuffix(fits[0], "/") { // it goes on below the folder
		return fits, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
	}
	return fits, cobra.ShellCompDirectiveNoFileComp
}

// ask asks what can stand there. A store or a cloud that does not answer in time is not waited for.
func (p *Program) ask(q asking, of func(*app.App, asking) offer) offer {
	if err := p.configured(q.cmd); err != nil || !p.dataThere() {
		return of(nil, q)
	}
	answer := make(chan offer, 1)
	go func() {
		if err := p.with(func(a *app.App) error { answer <- of(a, q); return nil }); err != nil {
			answer <- of(nil, q)
		}
	}()
	select {
	case o := <-answer:
		return o
	case <-q.Done():
		return of(nil, q)
	}
}

// dataThere reports whether there is a store to be asked: none is made to answer a shell.
func (p *Program) dataThere() bool {
	o := p.options()
	_, err := os.Stat(app.Home(o.Home))
	return err == nil
}

// filesLike lists the files that begin with a word and end in one of some ways, and the folders on the way to them.
func filesLike(word string, ends []string) []string {
	if len(ends) == 0 {
		return nil
	}
	dir, base := filepath.Split(word)
	list, err := os.ReadDir(cmp.Or(dir, "."))
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range list {
		name := e.Name()
		if !strings.HasPrefix(name, base) || strings.HasPrefix(name, ".") && !strings.HasPrefix(base, ".") {
			continue
		}
		if info, err := os.Stat(filepath.Join(cmp.Or(dir, "."), name)); err == nil && info.IsDir() {
			out = append(out, dir+name+"/")
		} else if slices.ContainsFunc(ends, func(end string) bool { return strings.HasSuffix(name, end) }) {
			out = append(out, dir+name)
		}
	}
	return out
}

// stackNames are the names of stacks: those that are there twice with their targets.
func stackNames(a *app.App, q asking) []string {
	if a == nil {
		return nil
	}
	list, err := a.StackNames(q)
	if err != nil {
		return nil
	}
	return list
}

// ofStack offers what is found out about the stack that was named before.
func ofStack(find func(a *app.App, st *stack.Stack, q asking) []string) func(*app.App, asking) offer {
	return func(a *app.App, q asking) offer {
		if a == nil || len(q.args) == 0 {
			return offer{}
		}
		st, err := a.Find(q, q.args[0])
		if err != nil { // a stack file may stand there
			d := drafted(a, q)
			if d == nil || d.Stack == nil {
				return offer{}
			}
			if st, err = a.At(q, d.Stack.Stack, d.Stack.Target); err != nil {
				return offer{}
			}
		}
		return offer{words: find(a, st, q)}
	}
}

func resources(a *app.App, st *stack.Stack, q asking) (out []string) {
	c, err := a.Contents(q, st)
	if err != nil {
		return nil
	}
	for _, r := range c.Resources {
		out = append(out, r.Name+"\t"+r.Type)
	}
	return out
}

func results(a *app.App, st *stack.Stack, q asking) (out []string) {
	list, _ := a.Results(q, st)
	for _, r := range list {
		out = append(out, r.Name)
	}
	return out
}

// actions are what can be done to the resource named before, or to the stack as a whole.
func actions(a *app.App, st *stack.Stack, q asking) (out []string) {
	if len(q.args) == 1 {
		return []string{run.VerbSuspend + "\tthe whole stack", run.VerbResume + "\tthe whole stack"}
	}
	c, err := a.Contents(q, st)
	if err != nil {
		return nil
	}
	for _, r := range c.Resources {
		if r.Name == q.args[1] {
			for _, op := range a.ActionsOf(r) {
				out = append(out, op.Name+"\t"+strings.TrimSpace(op.Description))
			}
		}
	}
	return out
}

func revisions(a *app.App, st *stack.Stack, q asking) (out []string) {
	list, _ := a.Revisions(q, st)
	for _, r := range list {
		out = append(out, fmt.Sprintf("%d\t%s  %s", r.Number, r.Created.Local().Format("2006-01-02 15:04"), r.Words()))
	}
	return out
}

func runs(a *app.App, st *stack.Stack, q asking) (out []string) {
	h, err := a.History(q, st)
	if err != nil {
		return nil
	}
	for _, r := range h.Runs {
		out = append(out, fmt.Sprintf("%d\t%s, %s", r.Number, r.Kind, r.Shown()))
	}
	return out
}

// drafted is the template of the file that a command is about.
func drafted(a *app.App, q asking) *app.Draft {
	if a == nil || len(q.args) == 0 {
		return nil
	}
	d, err := a.Load(q, q.args[0], app.Values{})
	if err != nil {
		return nil
	}
	return d
}

// nodesOf offers the nodes of a template; of a stack that is deployed, its resources.
func nodesOf(a *app.App, q asking) offer {
	d := drafted(a, q)
	if d == nil || d.File == nil || d.File.Service == nil {
		return ofStack(resources)(a, q)
	}
	var out []string
	for _, n := range d.File.Service.Nodes {
		out = append(out, n.Name+"\t"+n.Type)
	}
	return offer{words: out}
}

func inputsOf(a *app.App, q asking) offer {
	if q.cmd.Name() == "act" {
		return offer{open: true}
	}
	d := drafted(a, q)
	if d == nil || d.File == nil || d.File.Service == nil {
		return offer{open: true}
	}
	var out []string
	for _, in := range d.File.Service.Inputs {
		out = append(out, in.Name+"=\t"+in.Type.Name)
	}
	return offer{words: out, open: true}
}

func typesOf(a *app.App, _ asking) offer {
	if a == nil {
		return offer{}
	}
	return offer{words: slices.Sorted(maps.Keys(a.Profile.Library.Nodes))}
}

func targetsThere(a *app.App, q asking) offer {
	if a == nil {
		return offer{}
	}
	list, err := a.Cloud.Targets(q)
	if err != nil {
		return offer{}
	}
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return offer{words: out}
}

func accountsOf(a *app.App, q asking) offer {
	var out []string
	for _, t := range targetsThere(a, q).words {
		account, _, _ := strings.Cut(t, "/")
		out = append(out, account)
	}
	slices.Sort(out)
	return offer{words: slices.Compact(out)}
}

func startersThere(*app.App, asking) offer {
	list, err := app.Starters()
	if err != nil {
		return offer{}
	}
	var out []string
	for _, s := range list {
		first, _, _ := strings.Cut(s.Description, "\n")
		out = append(out, s.Name+"\t"+first)
	}
	return offer{words: out}
}

func workersThere(a *app.App, q asking) offer {
	if a == nil {
		return offer{}
	}
	list, _, _, err := a.Workers(q)
	if err != nil {
		return offer{}
	}
	var out []string
	for _, w := range list {
		out = append(out, w.Name)
	}
	return offer{words: out}
}

func membersThere(a *app.App, q asking) offer {
	if a == nil {
		return offer{}
	}
	list, err := a.Members(q)
	if err != nil {
		return offer{}
	}
	var out []string
	for _, m := range list {
		out = append(out, m.Name)
	}
	return offer{words: out}
}

func fleetNames(a *app.App, q asking) []string {
	if a == nil {
		return nil
	}
	list, err := a.Fleets(q)
	if err != nil {
		return nil
	}
	var out []string
	for _, r := range list {
		out = append(out, r.Fleet+"\tfleet, "+string(r.State))
	}
	return out
}

func rulesBuiltIn(a *app.App, _ asking) offer {
	if a == nil {
		return offer{}
	}
	list, _, err := a.BuiltInRules()
	if err != nil {
		return offer{}
	}
	var out []string
	for _, r := range list {
		out = append(out, r.ID+"\t"+r.Message)
	}
	return offer{words: out}
}
