package yard

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"brickrow/internal/cloud"
)

// What stands behind a load balancer always has work under way: so many requests, the last
// of which takes so long, at nominal speed.
const (
	inFlight     = 3
	longestMS    = 8_000
	leavePoolsMS = 1_000
)

// working reports whether a resource has work under way: it is a server, stands behind a
// load balancer, is well, and has not left its pools.
func (t *tx) working(ctx context.Context, r *row) (bool, error) {
	if r.typ != "Server" && r.typ != "ServerGroup" || len(r.links["behind"]) == 0 || r.state != "ready" && r.state != "updating" {
		return false, nil
	}
	var drained bool
	err := t.QueryRowContext(ctx, `select drained from resources where id = ?`, r.id).Scan(&drained)
	return !drained, err
}

// cutOff counts the requests that are cut off when a resource goes, or restarts, with work
// under way.
func (t *tx) cutOff(ctx context.Context, r *row) error {
	busy, err := t.working(ctx, r)
	if err != nil || !busy {
		return err
	}
	for range inFlight {
		if _, err := t.next(ctx, "cut off "+r.account); err != nil {
			return err
		}
	}
	return nil
}

// drain lets a resource leave its pools and finish its work, for so long at most.
func (y *Yard) drain(ctx context.Context, r *request) (int, any, error) {
	var body struct {
		Wait int64 `json:"wait_ms"`
	}
	key, err := r.body(&body)
	if err != nil {
		return 0, nil, err
	}
	return y.pools(ctx, r, key, "drain", body.Wait)
}

// refill brings a resource back into its pools.
func (y *Yard) refill(ctx context.Context, r *request) (int, any, error) {
	key, err := r.body(nil)
	if err != nil {
		return 0, nil, err
	}
	return y.pools(ctx, r, key, "refill", 0)
}

func (y *Yard) pools(ctx context.Context, r *request, key, kind string, wait int64) (int, any, error) {
	digest := y.digest([]any{kind, r.account, r.region, r.PathValue("id"), wait})
	var out cloud.Operation
	err := y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.poolsNow(ctx, r, key, digest, kind, wait)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) poolsNow(ctx context.Context, r *request, key, digest, kind string, wait int64) (*op, error) {
	was, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
	if err == nil {
		err = t.permitted(ctx, r.account, was.typ, cloud.VerbChange)
	}
	if err == nil {
		err = t.idle(ctx, was)
	}
	if err != nil {
		return nil, err
	}
	busy, err := t.working(ctx, was)
	if err != nil {
		return nil, err
	}
	n, err := t.next(ctx, "operations")
	if err != nil {
		return nil, err
	}
	o := &op{id: fmt.Sprintf("op~%s-p%d", was.id, n), key: key, digest: digest, resourceID: was.id, kind: kind}
	switch {
	case kind == "refill":
		o.steps = []step{{Name: "coming back into its pools", MS: leavePoolsMS}}
	case busy:
		// Steps are of nominal time, and the wait is of real time.
		work := min(longestMS, int64(float64(wait)*t.y.speed))
		o.steps = []step{{Name: "leaving its pools", MS: leavePoolsMS},
			{Name: fmt.Sprintf("%d requests in flight", inFlight), MS: max(1, work), Settling: true}}
		if work < longestMS { // the last one does not come to its end
			if _, err := t.next(ctx, "cut off "+was.account); err != nil {
				return nil, err
			}
		}
	default:
		o.steps = []step{{Name: "it has no work", MS: 1}}
	}
	return o, t.start(ctx, r, o, was.node, was.typ)
}

// CutOff is how many requests were cut off in an account, as servers went or restarted with
// work under way.
func (d *Door) CutOff(ctx context.Context, account string) (int, error) {
	var out struct {
		CutOff int `json:"cut_off"`
	}
	err := d.call(ctx, http.MethodGet, "cut-off?account="+account, nil, &out)
	return out.CutOff, err
}

func (y *Yard) countCutOff(ctx context.Context, r *request) (int, any, error) {
	var out struct {
		CutOff int `json:"cut_off"`
	}
	err := y.look(ctx, func(t *tx) error {
		var text string
		err := t.QueryRowContext(ctx, `select value from meta where name = ?`, "count/cut off "+r.URL.Query().Get("account")).Scan(&text)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err == nil {
			out.CutOff, err = strconv.Atoi(text)
		}
		return err
	})
	return http.StatusOK, out, err
}
