package run

import (
	"context"
	"errors"
	"fmt"

	"brickrow/internal/cloud"
)

// release takes a resource out of the record and leaves it in the cloud. It asks
// nobody.
type release struct{}

func (release) prepare(ctx context.Context, t *task) (*ending, error) {
	s, rec := t.entry.Step, t.entry.Record
	if e := t.Driver.Entry(s.Pair); e != nil {
		rec = e.Record // the old part of a swap
	} else if s.Swap {
		rec = t.old[s.CloudID] // one that an earlier run has left
	}
	if rec == nil || rec.ID != s.CloudID {
		return nil, fmt.Errorf("what is to be kept, %s, is not what is recorded", s.CloudID)
	}
	changes := []Change{Remove{s.Resource}, Keep{s.Resource, rec}}
	if s.Swap {
		changes[0] = RemoveOld{s.Resource, s.CloudID}
	}
	return &ending{state: Done, shown: Kept, words: "kept in the cloud", changes: changes}, nil
}

func (release) telling(*task) (State, string) { return Removing, "" }

func (release) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return cloud.Operation{}, errors.New("nobody is asked")
}

func (release) refused(ctx context.Context, t *task, err error) (*ending, error) { return nil, err }

func (release) record(ctx context.Context, t *task) (*ending, error) {
	return nil, errors.New("nobody was asked")
}
