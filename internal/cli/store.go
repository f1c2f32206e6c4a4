package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

func (p *Program) store() *cobra.Command {
	cmd := &cobra.Command{Use: "store", Short: "Look after the store of stacks and runs"}
	cmd.AddCommand(p.storeStatus(), p.storeMembers(), p.storeMove(), p.storeTidy())
	return cmd
}

func (p *Program) storeStatus() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "status", Short: "Say where the store is, whose it is, and who holds locks in it", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			s, err := a.StoreStatus(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(s)
			}
			fmt.Fprintf(p.Out, "%s, %d kB\n%s, %s, %s, %s; tables at version %d\n", s.Place, s.Bytes/1000, count(s.Rows["stacks"], "stack"),
				count(s.Rows["revisions"], "revision"), count(s.Rows["runs"], "run"), count(s.Rows["events"], "event"), s.Version)
			if s.Why != "" {
				fmt.Fprintln(p.Out, s.Why)
			}
			if s.Kind == "shared" {
				fmt.Fprintf(p.Out, "a round trip takes %.1f ms; %s\n", s.RoundTrip, s.Line.Words)
				p.members(s.Members)
				if !s.Member {
					fmt.Fprintln(p.Out, app.ErrNoMember)
				}
			}
			for _, u := range s.Unsigned {
				fmt.Fprintf(p.Out, "not signed: %s %s: %s\n", u.What, u.Name, u.Why)
			}
			if len(s.Locks) == 0 {
				fmt.Fprintln(p.Out, "nobody holds a lock")
			}
			for _, l := range s.Locks {
				fmt.Fprintf(p.Out, "%s in %s is locked by %s\n", l.Stack, l.Target, l.Holder)
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) members(list []app.Member) {
	for _, m := range list {
		you := ""
		if m.You {
			you = "  you"
		}
		if !m.Signed {
			you += "  let in by no member: is given nothing"
		}
		fmt.Fprintf(p.Out, "member %s  added %s by %s%s\n", m.Name, m.Added.Local().Format("2006-01-02 15:04"), m.AddedBy, you)
	}
}

func (p *Program) storeMembers() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "members", Short: "List who can read the secrets of a shared store", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			list, err := a.Members(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(list)
			}
			p.members(list)
			return nil
		})
	}
	add := &cobra.Command{Use: "add NAME IDENTITY...", Short: "Let somebody read the secrets; IDENTITY is what 'brickrow identity' prints for them",
		Args: cobra.MinimumNArgs(2)}
	addJSON := jsonFlag(add)
	var addNote, removeNote string
	noteFlag(add, &addNote)
	add.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			if err := a.AddMember(cmd.Context(), args[0], strings.Join(args[1:], " "), addNote); err != nil {
				return err
			}
			return p.told(*addJSON, map[string]any{"member": args[0], "added": true}, "%s is a member", args[0])
		})
	}
	remove := &cobra.Command{Use: "remove MEMBER", Short: "Take the key from somebody: all secrets are sealed with a new one", Args: cobra.ExactArgs(1)}
	removeJSON := jsonFlag(remove)
	noteFlag(remove, &removeNote)
	remove.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			n, err := a.RemoveMember(cmd.Context(), args[0], removeNote)
			if err != nil {
				return err
			}
			return p.told(*removeJSON, map[string]any{"member": args[0], "removed": true, "sealed_anew": n},
				"%s is no member any more; sealed with a new key: %s\nwhat was read before has been read: give such "+
					"secrets new values, and take away the access to the database", args[0], stack.Count(n, "secret"))
		})
	}
	cmd.AddCommand(add, remove)
	return cmd
}

func noteFlag(cmd *cobra.Command, into *string) {
	cmd.Flags().StringVar(into, "note", "", "a note that is kept with it")
}

func (p *Program) storeMove() *cobra.Command {
	var to string
	var giveUp, asJSON bool
	cmd := &cobra.Command{Use: "move --to postgres://USER@HOST/DATABASE|DIR",
		Short: "Bring the store to another place, whole; broken off, it goes on when given again", Args: cobra.NoArgs}
	cmd.Flags().StringVar(&to, "to", "", "the new place: a database that holds no store yet, or a folder")
	cmd.Flags().BoolVar(&giveUp, "give-up", false, "use the old place again, after a move was broken off")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.MarkFlagsOneRequired("to", "give-up")
	cmd.MarkFlagsMutuallyExclusive("to", "give-up")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if giveUp {
			if err := app.GiveUpMove(cmd.Context(), p.options().Home, p.options().Store); err != nil {
				return err
			}
			return p.told(asJSON, map[string]any{"given_up": true}, "the move is given up: the old place is used again")
		}
		m, err := app.MoveStore(cmd.Context(), p.options().Home, p.options().Store, to, func(t app.MovedTable) {
			if !asJSON {
				fmt.Fprintf(p.Out, "%-10s %7d rows, the same at both places\n", t.Name, t.Rows)
			}
		})
		if err != nil {
			return err
		}
		if asJSON {
			return p.json(m)
		}
		fmt.Fprintf(p.Out, "moved from %s\nto %s\nset BRICKROW_STORE to the new place; the old one says so from now on\n", m.From, m.To)
		return nil
	}
	return cmd
}

func (p *Program) storeTidy() *cobra.Command {
	var older int
	var asJSON bool
	cmd := &cobra.Command{Use: "tidy",
		Short: "Thin what is stored of runs that ended well, or were undone, a while ago", Args: cobra.NoArgs}
	cmd.Flags().IntVar(&older, "older", 90, "thin runs that ended more than this many days ago")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if older < 0 {
			return usage{fmt.Errorf("--older takes a number of days, not %d", older)}
		}
		return p.with(func(a *app.App) error {
			t, err := a.Tidy(cmd.Context(), time.Duration(older)*24*time.Hour)
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(t)
			}
			fmt.Fprintf(p.Out, "%s thinned, %s of what was on the way removed: %d kB, were %d kB\n",
				stack.Count(int(t.Runs), "run"), stack.Count(int(t.Events), "event"), t.After/1000, t.Before/1000)
			return nil
		})
	}
	return cmd
}
