package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Rollout is a deployment, or a deletion, of a stack in all places of a fleet.
type Rollout struct {
	ID        string
	Fleet     string
	Number    int
	Kind      run.Kind // deploy or delete
	File      string   // the fleet file
	State     fleet.State
	AtOnce    int // 0 is as many as there are
	Tolerate  int
	OnFailure stack.OnFailure
	Pause     time.Duration // between waves
	Asks      bool          // between waves, instead
	Behind    int           // the last wave behind which the next one may begin
	EndedWave int           // the last wave that is over, and WaveEnded since when
	WaveEnded time.Time
	Wish      string // pause or cancel, of somebody who watches
	Reason    string
	By        string
	Started   time.Time
	Ended     time.Time
	Origin    run.Origin
	Queue     string // its places wait there for workers; "" is that who began it carries them out
	Priority  int
	Ask       string // what the job in the queue is known by
	// Token is that of the lock under which it is written. It is not stored with it.
	Token string
}

// PlaceOf is a place in a rollout, with the run in it.
type PlaceOf struct {
	Position  int
	Target    stack.Target
	Stack     string
	Wave      int
	Kind      run.Kind // delete where the place has left the file
	State     fleet.State
	Careful   bool
	Attempt   int
	RunID     string
	Reason    string
	Tally     whatif.Tally
	Part      string // where its template is
	Approvals json.RawMessage
	Begun     time.Time
	Ended     time.Time

	Run       int // its number; 0 is that there is none
	RunState  run.Status
	RunReason string
	Alive     bool // somebody carries the run out
	Steps     int  // of the run that have ended well, while it is under way
}

// Prepared is a place as it is begun with: what was looked at, with the secrets in it.
type Prepared struct {
	PlaceOf
	Body []byte
}

const rolloutColumns = `id, fleet, number, kind, file, state, at_once, tolerate, on_failure, pause_ms, asks, behind, ended_wave, wave_ms, wish,
	reason, started_by, started_ms, ended_ms, origin, queue, priority, ask`

func scanRollout(row interface{ Scan(...any) error }) (*Rollout, error) {
	r := &Rollout{}
	var pause, wave, started, ended int64
	var origin string
	err := row.Scan(&r.ID, &r.Fleet, &r.Number, &r.Kind, &r.File, &r.State, &r.AtOnce, &r.Tolerate, &r.OnFailure, &pause, &r.Asks, &r.Behind,
		&r.EndedWave, &wave, &r.Wish, &r.Reason, &r.By, &started, &ended, &origin, &r.Queue, &r.Priority, &r.Ask)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("rollout: %w", ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r.Pause, r.WaveEnded, r.Started, r.Ended = time.Duration(pause)*time.Millisecond, fromMS(wave), fromMS(started), fromMS(ended)
	return r, json.Unmarshal([]byte(origin), &r.Origin)
}

// packed makes a long text short, and unpacked is its reverse.
func packed(b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(b) // into memory
	_ = w.Close()
	return out.Bytes()
}

func unpacked(b []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// StartRollout writes a new rollout under its lock, with all its places and the parts that several of them share. It
// is refused while another one of the fleet has not come to its end.
func (s *Store) StartRollout(ctx context.Context, r *Rollout, places []Prepared, parts map[string][]byte) error {
	type row struct{ tally, body string }
	rows := make([]row, len(places))
	shared := map[string]string{}
	ready := func() (err error) {
		for i, p := range places {
			if rows[i].tally, err = encode(p.Tally); err != nil {
				return err
			}
			if rows[i].body, err = s.sealed(hidden(packed(p.Body))); err != nil {
				return err
			}
		}
		for digest, b := range parts {
			if shared[digest], err = s.sealed(hidden(packed(b))); err != nil {
				return err
			}
		}
		return nil
	}
	origin, err := encode(r.Origin)
	if err != nil {
		return err
	}
	r.Started = s.now()
	now := s.db.words().now
	return s.sealing(ctx, ready, func(tx transaction) error {
		if err := tx.Alone("rollouts"); err != nil {
			return err
		}
		var open int
		if err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) + 1, count(case when ended_ms = 0 then 1 end) from rollouts where fleet = ?`,
			r.Fleet).Scan(&r.Number, &open); err != nil {
			return err
		}
		if open > 0 {
			return fmt.Errorf("the last rollout of the fleet %s has not come to its end: 'brickrow fleet show %s' shows it", r.Fleet, r.Fleet)
		}
		if err := tx.Do(`insert into rollouts(`+rolloutColumns+`, token, holder, host, pid, until_ms) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, 0, '',
			'', ?, ?, 0, ?, ?, ?, ?, ?, ?, ?, ?, `+now+` + ?)`, r.ID, r.Fleet, r.Number, r.Kind, r.File, r.State, r.AtOnce, r.Tolerate, r.OnFailure,
			r.Pause.Milliseconds(), r.Asks, r.Behind, r.By, r.Started.UnixMilli(), origin, r.Queue, r.Priority, r.Ask, r.Token, me(), machine(),
			os.Getpid(), Lease.Milliseconds()); err != nil {
			return err
		}
		if err := s.signRow(ctx, tx, rolloutKind, r.ID); err != nil {
			return err
		}
		for digest, text := range shared {
			if err := tx.Do(`insert into parts(rollout, digest, body) values(?, ?, ?)`, r.ID, digest, text); err != nil {
				return err
			}
		}
		for i, p := range places {
			if err := tx.Do(`insert into places(rollout, position, account, region, stack, wave, kind, state, careful, attempt, run_id, reason, tally,
				body, part, approvals, begun_ms, ended_ms) values(?, ?, ?, ?, ?, ?, ?, ?, ?, 1, '', '', ?, ?, ?, '[]', 0, 0)`, r.ID, i, p.Target.Account,
				p.Target.Region, p.Stack, p.Wave, p.Kind, p.State, p.Careful, rows[i].tally, rows[i].body, p.Part); err != nil {
				return err
			}
		}
		return nil
	})
}

func me() string {
	return fmt.Sprintf("%s on %s (process %d)", identity.User(), hostname(), os.Getpid())
}

// LockRollout takes the lock of a rollout for a token, or renews it.
func (s *Store) LockRollout(ctx context.Context, id, token string) error {
	var h holder
	read := func() error {
		return s.db.QueryRowContext(ctx, `select token, holder, host, pid from rollouts where id = ?`, id).Scan(&h.token, &h.name, &h.host, &h.pid)
	}
	if err := read(); err != nil {
		return err
	}
	free := ""
	if h.gone() {
		free = h.token
	}
	now := s.db.words().now
	n, err := s.exec(ctx, `update rollouts set token = ?, holder = ?, host = ?, pid = ?, until_ms = `+now+` + ? where id = ? and
		(token = ? or token = '' or until_ms <= `+now+` or token = ?)`, token, me(), machine(), os.Getpid(), Lease.Milliseconds(), id, token, free)
	if err != nil || n > 0 {
		return err
	}
	if err := read(); err != nil {
		return err
	}
	return &LockedError{h.name}
}

// UnlockRollout gives the lock of a rollout back.
func (s *Store) UnlockRollout(ctx context.Context, id, token string) error {
	return s.release(ctx, `update rollouts set token = '', until_ms = 0 where id = ? and token = ?`, id, token)
}

// RolloutHolder says who carries a rollout on now; "" is nobody, and lost the lock of the one who did and is gone.
func (s *Store) RolloutHolder(ctx context.Context, id string) (name, lost string, err error) {
	var h holder
	held := false
	err = s.db.QueryRowContext(ctx, `select token, holder, host, pid, until_ms > `+s.db.words().now+` from rollouts where id = ?`, id).
		Scan(&h.token, &h.name, &h.host, &h.pid, &held)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return "", "", nil
	case err == nil && held && !h.gone():
		return cloud.Clean(h.name), "", nil
	}
	return "", h.token, err
}

// PlaceChange is what becomes of a place.
type PlaceChange struct {
	Position int
	State    fleet.State
	Reason   string
	// Again says that it is tried again, with a new attempt and without the run that it had.
	Again bool
}

// SetRollout writes how a rollout stands, and what becomes of its places, under its lock. What others wish of it, and
// have agreed to meanwhile, stays. At is the moment that is noted.
func (s *Store) SetRollout(ctx context.Context, r *Rollout, places ...PlaceChange) (at time.Time, err error) {
	now := s.now().UnixMilli()
	ended := int64(0)
	if r.State.Ended() {
		ended = now
		r.Ended = fromMS(now)
	}
	return fromMS(now), s.write(ctx, func(tx transaction) error {
		n, err := tx.ExecContext(ctx, `update rollouts set state = ?, behind = case when behind < ? then ? else behind end,
			ended_wave = ?, wave_ms = ?, reason = ?, ended_ms = ? where id = ? and token = ?`, r.State, r.Behind, r.Behind, r.EndedWave, ms(r.WaveEnded),
			r.Reason, ended, r.ID, r.Token)
		if err != nil {
			return err
		}
		if n == 0 {
			return ErrLockLost
		}
		for _, p := range places {
			begun, over, more := p.State == fleet.Begun, int64(0), 0
			if p.State.Over() {
				over = now
			}
			if p.Again {
				more = 1
			}
			if err := tx.Do(`update places set state = ?, reason = ?, begun_ms = case when ? then ? else begun_ms end, ended_ms = ?,
				attempt = attempt + ?, run_id = case when ? then '' else run_id end where rollout = ? and position = ?`, p.State, p.Reason, begun, now, over,
				more, p.Again, r.ID, p.Position); err != nil {
				return err
			}
		}
		return nil
	})
}

func ms(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// SetPlaceRun says which run is in a place, where it is still at that attempt and was not taken back; else it reports false.
func (s *Store) SetPlaceRun(ctx context.Context, rollout string, position, attempt int, runID string) (bool, error) {
	n, err := s.exec(ctx, `update places set state = 'working', run_id = ? where rollout = ? and position = ? and attempt = ? and state in ('begun', 'working')`,
		runID, rollout, position, attempt)
	return n > 0, err
}

// EndPlace says that a place is over without a run: there was nothing to do, or it was refused.
func (s *Store) EndPlace(ctx context.Context, rollout string, position, attempt int, state fleet.State, reason string) error {
	_, err := s.exec(ctx, `update places set state = ?, reason = ?, ended_ms = ? where rollout = ? and position = ? and attempt = ? and
		state in ('begun', 'working')`, state, reason, s.now().UnixMilli(), rollout, position, attempt)
	return err
}

// Wish says what somebody wants of a rollout: pause, cancel, or nothing any more.
func (s *Store) Wish(ctx context.Context, rollout, wish string) error {
	_, err := s.exec(ctx, `update rollouts set wish = ? where id = ? and ended_ms = 0`, wish, rollout)
	return err
}

// AgreeToWave lets the next wave begin behind one.
func (s *Store) AgreeToWave(ctx context.Context, rollout string, behind int) error {
	_, err := s.exec(ctx, `update rollouts set behind = ? where id = ? and behind < ?`, behind, rollout, behind)
	return err
}

// SetApprovals keeps who has agreed to a place, where nobody else has meanwhile; else it reports false.
func (s *Store) SetApprovals(ctx context.Context, p *PlaceOf, rollout string, list any) (bool, error) {
	text, err := encode(list)
	if err != nil {
		return false, err
	}
	n, err := s.exec(ctx, `update places set approvals = ? where rollout = ? and position = ? and approvals = ?`, text, rollout, p.Position, string(p.Approvals))
	return n > 0, err
}

// ReopenRollout lets one that has ended go on, under its lock.
func (s *Store) ReopenRollout(ctx context.Context, r *Rollout, places []PlaceChange) error {
	r.Ended, r.Wish, r.Reason = time.Time{}, "", ""
	if _, err := s.exec(ctx, `update rollouts set queue = ?, priority = ?, ask = ?, wish = '' where id = ? and token = ?`, r.Queue, r.Priority, r.Ask, r.ID,
		r.Token); err != nil {
		return err
	}
	_, err := s.SetRollout(ctx, r, places...)
	return err
}

// Rollout reads one by its id.
func (s *Store) Rollout(ctx context.Context, id string) (*Rollout, error) {
	return scanRollout(s.db.QueryRowContext(ctx, `select `+rolloutColumns+` from rollouts where id = ?`, id))
}

// LastRollout reads the last one of a fleet.
func (s *Store) LastRollout(ctx context.Context, name string) (*Rollout, error) {
	return scanRollout(s.db.QueryRowContext(ctx, `select `+rolloutColumns+` from rollouts where fleet = ? order by number desc limit 1`, name))
}

// LastRollouts reads the last one of each fleet, by name.
func (s *Store) LastRollouts(ctx context.Context) ([]*Rollout, error) {
	return s.rollouts(ctx, ` from rollouts r where number = (select max(number) from rollouts where fleet = r.fleet) order by fleet`)
}

// OpenRollouts lists those that are carried on by workers and have not come to their ends, with who holds them.
func (s *Store) OpenRollouts(ctx context.Context) ([]*Rollout, error) {
	return s.rollouts(ctx, ` from rollouts where ended_ms = 0 and queue <> '' order by priority, started_ms`)
}

func (s *Store) rollouts(ctx context.Context, which string) ([]*Rollout, error) {
	rows, err := s.db.QueryContext(ctx, `select `+rolloutColumns+which)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*Rollout
	for rows.Next() {
		r, err := scanRollout(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Places lists the places of a rollout with how their runs stand.
func (s *Store) Places(ctx context.Context, rollout string) ([]PlaceOf, error) {
	return s.places(ctx, "", rollout)
}

// PlacesUnder are those of them that others may change: what is begun, and what waits for somebody to agree.
func (s *Store) PlacesUnder(ctx context.Context, rollout string) ([]PlaceOf, error) {
	return s.places(ctx, " and (p.state in ('begun', 'working', 'asks') or p.careful and p.state = 'waiting')", rollout)
}

// PlaceIn is one of them, by its position; none where it is not there.
func (s *Store) PlaceIn(ctx context.Context, rollout string, position int) ([]PlaceOf, error) {
	return s.places(ctx, " and p.position = ?", rollout, position)
}

// Under says how many locks of stacks are held in a target.
func (s *Store) Under(ctx context.Context, t stack.Target) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `select count(*) from locks l join stacks s on s.id = l.stack_id where s.account = ? and s.region = ? and
		l.until_ms > `+s.db.words().now, t.Account, t.Region).Scan(&n)
	return n, err
}

func (s *Store) places(ctx context.Context, which string, args ...any) ([]PlaceOf, error) {
	rows, err := s.db.QueryContext(ctx, `select p.position, p.account, p.region, p.stack, p.wave, p.kind, p.state, p.careful, p.attempt, p.run_id,
		p.reason, p.tally, p.part, p.approvals, p.begun_ms, p.ended_ms, coalesce(r.number, 0), coalesce(r.state, ''), coalesce(r.reason, ''),
		coalesce(l.until_ms > `+s.db.words().now+`, false), coalesce(l.token, ''), coalesce(l.host, ''), coalesce(l.pid, 0),
		case when p.state = 'working' then (select count(*) from journal j where j.run_id = p.run_id and j.state = 'done') else 0 end
		from places p left join runs r on r.id = p.run_id left join locks l on l.stack_id = r.stack_id
		where p.rollout = ?`+which+` order by p.position`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []PlaceOf
	for rows.Next() {
		var p PlaceOf
		var tally, approvals string
		var begun, ended int64
		var h holder
		if err := rows.Scan(&p.Position, &p.Target.Account, &p.Target.Region, &p.Stack, &p.Wave, &p.Kind, &p.State, &p.Careful, &p.Attempt, &p.RunID,
			&p.Reason, &tally, &p.Part, &approvals, &begun, &ended, &p.Run, &p.RunState, &p.RunReason, &p.Alive, &h.token, &h.host, &h.pid, &p.Steps); err != nil {
			return nil, err
		}
		p.Approvals, p.Begun, p.Ended, p.Alive = json.RawMessage(approvals), fromMS(begun), fromMS(ended), p.Alive && !h.gone()
		if err := json.Unmarshal([]byte(tally), &p.Tally); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// PlaceBody is what was looked at in a place, with what it shares with others.
func (s *Store) PlaceBody(ctx context.Context, rollout string, position int) (body, part []byte, err error) {
	var text, shared string
	err = s.db.QueryRowContext(ctx, `select p.body, coalesce(t.body, '') from places p left join parts t on t.rollout = p.rollout and t.digest = p.part
		where p.rollout = ? and p.position = ?`, rollout, position).Scan(&text, &shared)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range []struct {
		text string
		into *[]byte
	}{{text, &body}, {shared, &part}} {
		if x.text == "" {
			continue
		}
		b, err := s.shown(x.text)
		if err == nil {
			*x.into, err = unpacked(b)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	return body, part, nil
}

// MembersOf lists the stacks of a fleet, removed ones too.
func (s *Store) MembersOf(ctx context.Context, name string) ([]*stack.Stack, error) {
	rows, err := s.db.QueryContext(ctx, `select `+stackColumns+` from stacks where fleet = ? order by account, region`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*stack.Stack
	for rows.Next() {
		st, err := scanStack(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, st)
	}
	return out, rows.Err()
}
