package programs

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/stack"
)

// Unlisted says which programs could not list what is there.
type Unlisted struct {
	also []Known
	mu   sync.Mutex
	why  []string
}

// Why is what went wrong, in order.
func (u *Unlisted) Why() []string {
	u.mu.Lock()
	defer u.mu.Unlock()
	slices.Sort(u.why)
	return slices.Compact(u.why)
}

type listing struct{}

// Listing lets List also ask the programs what is there that nobody has made from here. What could not be asked is
// noted in the result. Also are of further types to ask about: something of a type can be adopted of which nothing was made from
// here.
func Listing(ctx context.Context, also ...Known) (context.Context, *Unlisted) {
	u := &Unlisted{also: also}
	return context.WithValue(ctx, listing{}, u), u
}

// mostListed bounds how much of one type is listed that nobody has made from here: each is read by a call of its own.
const mostListed = 500

// others are the resources that programs list, of the types that are known here, and that are not among those known. Where a
// program does not answer, those that it listed last are there, unread.
func (c *Cloud) others(ctx context.Context, t stack.Target, known []Known) []cloud.Resource {
	u, asked := ctx.Value(listing{}).(*Unlisted)
	if !asked {
		return nil
	}
	types := map[[2]string]Known{}
	for _, k := range slices.Concat(u.also, known) { // rather as it was deployed
		if _, can := k.Programs[opList]; can && k.Target == t {
			types[[2]string{k.Kind, k.Through}] = k
		}
	}
	var mu sync.Mutex
	var out []cloud.Resource
	var g errgroup.Group
	g.SetLimit(8)
	for _, like := range types {
		g.Go(func() error {
			list, more, err := c.listed(ctx, like)
			if why := cmp.Or(err, more); why != nil {
				u.mu.Lock()
				u.why = append(u.why, cloud.Clean(why.Error()))
				u.mu.Unlock()
			}
			for _, k := range list {
				if slices.ContainsFunc(known, func(o Known) bool { return o.ID == k.ID && o.Kind == k.Kind }) {
					continue
				}
				r, readErr := c.resource(&k), err
				if readErr == nil {
					r, readErr = c.read(ctx, &k)
				}
				if cloud.IsNotFound(readErr) {
					continue
				}
				if readErr != nil {
					r = c.resource(&k)
					r.State, r.Why = cloud.Unreadable, cloud.Clean(readErr.Error())
				}
				mu.Lock()
				out = append(out, r)
				mu.Unlock()
			}
			return nil
		})
	}
	_ = g.Wait() // none fails
	slices.SortFunc(out, func(a, b cloud.Resource) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// lastListed is what a program listed last of a type.
type lastListed struct {
	Like Known    `json:"like"` // without what is of one resource alone
	IDs  []string `json:"ids"`
}

// remembered are those whose program listed a resource last: one that is being adopted may be the first of its type.
func (c *Cloud) remembered(r cloud.Ref) []Known {
	folder := filepath.Join(c.dir, "listed")
	entries, _ := os.ReadDir(folder) // then nothing was listed
	var out []Known
	for _, e := range entries {
		var last lastListed
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err == nil && c.box.UnsealJSON(string(text), &last) == nil && last.Like.Target == r.Target && slices.Contains(last.IDs, r.ID) {
			out = append(out, last.Like)
		}
	}
	return out
}

// listed asks the program of a type what there is of it. More says that there is more than is shown. The error comes with
// what it listed last.
func (c *Cloud) listed(ctx context.Context, like Known) (out []Known, more, err error) {
	path := filepath.Join(c.dir, "listed", hashed(like.Target.String(), like.Kind, like.Through))
	of := func(id string) Known {
		return Known{Target: like.Target, ID: id, Kind: like.Kind, Programs: like.Programs, Through: like.Through}
	}
	nobodys := of("")
	a, err := c.ask(ctx, &nobodys, opList, "list")
	var ids []string
	if err != nil {
		var last lastListed
		if text, read := os.ReadFile(path); read == nil && c.box.UnsealJSON(string(text), &last) == nil { // else it is not known what it listed
			ids = last.IDs
		}
	} else {
		for _, item := range a.Items {
			if item.ID != nil && *item.ID != "" && !slices.Contains(ids, *item.ID) {
				ids = append(ids, *item.ID)
			}
		}
		if len(ids) > mostListed {
			more = fmt.Errorf("list of %s names %d: only the first %d are shown", like.Kind, len(ids), mostListed)
			ids = ids[:mostListed]
		}
		if sealed, sealing := c.box.SealJSON(lastListed{nobodys, ids}); sealing == nil && os.MkdirAll(filepath.Dir(path), 0o700) == nil {
			_ = files.Write(path, []byte(sealed), 0o600) // it is asked again anyway
		}
	}
	for _, id := range ids {
		out = append(out, of(id))
	}
	return out, more, err
}

// findAny finds a resource that is known, or that a program lists: it is being adopted.
func (c *Cloud) findAny(ctx context.Context, r cloud.Ref) (*Known, error) {
	if k, err := c.find(ctx, r); !cloud.IsNotFound(err) {
		return k, err
	}
	known, err := c.all(ctx, r.Target, "")
	if err != nil {
		return nil, err
	}
	asked := map[[2]string]bool{}
	for _, like := range slices.Concat(known, c.remembered(r)) {
		key := [2]string{like.Kind, like.Through}
		if _, can := like.Programs[opList]; !can || asked[key] {
			continue
		}
		asked[key] = true
		list, _, err := c.listed(Carrying(ctx), like)
		for _, k := range list {
			if k.ID != r.ID {
				continue
			}
			if err != nil { // it was there last
				return nil, err
			}
			is, err := c.ask(Carrying(ctx), &k, opRead, "read "+k.ID)
			if err != nil {
				return nil, err
			}
			if !is.Gone {
				k.Settings = is.Properties
				k.answered(is)
				return &k, nil
			}
		}
	}
	return nil, cloud.NotFound(r.ID)
}
