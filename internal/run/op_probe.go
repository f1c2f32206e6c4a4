package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Asker asks whether something answers as it should, once.
type Asker interface {
	Ask(ctx context.Context, q stack.Question) (said string, err error)
}

// probing asks until the answer is well, or for as long as it may take. It changes nothing,
// so it is no harm to ask again.
type probing struct{}

func (probing) prepare(ctx context.Context, t *task) (*ending, error) {
	p := t.Wanted.Probe(t.entry.Step.Resource[len(ProbeName("")):])
	if p == nil || t.Asker == nil {
		return nil, fmt.Errorf("%s is not in the template of this run", t.entry.Step.Resource)
	}
	q, findings := t.Wanted.Ask(p, t.attribute)
	if findings.HasErrors() {
		return nil, at("resolving", fmt.Errorf("%s (%s)", findings[0].Message, findings[0].Short()))
	}
	t.Secrets.Add(q.URL)
	until, told := time.Now().Add(q.Within), ""
	t.tell(ctx, *t.event(Working, "asking "+tosca.Show(q.URL), ""))
	for tries := 1; ; tries++ {
		said, err := t.Asker.Ask(ctx, q)
		if err == nil {
			return &ending{state: Done, shown: IsReady, words: said}, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if time.Now().Add(q.Every).After(until) {
			return nil, at("asking "+tosca.Show(q.URL), fmt.Errorf("%w; asked %d times", err, tries))
		}
		if words := err.Error(); words != told {
			told = words
			t.tell(ctx, *t.event(Settling, "it is not well yet", words))
		}
		if err := t.rest(ctx, q.Every); err != nil {
			return nil, err
		}
		select {
		case <-t.stopping():
			return nil, at("asking "+tosca.Show(q.URL), fmt.Errorf("%w; it was called off", err))
		default:
		}
	}
}

func (probing) telling(*task) (State, string) { return Working, "" }

func (probing) ask(context.Context, *task) (cloud.Operation, error) {
	return cloud.Operation{}, errors.New("the cloud is asked for nothing")
}

func (probing) refused(_ context.Context, _ *task, err error) (*ending, error) { return nil, err }

func (probing) record(context.Context, *task) (*ending, error) {
	return nil, errors.New("the cloud was asked for nothing")
}
