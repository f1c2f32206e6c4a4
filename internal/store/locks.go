package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/identity"
)

// Lease is how long a lock is held without being renewed.
const Lease = 15 * time.Second

func hostname() string {
	host, err := os.Hostname()
	if err != nil {
		return "this machine"
	}
	return cloud.Clean(host)
}

// LockedError says who holds the lock of a stack.
type LockedError struct{ Holder string }

func (e *LockedError) Error() string {
	return fmt.Sprintf("the stack is locked by %s; wait until that run has ended, or watch it", cloud.Clean(e.Holder))
}

// Lock takes the lock of a stack for a token, or renews it. A lock whose lease
// has run out, or whose process on this machine has ended, is taken over; from
// then tells whose it was.
func (s *Store) Lock(ctx context.Context, stackID int64, token string) (from string, err error) {
	held, err := s.holder(ctx, stackID)
	if err != nil {
		return "", err
	}
	free := "" // a lock that may be taken over before its time
	if held.gone() {
		free = held.token
	}
	host := hostname()
	me := fmt.Sprintf("%s on %s (process %d)", identity.User(), host, os.Getpid())
	res, err := s.db.ExecContext(ctx, `insert into locks(stack_id, token, holder, host, pid, until_ms)
		values(?, ?, ?, ?, ?, `+nowMS+` + ?)
		on conflict(stack_id) do update set token = excluded.token, holder = excluded.holder,
		host = excluded.host, pid = excluded.pid, until_ms = excluded.until_ms
		where locks.token = excluded.token or locks.until_ms <= `+nowMS+` or locks.token = ?`,
		stackID, token, me, host, os.Getpid(), Lease.Milliseconds(), free)
	if err != nil {
		return "", err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		if held.token != token {
			from = held.name
		}
		return from, err
	}
	if held, err = s.holder(ctx, stackID); err != nil {
		return "", err
	}
	return "", &LockedError{held.name}
}

// holder is who holds a lock, or held it last.
type holder struct {
	token, name, host string
	pid               int
}

func (s *Store) holder(ctx context.Context, stackID int64) (h holder, err error) {
	err = s.db.QueryRowContext(ctx, `select token, holder, host, pid from locks where stack_id = ?`, stackID).
		Scan(&h.token, &h.name, &h.host, &h.pid)
	if errors.Is(err, sql.ErrNoRows) {
		return holder{}, nil
	}
	return h, err
}

// gone reports whether the holder was a process of this machine that has ended.
func (h holder) gone() bool { return h.token != "" && h.host == hostname() && gone(h.pid) }

// gone reports whether a process of this machine has ended.
func gone(pid int) bool {
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// Unlock gives the lock back.
func (s *Store) Unlock(ctx context.Context, stackID int64, token string) error {
	_, err := s.db.ExecContext(ctx, `delete from locks where stack_id = ? and token = ?`, stackID, token)
	return err
}

// LockHolders says who holds the locks of stacks now, by the stack's id.
func (s *Store) LockHolders(ctx context.Context) (map[int64]string, error) {
	rows, err := s.db.QueryContext(ctx, `select stack_id, token, holder, host, pid from locks where until_ms > `+nowMS)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]string{}
	for rows.Next() {
		var id int64
		var h holder
		if err := rows.Scan(&id, &h.token, &h.name, &h.host, &h.pid); err != nil {
			return nil, err
		}
		if !h.gone() {
			out[id] = h.name
		}
	}
	return out, rows.Err()
}

// LockHolder says who holds the lock of a stack now; "" is nobody.
func (s *Store) LockHolder(ctx context.Context, stackID int64) (string, error) {
	var h holder
	err := s.db.QueryRowContext(ctx, `select token, holder, host, pid from locks where stack_id = ? and until_ms > `+
		nowMS, stackID).Scan(&h.token, &h.name, &h.host, &h.pid)
	if errors.Is(err, sql.ErrNoRows) || err == nil && h.gone() {
		return "", nil
	}
	return h.name, err
}
