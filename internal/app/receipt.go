package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// fingerprint is what a number of resources are told by: sha256 of how the cloud shows them.
func fingerprint(of map[string]run.Was) string {
	text, err := json.Marshal(of) // by id
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// knownIDs are the resources of the cloud that a deletion knows of: what was recorded when it began, what it was to remove, and what
// it has made on the way.
func (x *execution) knownIDs() map[string]run.Step {
	out := map[string]run.Step{}
	for _, s := range x.run.Plan.Steps {
		e := x.driver.Entry(s.ID)
		id := s.CloudID
		if id == "" && e != nil {
			id = e.CloudID
		}
		if id != "" && (s.Action == run.Delete || s.Action == run.Release) {
			out[id] = s
		}
	}
	for id, was := range x.run.Plan.Baseline {
		if _, known := out[id]; !known {
			out[id] = run.Step{Resource: was.Name, Type: was.Type, CloudID: id}
		}
	}
	return out
}

// deletionReceipt asks the cloud for every resource that the run or the record knew, and for what carries the tag of the stack.
func (x *execution) deletionReceipt(ctx context.Context) (*stack.Receipt, error) {
	out := &stack.Receipt{Kind: stack.OfDelete, Before: fingerprint(x.run.Plan.Baseline)}
	known := x.knownIDs()
	list, err := x.store.Kept(ctx, x.stack.ID)
	if err != nil {
		return nil, err
	}
	kept := map[string]*stack.Recorded{}
	for _, r := range list {
		kept[r.ID] = r
		if _, there := known[r.ID]; !there {
			known[r.ID] = run.Step{Resource: r.Name, Type: r.Type, CloudID: r.ID}
		}
	}
	out.Asked = len(known)
	listed, gone, err := x.askFor(ctx, known)
	if err != nil {
		for _, id := range sortedKeys(known) {
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: known[id].Resource, ID: id, Why: x.driver.Secrets.Hide(cloud.Clean(err.Error()))})
		}
		return out, nil
	}
	there := map[string]cloud.Resource{}
	store := x.storeID(ctx)
	for _, r := range listed {
		_, is := known[r.ID]
		other := r.Tags[stack.StoreTag]
		if is || r.Tags[stack.StackTag] == x.stack.Name && (other == "" || other == store) {
			there[r.ID] = r
		}
	}
	after := map[string]run.Was{}
	for _, id := range sortedKeys(known) {
		s, rec := known[id], kept[id]
		r, is := there[id]
		delete(there, id)
		said := x.driver.Asked(id)
		if rec != nil && !is && (gone[id] != nil || x.unreached(id)) { // it was not to be removed; that it is gone nobody has said
			out.Left = append(out.Left, stack.ReceiptLeft{Name: s.Resource, ID: id, Why: staysWhy(rec) + "; it cannot be asked for"})
			after[id] = run.Was{Name: s.Resource, Type: s.Type}
			continue
		}
		switch {
		case is && r.State == cloud.Unreadable:
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: s.Resource, ID: id, Through: r.Through, Why: x.driver.Secrets.Hide(r.Why)})
			continue
		case !is && strings.HasPrefix(said, run.NotRead):
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: s.Resource, ID: id, Why: strings.TrimPrefix(said, run.NotRead)})
			continue
		case !is && said != run.AskedGone && gone[id] != nil:
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: s.Resource, ID: id, Why: x.driver.Secrets.Hide(cloud.Clean(gone[id].Error()))})
			continue
		}
		switch {
		case !is && rec != nil && rec.Left != nil: // what was left is gone by now
			if err := x.store.Note(ctx, x.run, nil, nil, []run.Change{run.Unkeep{ID: id}}); err != nil {
				return nil, err
			}
		case !is:
		case rec != nil:
			out.Left = append(out.Left, stack.ReceiptLeft{Name: s.Resource, ID: id, Why: staysWhy(rec)})
		default:
			out.Left = append(out.Left, stack.ReceiptLeft{Name: s.Resource, ID: id, Why: "it was to be removed"})
		}
		if is {
			after[id] = run.Was{Name: s.Resource, Type: s.Type}
		}
	}
	for _, id := range sortedKeys(there) {
		r := there[id]
		out.Left = append(out.Left, stack.ReceiptLeft{Name: cloud.Clean(r.Tags[stack.NodeTag]), ID: id, Why: "it carries the tag of the stack"})
		after[id] = run.Was{Name: r.Tags[stack.NodeTag], Type: r.Type}
	}
	out.After = fingerprint(after)
	out.Equal = len(after)+len(out.Unreadable) == 0
	return out, nil
}

// mostGets is for how many resources is asked one by one; where there are more the whole target is listed.
const mostGets = 200

// askFor asks the cloud for what carries the tag of the stack, and for each resource that is known and was not among that. Failed
// says why some could not be asked for.
func (x *execution) askFor(ctx context.Context, known map[string]run.Step) (there []cloud.Resource, failed map[string]error, err error) {
	if len(known) > mostGets {
		there, err = x.Cloud.List(ctx, x.stack.Target, "")
	} else {
		there, err = x.Cloud.List(ctx, x.stack.Target, x.stack.Name)
	}
	if err != nil {
		return nil, nil, err
	}
	failed = map[string]error{}
	listed := map[string]bool{}
	for _, r := range there {
		listed[r.ID] = true
	}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(8)
	for _, id := range sortedKeys(known) {
		way, _ := cloud.WayOf(id)
		if listed[id] || x.driver.Asked(id) != "" || len(known) > mostGets && way == "" {
			continue
		}
		g.Go(func() error {
			r, err := x.Cloud.Get(ctx, cloud.Ref{Target: x.stack.Target, Type: known[id].Type, ID: id})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case cloud.IsNotFound(err):
			case err != nil:
				failed[id] = err
			default:
				there = append(there, r)
			}
			return nil
		})
	}
	return there, failed, g.Wait()
}

// staysWhy says why something stays that is not removed.
func staysWhy(r *stack.Recorded) string {
	if r.Left != nil {
		return fmt.Sprintf("%s: by run %d, %s", stack.StaysLeft, r.Left.Run, r.Left.Reason)
	}
	return stack.StaysKept
}

// unreached reports whether nobody can ask for a resource any more: what it was reached through is not recorded.
func (x *execution) unreached(id string) bool {
	way, _ := cloud.WayOf(id)
	if way == "" {
		return false
	}
	_, err := x.connections.Find(context.Background(), x.stack.Target, way)
	return cloud.IsNotFound(err)
}

// receipt asks the cloud itself whether anything of the stack is left.
func (x *execution) receipt(ctx context.Context) error {
	r, err := x.deletionReceipt(ctx)
	if err != nil {
		return err
	}
	if err := x.store.SetResults(ctx, x.run, nil); err != nil {
		return err
	}
	x.run.Receipt = r
	x.run.Reason = r.Words(x.stack.Name, x.stack.Target.String())
	stray := slices.ContainsFunc(r.Left, func(l stack.ReceiptLeft) bool {
		return !strings.HasPrefix(l.Why, stack.StaysKept) && !strings.HasPrefix(l.Why, stack.StaysLeft)
	})
	switch {
	case stray:
		x.tell(ctx, run.HasFailed, x.run.Reason)
		return x.set(ctx, run.StatusStuck, 0)
	case len(r.Unreadable) > 0:
		if err := x.rememberUnread(ctx, r); err != nil {
			return err
		}
		x.tell(ctx, run.HasFailed, x.run.Reason)
		return x.set(ctx, run.StatusDone, 0)
	}
	x.tell(ctx, run.Removed, x.run.Reason)
	return x.set(ctx, run.StatusDone, 0)
}

// rememberUnread records what may be there still as left: a later deletion asks for it again.
func (x *execution) rememberUnread(ctx context.Context, r *stack.Receipt) error {
	for _, u := range r.Unreadable {
		rec := x.driver.Removed(u.ID)
		if rec == nil {
			continue
		}
		was := *rec
		was.Left = &stack.Left{Run: x.run.Number, Reason: "whether it is gone is not known: " + u.Why}
		if err := x.store.Note(ctx, x.run, nil, nil, []run.Change{run.Keep{Name: was.Name, Record: &was}}); err != nil {
			return err
		}
	}
	return nil
}

// undoReceipt holds every resource of the stack against what it was when the run began.
func (x *execution) undoReceipt(ctx context.Context) (*stack.Receipt, error) {
	was := make(map[string]run.Was, len(x.run.Plan.Baseline))
	for id, w := range x.run.Plan.Baseline { // more is known to be secret by now
		was[id] = w.Without(x.driver.Secrets)
	}
	out := &stack.Receipt{Kind: stack.OfUndo, Before: fingerprint(was)}
	now, unread, err := x.baseline(ctx, x.stack, x.driver.Secrets, adoptedIn(x.run.Plan)...)
	if err != nil { // the undoing is over all the same
		for _, id := range sortedKeys(was) {
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: was[id].Name, ID: id, Why: x.driver.Secrets.Hide(cloud.Clean(err.Error()))})
		}
		if len(was) == 0 {
			out.Unreadable = append(out.Unreadable, stack.Unread{Name: x.stack.Name, Why: x.driver.Secrets.Hide(cloud.Clean(err.Error()))})
		}
		out.Asked = len(was)
		return out, nil
	}
	out.Unreadable = unread
	kept, err := x.store.Kept(ctx, x.stack.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range kept {
		if is, there := now[r.ID]; there && r.Left != nil && r.Left.Run == x.run.Number {
			out.Left = append(out.Left, stack.ReceiptLeft{Name: is.Name, ID: r.ID, Why: staysWhy(r)})
			delete(now, r.ID)
		}
	}
	if out.Made, err = x.madeAgain(ctx, now); err != nil {
		return nil, err
	}
	was = forWhatIsKnown(was, unread)
	out.Asked = len(now) + len(unread)
	out.Differs = run.Differing(was, now)
	for i := range out.Differs {
		d := &out.Differs[i]
		by := stack.AuthorOf(now[d.ID].ChangedBy, x.storeID(ctx))
		if by.Kind == stack.Outside || by.Own && by.Run == x.run.Number && by.Stack == x.stack.Name {
			continue
		}
		d.By, d.Words = &by, d.Words+", "+by.Words()
	}
	if out.After = fingerprint(now); len(out.Differs) == 0 && len(unread) == 0 { // what is not set is the same as what is empty
		out.After = out.Before
	}
	out.Equal = len(out.Differs)+len(out.Left)+len(out.Unreadable) == 0
	return out, nil
}

// forWhatIsKnown leaves out what could not be read: it can neither be equal nor differ.
func forWhatIsKnown(was map[string]run.Was, unread []stack.Unread) map[string]run.Was {
	out := map[string]run.Was{}
	for id, w := range was {
		if !slices.ContainsFunc(unread, func(u stack.Unread) bool { return u.ID == id }) {
			out[id] = w
		}
	}
	return out
}

// adoptedIn are the resources that a plan takes under the stack: they are not the stack's before, and not after undoing.
func adoptedIn(p run.Plan) (out []cloud.Ref) {
	for _, s := range p.Steps {
		if s.Adopt && s.CloudID != "" {
			out = append(out, cloud.Ref{Type: s.Type, ID: s.CloudID})
		}
	}
	return out
}
