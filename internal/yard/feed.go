package yard

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/tmaxmax/go-sse"

	"brickrow/internal/cloud"
)

const (
	// feedPause is how often one looks for what has happened, and feedBeat how often a
	// comment shows that the feed is there still.
	feedPause = 200 * time.Millisecond
	feedBeat  = 15 * time.Second
	// mostChanges is how many changes are kept for those who come back.
	mostChanges = 10_000
)

// noted writes into the feed how a resource is now; state stands for its own where it is
// about to go.
func (t *tx) noted(ctx context.Context, id, state string) error {
	res, err := t.ExecContext(ctx, `insert into changes(at_ms, account, region, resource_id, type, state, stack, node)
		select ?, account, region, id, type, case when ? <> '' then ? else state end, stack, node from resources where id = ?`,
		t.now, state, state, id)
	if err != nil {
		return err
	}
	seq, err := res.LastInsertId()
	if err == nil && seq%100 == 0 {
		_, err = t.ExecContext(ctx, `delete from changes where seq <= ?`, seq-mostChanges)
	}
	return err
}

// changesAfter reads what has happened in a place after a number.
func (t *tx) changesAfter(ctx context.Context, r *request, after int64) ([]cloud.Change, error) {
	const most = 500
	stack := r.URL.Query().Get("stack")
	rows, err := t.QueryContext(ctx, `select seq, at_ms, resource_id, type, state, stack, node from changes
		where seq > ? and account = ? and region = ? and (? = '' or stack = ?) and (? = '' or substr(resource_id, 1, length(?) + 1) = ? || '/')
		order by seq limit ?`, after, r.account, r.region, stack, stack, r.cluster, r.cluster, r.cluster, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []cloud.Change
	for rows.Next() {
		var c cloud.Change
		var at int64
		if err := rows.Scan(&c.Seq, &at, &c.ID, &c.Type, &c.State, &c.Stack, &c.Node); err != nil {
			return nil, err
		}
		c.Time = time.UnixMilli(at).UTC()
		out = append(out, c)
	}
	return out, rows.Err()
}

// feed tells, as server-sent events, what happens to the resources of a place: from now on,
// or from where somebody was told last.
func (y *Yard) feed(w http.ResponseWriter, r *request) error {
	ctx := r.Context()
	last := r.Header.Get("Last-Event-ID")
	if last == "" {
		last = r.URL.Query().Get("after")
	}
	after, err := strconv.ParseInt(last, 10, 64)
	if last != "" && (err != nil || after < 0) {
		return refuse(http.StatusUnprocessableEntity, "bad-request", "give the id of the last event that was told", "'%s' is no number", last)
	}
	if last == "" {
		var newest sql.NullInt64
		if err := y.look(ctx, func(t *tx) error {
			return t.QueryRowContext(ctx, `select max(seq) from changes`).Scan(&newest)
		}); err != nil {
			return err
		}
		after = newest.Int64
	}
	flow := http.NewResponseController(w)
	_ = flow.SetWriteDeadline(time.Time{}) // it has no end
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	say := func(m *sse.Message) bool {
		_, err := m.WriteTo(w)
		return err == nil && flow.Flush() == nil
	}
	hello := &sse.Message{}
	hello.AppendComment("what happens in " + r.account + "/" + r.region)
	if !say(hello) {
		return nil
	}
	look, beat := time.NewTicker(feedPause), time.NewTicker(feedBeat)
	defer look.Stop()
	defer beat.Stop()
	for {
		var list []cloud.Change
		if err := y.look(ctx, func(t *tx) (err error) {
			list, err = t.changesAfter(ctx, r, after)
			return err
		}); err != nil {
			return nil // the connection ends, and who follows comes back
		}
		for _, c := range list {
			text, err := json.Marshal(c)
			if err != nil {
				return nil
			}
			m := &sse.Message{ID: sse.ID(fmt.Sprint(c.Seq)), Type: sse.Type("resource")}
			m.AppendData(string(text))
			if !say(m) {
				return nil
			}
			after = c.Seq
		}
		select {
		case <-ctx.Done():
			return nil
		case <-beat.C:
			still := &sse.Message{}
			still.AppendComment("still here")
			if !say(still) {
				return nil
			}
		case <-look.C:
		}
	}
}
