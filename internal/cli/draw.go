package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/draw"
	"brickrow/internal/files"
)

func (p *Program) draw() *cobra.Command {
	var as, out, of string
	var number int
	var links bool
	cmd := &cobra.Command{Use: "draw STACK|STACKFILE|CHANGESET -o FILE.svg|FILE.pdf",
		Short: "Draw a stack, what a deployment would change, or how long a run took", Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().StringVar(&as, "as", "", "wall (what rests on what), changes (the what-if) or times (of a run)")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file; its name ends in .svg or .pdf")
	cmd.Flags().IntVar(&number, "run", 0, "with --as times: the number of the run (default: the last one)")
	cmd.Flags().BoolVar(&links, "links", false, "with --as wall: a line from each resource to what it needs")
	cmd.Flags().StringVar(&of, "of", "", "with --as wall: what this node needs and carries, in strong lines")
	for _, name := range []string{"as", "output"} {
		if err := cmd.MarkFlagRequired(name); err != nil {
			panic(err) // the flag is above
		}
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if ext := strings.ToLower(filepath.Ext(out)); ext != ".svg" && ext != ".pdf" {
			return usage{fmt.Errorf("%s: the name must end in .svg or .pdf", out)}
		}
		return p.with(func(a *app.App) error {
			if (links || of != "") && as != "wall" {
				return usage{errors.New("--links and --of are for --as wall")}
			}
			picture, err := p.picture(cmd.Context(), a, args[0], as, number, *v)
			if err != nil {
				return err
			}
			if wall, ok := picture.(draw.Stack); ok {
				wall.Links = links
				if err := wall.Choose(of); err != nil {
					return err
				}
				picture = wall
			}
			var b bytes.Buffer
			if err := draw.Write(&b, out, picture); err != nil {
				return err
			}
			if err := files.Write(out, b.Bytes(), 0o644); err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "drawn as %s\n", out)
			return nil
		})
	}
	return cmd
}

// picture makes the picture of a stack by name, of a stack file, or of a saved
// change set.
func (p *Program) picture(ctx context.Context, a *app.App, name, as string, number int,
	v app.Values) (draw.Picture, error) {
	_, err := os.Stat(name)
	isFile := err == nil
	if !isFile && (strings.Contains(name, ".") || strings.ContainsRune(name, filepath.Separator)) {
		return nil, fmt.Errorf("there is no file %s", name)
	}
	switch as {
	case "wall":
		if isFile && !app.IsSaved(name) {
			d, err := a.Load(ctx, name, v)
			if err != nil {
				return nil, err
			}
			return a.DrawDraft(d)
		}
	case "changes":
		file := name
		if !isFile {
			st, err := a.Find(ctx, name)
			if err != nil {
				return nil, err
			}
			if file = st.StackFile; file == "" {
				return nil, fmt.Errorf("it is not known which stack file %s came from; name the file", name)
			}
		}
		pv, err := p.toDeploy(ctx, a, file, v, nil)
		if err != nil {
			return nil, err
		}
		return a.DrawChanges(pv)
	case "times":
	default:
		return nil, usage{fmt.Errorf("--as is wall, changes or times, not '%s'", as)}
	}
	if isFile {
		return nil, usage{errors.New("name a stack for that, not a file")}
	}
	st, err := a.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	if as == "times" {
		return a.DrawRun(ctx, st, number)
	}
	return a.DrawStack(ctx, st)
}
