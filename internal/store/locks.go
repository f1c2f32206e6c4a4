package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"brickrow/internal/cloud"
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

// machine tells whether a process can be looked for here: the name of the machine and, as several may have the
// same one, the space in which its processes are numbered, and the boot.
func machine() string {
	parts := []string{hostname()}
	if space, err := os.Readlink("/proc/self/ns/pid"); err == nil {
		parts = append(parts, space)
	}
	if boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id"); err == nil {
		parts = append(parts, strings.TrimSpace(string(boot)))
	}
	return strings.Join(parts, " ")
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
	now := s.db.words().now
	if s.older != nil {
		return "", s.older
	}
	var n int64
	err = s.db.Write(ctx, func(tx transaction) error { // also while the key becomes another one: a lease must not run out
		n, err = tx.ExecContext(ctx, `insert into locks(stack_id, token, holder, host, pid, until_ms, since_ms)
		values(?, ?, ?, ?, ?, `+now+` + ?, `+now+`)
		on conflict(stack_id) do update set token = excluded.token, holder = excluded.holder,
		host = excluded.host, pid = excluded.pid, until_ms = excluded.until_ms,
		since_ms = case when locks.token = excluded.token then locks.since_ms else excluded.since_ms end
		where locks.token = excluded.token or locks.until_ms <= `+now+` or locks.token = ?`,
			stackID, token, me(), machine(), os.Getpid(), Lease.Milliseconds(), free)
		return err
	})
	if err != nil {
		return "", err
	}
	if n > 0 {
		if held.token != token {
			from = held.name
		}
		return from, nil
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
func (h holder) gone() bool { return h.token != "" && h.host == machine() && gone(h.pid) }

// gone reports whether a process of this machine has ended.
func gone(pid int) bool {
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// Unlock gives the lock back.
func (s *Store) Unlock(ctx context.Context, stackID int64, token string) error {
	return s.release(ctx, `delete from locks where stack_id = ? and token = ?`, stackID, token)
}

// LockHolder says who holds the lock of a stack now; "" is nobody.
func (s *Store) LockHolder(ctx context.Context, stackID int64) (string, error) {
	var h holder
	err := s.db.QueryRowContext(ctx, `select token, holder, host, pid from locks where stack_id = ? and until_ms > `+
		s.db.words().now, stackID).Scan(&h.token, &h.name, &h.host, &h.pid)
	if errors.Is(err, sql.ErrNoRows) || err == nil && h.gone() {
		return "", nil
	}
	return h.name, err
}
