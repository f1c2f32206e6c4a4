package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

type jsonThere struct {
	ID         string                 `json:"id"`
	Type       string                 `json:"type"`
	Account    string                 `json:"account"`
	Region     string                 `json:"region"`
	State      string                 `json:"state"`
	Owner      *jsonOwner             `json:"owner"`
	Differs    []jsonDiffering        `json:"differs"`
	Properties map[string]tosca.Value `json:"properties"`
	Links      map[string][]string    `json:"links"`
	Attributes map[string]tosca.Value `json:"attributes"`
	Tags       map[string]string      `json:"tags"`
	UsedBy     []string               `json:"used_by"`
	Changed    time.Time              `json:"changed,omitzero"`
	ChangedBy  stack.Author           `json:"changed_by"`
	Through    string                 `json:"through,omitempty"` // of one that could not be read
	Why        string                 `json:"why,omitempty"`
}

type jsonOwner struct {
	Stack string `json:"stack"`
	Node  string `json:"node"`
}

func thereJSON(t *app.There) jsonThere {
	out := jsonThere{ID: t.ID, Type: t.Type, Account: t.Target.Account, Region: t.Target.Region, State: stateOf(t),
		Differs: []jsonDiffering{}, Properties: t.Properties, Links: t.Links, Attributes: t.Attributes, Tags: t.Tags,
		UsedBy: append([]string{}, t.UsedBy...), Changed: t.Changed, ChangedBy: t.By, Through: t.Through, Why: t.Why}
	if t.Gone {
		out.Properties, out.Attributes = map[string]tosca.Value{}, map[string]tosca.Value{}
	}
	if out.Links == nil {
		out.Links = map[string][]string{}
	}
	if t.Owner != nil {
		out.Owner = &jsonOwner{t.Owner.Stack, t.Owner.Node}
	}
	for _, c := range t.Differs {
		out.Differs = append(out.Differs, differingJSON(c))
	}
	return out
}

// stateOf is the state that the cloud says, or that it is gone.
func stateOf(t *app.There) string {
	if t.Gone {
		return "gone"
	}
	return t.State
}

func (p *Program) cloud() *cobra.Command {
	var targets, types []string
	var name string
	var unowned, asJSON bool
	cmd := &cobra.Command{Use: "cloud", Short: "List what is there in the cloud, whose it is, and what differs from the record",
		Args: cobra.NoArgs}
	cmd.Flags().StringArrayVar(&targets, "target", nil, "only in this account/region; may be given again")
	cmd.Flags().StringArrayVar(&types, "type", nil, "only of this type; may be given again")
	cmd.Flags().StringVar(&name, "stack", "", "only what belongs to a stack")
	cmd.Flags().BoolVar(&unowned, "unowned", false, "only what belongs to no stack")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.MarkFlagsMutuallyExclusive("stack", "unowned")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			where, err := targetsOf(targets)
			if err != nil {
				return err
			}
			for _, t := range types {
				if a.Profile.Library.Nodes[t] == nil {
					return usage{fmt.Errorf("there is no type %s: %s", t, tosca.Suggest(t, slices.Sorted(maps.Keys(a.Profile.Library.Nodes))))}
				}
			}
			all, err := a.Look(cmd.Context(), where...)
			if err != nil {
				return err
			}
			for _, in := range all.Targets {
				if in.Problem != "" {
					fmt.Fprintf(p.Err, "%s does not say what is in it: %s\n", in.Target, in.Problem)
				}
				for _, why := range in.Partly {
					fmt.Fprintf(p.Err, "not all that is in %s is known: %s\n", in.Target, why)
				}
			}
			list := slices.DeleteFunc(slices.Clone(all.There), func(t *app.There) bool {
				at, _, _ := strings.Cut(name, "@")
				of := t.Owner != nil && t.Owner.Stack == at && (at == name || name == at+"@"+t.Target.String())
				return name != "" && !of || unowned && t.Owner != nil || len(types) > 0 && !slices.Contains(types, t.Type)
			})
			if asJSON {
				out := make([]jsonThere, len(list))
				for i, t := range list {
					out[i] = thereJSON(t)
				}
				if err := p.json(out); err != nil {
					return err
				}
			} else {
				p.cloudText(list)
			}
			if slices.ContainsFunc(list, (*app.There).Unread) || slices.ContainsFunc(all.Targets, func(in app.Inventoried) bool { return in.Problem != "" || len(in.Partly) > 0 }) {
				return exit(ExitRefused)
			}
			return nil
		})
	}
	return cmd
}

// cloudText prints what is there, stack by stack.
func (p *Program) cloudText(list []*app.There) {
	last, width, kinds, ids := "", 12, 14, 24
	for _, t := range list {
		width, kinds, ids = max(width, min(40, len([]rune(t.Name())))), max(kinds, len(t.Shown())), max(ids, min(64, len(t.ID)))
	}
	for _, t := range list {
		whose := "nobody's"
		if t.Owner != nil {
			whose = t.Owner.Stack
			if t.Owner.Of == nil {
				whose += ", not of this store"
			}
		}
		if at := whose + "  " + t.Target.String(); at != last {
			if last != "" {
				fmt.Fprintln(p.Out)
			}
			fmt.Fprintln(p.Out, at)
			last = at
		}
		var words []string
		switch {
		case t.Gone:
			words = append(words, "is not there any more")
		case t.Stray():
			words = append(words, "carries the tag of the stack and is in no record")
		case t.Unread():
			words = append(words, "not known: "+t.Why)
		case t.Owner != nil && t.Owner.Old:
			words = append(words, "of a swap that is not over")
		case t.Owner != nil && t.Owner.Kept:
			words = append(words, "left there by the stack")
		}
		mark := " "
		if t.Odd() {
			mark = "≠"
		}
		for _, d := range t.Differs {
			words = append(words, cloud.Clean(d.Path)+" differs")
		}
		fmt.Fprintln(p.Out, strings.TrimRight(fmt.Sprintf("%s %-*s  %-*s %-*s %-9s %s", mark, width, t.Name(), kinds, t.Shown(), ids, t.ID, stateOf(t),
			strings.Join(words, ", ")), " "))
	}
	odd, unread := 0, 0
	for _, t := range list {
		if t.Odd() {
			odd++
		}
		if t.Unread() {
			unread++
		}
	}
	words := ""
	if unread > 0 {
		words = fmt.Sprintf(", %d not known", unread)
	}
	fmt.Fprintf(p.Err, "%d there, %d not as it should be%s\n", len(list), odd, words)
}
