package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/user"
	"syscall"
	"time"

	"brickrow/internal/cloud"
)

// Lease is how long a lock is held without being renewed.
const Lease = 15 * time.Second

// Who is the name of the user of this process.
func Who() string {
	if u, err := user.Current(); err == nil {
		return cloud.Clean(u.Username)
	}
	return "somebody"
}

func hostname() string {
	host, err := os.Hostname()
	if err != nil {
		return "this machine"
	}
	return cloud.Clean(host)
}

// LockedError says who holds the lock of a stack.
type LockedError struct {
	Holder string
	Until  time.Time
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("the stack is locked by %s; wait until that run has ended, or watch it", cloud.Clean(e.Holder))
}

// Lock takes the lock of a stack for a token, or renews it. A lock whose lease
// has run out, or whose process on this machine has ended, is taken over; from
// then tells whose it was.
func (s *Store) Lock(ctx context.Context, stackID int64, token string) (from string, err error) {
	now := s.now()
	host := hostname()
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		var held, holder, on string
		var until int64
		var pid int
		err := tx.QueryRowContext(ctx, `select token, holder, host, pid, until_ms from locks where stack_id = ?`, stackID).Scan(&held, &holder, &on, &pid, &until)
		switch {
		case errors.Is(err, sql.ErrNoRows):
		case err != nil:
			return err
		case held != token && until > now.UnixMilli() && !(on == host && gone(pid)):
			return &LockedError{holder, fromMS(until)}
		case held != token:
			from = holder
		}
		_, err = tx.ExecContext(ctx, `insert into locks(stack_id, token, holder, host, pid, until_ms) values(?, ?, ?, ?, ?, ?)
			on conflict(stack_id) do update set token = excluded.token, holder = excluded.holder, host = excluded.host, pid = excluded.pid, until_ms = excluded.until_ms`,
			stackID, token, fmt.Sprintf("%s on %s (process %d)", Who(), host, os.Getpid()), host, os.Getpid(), now.Add(Lease).UnixMilli())
		return err
	})
	return from, err
}

// gone reports whether a process of this machine has ended.
func gone(pid int) bool {
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// Unlock gives the lock back.
func (s *Store) Unlock(ctx context.Context, stackID int64, token string) error {
	_, err := s.db.ExecContext(ctx, `delete from locks where stack_id = ? and token = ?`, stackID, token)
	return err
}

// LockHolder says who holds the lock of a stack now; "" is nobody.
func (s *Store) LockHolder(ctx context.Context, stackID int64) (string, error) {
	var holder, on string
	var pid int
	err := s.db.QueryRowContext(ctx, `select holder, host, pid from locks where stack_id = ? and until_ms > ?`, stackID, s.now().UnixMilli()).Scan(&holder, &on, &pid)
	if errors.Is(err, sql.ErrNoRows) || err == nil && on == hostname() && gone(pid) {
		return "", nil
	}
	return holder, err
}
