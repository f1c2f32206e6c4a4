package store

import (
	"context"
	"time"

	"brickrow/internal/stack"
)

// Verdict is how a rule stands to a resource in the cloud, and since when.
type Verdict struct {
	Target   stack.Target
	ID       string // of the resource
	Rule     string
	Complies bool
	Since    time.Time // zero where it was never otherwise
}

// Verdicts lists, by resource and rule, the last that was said of it in a target: only what was
// once not kept is there.
func (s *Store) Verdicts(ctx context.Context, t stack.Target) (map[[2]string]Verdict, error) {
	rows, err := s.db.QueryContext(ctx, `select cloud_id, rule, complies, at_ms from verdicts v where target = ? and number =
		(select max(number) from verdicts w where w.target = v.target and w.cloud_id = v.cloud_id and w.rule = v.rule)`, t.String())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[[2]string]Verdict{}
	for rows.Next() {
		v := Verdict{Target: t}
		var at int64
		if err := rows.Scan(&v.ID, &v.Rule, &v.Complies, &at); err != nil {
			return nil, err
		}
		v.Since = fromMS(at)
		out[[2]string{v.ID, v.Rule}] = v
	}
	return out, rows.Err()
}

// VerdictsOf lists what was said of a resource, the newest first.
func (s *Store) VerdictsOf(ctx context.Context, t stack.Target, id string) ([]Verdict, error) {
	rows, err := s.db.QueryContext(ctx, `select rule, complies, at_ms from verdicts where target = ? and cloud_id = ? order by number desc`, t.String(), id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Verdict
	for rows.Next() {
		v := Verdict{Target: t, ID: id}
		var at int64
		if err := rows.Scan(&v.Rule, &v.Complies, &at); err != nil {
			return nil, err
		}
		v.Since = fromMS(at)
		out = append(out, v)
	}
	return out, rows.Err()
}

// NotKept counts the rules that are not kept, by stack@account/region, as far as somebody has
// looked.
func (s *Store) NotKept(ctx context.Context) (map[string]int, error) {
	rows, err := s.db.QueryContext(ctx, `select s.stack, s.target, count(*) from verdicts v join sights s on s.target = v.target and
		s.cloud_id = v.cloud_id where not v.complies and s.stack <> '' and v.number = (select max(number) from verdicts w where
		w.target = v.target and w.cloud_id = v.cloud_id and w.rule = v.rule) group by s.stack, s.target`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var name, target string
		var n int
		if err := rows.Scan(&name, &target, &n); err != nil {
			return nil, err
		}
		out[name+"@"+target] = n
	}
	return out, rows.Err()
}

// NoteVerdicts writes what is another verdict than the last one. Who has said the same
// meanwhile has said it first.
func (s *Store) NoteVerdicts(ctx context.Context, list []Verdict) error {
	if !s.Member() { // who only looks notes nothing
		return nil
	}
	if len(list) == 0 {
		return nil
	}
	return s.write(ctx, func(tx transaction) error {
		if err := tx.Alone("verdicts"); err != nil {
			return err
		}
		for _, v := range list {
			if err := tx.Do(`insert into verdicts(number, target, cloud_id, rule, complies, at_ms)
				select (select coalesce(max(number), 0) + 1 from verdicts), ?, ?, ?, ?, ? where not exists (select 1 from verdicts v where v.target = ? and
				v.cloud_id = ? and v.rule = ? and v.complies = ? and v.number = (select max(number) from verdicts w where w.target = v.target and
				w.cloud_id = v.cloud_id and w.rule = v.rule))`, v.Target.String(), v.ID, v.Rule, v.Complies, v.Since.UnixMilli(), v.Target.String(), v.ID,
				v.Rule, v.Complies); err != nil {
				return err
			}
		}
		return nil
	})
}
