package yard

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// mostAtOnce is how many operations may be under way at once in a region of an account,
// unless the operator says otherwise.
const mostAtOnce = 64

// AtOnce is how many operations may be under way at once in each region of an account.
type AtOnce struct {
	Account string `json:"account"`
	AtOnce  int    `json:"at_once"`
}

// atOnce is how many operations may be under way at once in each region of an account.
func (t *tx) atOnce(ctx context.Context, account string) (int, error) {
	var text string
	err := t.QueryRowContext(ctx, `select value from meta where name = ?`, "at once/"+account).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return mostAtOnce, nil
	}
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(text)
}

// room refuses an operation where as many are under way as may be. It says when the next
// one ends.
func (t *tx) room(ctx context.Context, r *request) error {
	most, err := t.atOnce(ctx, r.account)
	if err != nil {
		return err
	}
	var open int
	var next sql.NullInt64
	if err := t.QueryRowContext(ctx, `select count(*), min(end_ms) from operations where settled = 0 and end_ms > ? and
		account = ? and region = ?`, t.now, r.account, r.region).Scan(&open, &next); err != nil {
		return err
	}
	if open < most {
		return nil
	}
	p := refuse(http.StatusTooManyRequests, "too-many-requests", "let fewer be under way at once",
		"%d operations are under way in %s/%s, as many as may be", open, r.account, r.region)
	p.Passing, p.RetryAfterMS = true, min(2000, max(1, next.Int64-t.now))
	return p
}

// setAtOnce says how many operations may be under way at once in each region of an account.
func (y *Yard) setAtOnce(ctx context.Context, r *request) (int, any, error) {
	var a AtOnce
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&a); err != nil {
		return 0, nil, refuse(http.StatusBadRequest, "bad-request", "", "the limit cannot be read: %v", err)
	}
	if !slices.Contains(y.accounts, a.Account) || a.AtOnce < 1 {
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request",
			"accounts are "+strings.Join(y.accounts, ", ")+"; the limit is at least 1", "%d at once for %s cannot be", a.AtOnce, a.Account)
	}
	err := y.inTx(ctx, func(t *tx) error {
		_, err := t.ExecContext(ctx,
			`insert into meta(name, value) values(?, ?) on conflict(name) do update set value = excluded.value`,
			"at once/"+a.Account, strconv.Itoa(a.AtOnce))
		return err
	})
	return http.StatusOK, a, err
}

// AtOnce says how many operations may be under way at once in each region of an account.
func (d *Door) AtOnce(ctx context.Context, a AtOnce) error {
	return d.call(ctx, http.MethodPut, "at-once", a, nil)
}
