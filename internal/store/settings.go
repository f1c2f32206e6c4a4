package store

import (
	"context"
	"database/sql"
	"errors"

	"brickrow/internal/stack"
)

// Setting reads what all who share the store have set under a name; "" is nothing. Of a shared store that is what a member
// has set, whatever else stands in the table.
func (s *Store) Setting(ctx context.Context, name string) (text string, err error) {
	if s.me != nil {
		c, err := s.follow(ctx)
		if err != nil {
			return "", err
		}
		return c.settings[name], nil
	}
	err = s.db.QueryRowContext(ctx, `select body from settings where name = ?`, name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return text, err
}

// errOther says that a setting is not what it was thought to be.
var errOther = errors.New("the setting is another one now")

// Set sets something for all who share the store, where it is still what it was before; else it reports false. The acts say
// what was done; none is one that says no more than that it was set.
func (s *Store) Set(ctx context.Context, name, was, text string, acts ...Act) (bool, error) {
	if len(acts) == 0 {
		acts = []Act{{Act: SettingSet, On: name}}
	}
	for i := range acts {
		acts[i].Body = body(settingBody{name, text})
	}
	err := s.write(ctx, func(tx transaction) error {
		if err := tx.Alone("acts"); err != nil {
			return err
		}
		is, err := s.settingIn(ctx, tx, name)
		if err != nil {
			return err
		}
		if is != was {
			return errOther
		}
		if err := tx.Do(`insert into settings(name, body) values(?, ?) on conflict (name) do update set body = excluded.body`, name, text); err != nil {
			return err
		}
		return s.act(ctx, tx, acts...)
	})
	if errors.Is(err, errOther) {
		return false, nil
	}
	return err == nil, err
}

func (s *Store) settingIn(ctx context.Context, tx transaction, name string) (string, error) {
	if s.me == nil {
		all, err := settingRows(ctx, tx)
		return all[name], err
	}
	s.circleMu.Lock()
	defer s.circleMu.Unlock()
	c, err := s.followed(ctx, tx)
	if err != nil {
		return "", err
	}
	return c.settings[name], nil
}

// SetRuns says how many runs a target takes at once; 0 is any number.
func (s *Store) SetRuns(ctx context.Context, t stack.Target, n int, note string) error {
	return s.write(ctx, func(tx transaction) error {
		if err := tx.Do(`insert into targets(target, at_once, runs) values(?, 0, ?)
			on conflict(target) do update set runs = excluded.runs`, t.String(), n); err != nil {
			return err
		}
		return s.act(ctx, tx, Act{Act: LimitSet, On: t.String(), Body: body(limitBody{n}), Note: note})
	})
}

// RunsAtOnce says how many runs targets take at once, where that is limited.
func (s *Store) RunsAtOnce(ctx context.Context) (map[string]int, error) {
	if s.me == nil {
		return limitRows(ctx, s.db)
	}
	c, err := s.follow(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for target, n := range c.limits {
		if n > 0 {
			out[target] = n
		}
	}
	return out, nil
}
