package yard

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"brickrow/internal/cloud"
)

// How long a resource waits for a grant that covers what it needs before it
// counts as failed, and how often it looks: at speed 1, and at least, because
// at a high speed the callers do not become faster.
const (
	grantPatience, leastPatience = 60_000, 8_000 // ms
	grantPause, leastPause       = 1_000, 100    // ms
)

// waitForGrants looks, at the end of an operation, whether the grants of the
// resource's role cover what it needs. While they do not, the operation goes on
// and says what is lacking; in the end it fails. It reports whether the
// operation was changed and is to be looked at again.
func (t *tx) waitForGrants(ctx context.Context, o *op) (bool, error) {
	if o.kind != "create" && o.kind != "update" || o.failStep >= 0 {
		return false, nil
	}
	rows, err := t.resources(ctx, `where id = ?`, o.resourceID)
	if err != nil || len(rows) == 0 {
		return false, err
	}
	r := rows[0]
	needs, roles := r.properties["needs"], r.links["role"]
	if o.kind == "update" {
		needs, roles = o.outcome.Properties["needs"], o.outcome.Links["role"]
	}
	if cluster := r.links["cluster"]; r.typ == "Workload" && len(cluster) > 0 { // it acts as its cluster
		rows, err := t.resources(ctx, `where id = ?`, cluster[0])
		if err != nil || len(rows) == 0 {
			return false, err
		}
		roles = rows[0].links["role"]
	}
	lacking, err := t.lacking(ctx, needs, roles)
	if err != nil || lacking == "" {
		return false, err
	}
	pause := max(leastPause, int64(grantPause/t.y.speed))
	last := len(o.steps) - 1
	if o.end-o.start > max(leastPatience, int64(grantPatience/t.y.speed)) {
		o.failStep = last
		o.problem = refuse(http.StatusUnprocessableEntity, "permission", "grant it to the role",
			"it never became healthy: %s", lacking)
	} else {
		if o.steps[last].Name != lacking {
			o.steps = append(o.steps, step{Name: lacking, Settling: true})
			last++
		}
		o.steps[last].MS += pause
		o.end += pause
	}
	steps, problem, _, err := t.sealed(o)
	if err != nil {
		return false, err
	}
	_, err = t.ExecContext(ctx,
		`update operations set end_ms = ?, steps = ?, fail_step = ?, problem = ? where id = ?`, o.end, steps,
		o.failStep, problem, o.id)
	return true, err
}

// lacking says which needed action no grant of the role covers; "" where all
// are covered.
func (t *tx) lacking(ctx context.Context, needs any, roles []string) (string, error) {
	list, _ := needs.([]any)
	if len(list) == 0 {
		return "", nil
	}
	if len(roles) == 0 {
		return fmt.Sprintf("it has no role, and needs %v", list[0]), nil
	}
	grants, err := t.resources(ctx,
		`where type = 'Grant' and state in ('ready', 'updating') and id in (select from_id from links where
			to_id = ?)`, roles[0])
	if err != nil {
		return "", err
	}
	for _, need := range list {
		covered := slices.ContainsFunc(grants, func(g *row) bool {
			actions, _ := g.properties["actions"].([]any)
			return slices.ContainsFunc(actions,
				func(a any) bool { return cloud.Covers(fmt.Sprint(a), fmt.Sprint(need)) })
		})
		if !covered {
			role, err := t.resources(ctx, `where id = ?`, roles[0])
			if err != nil || len(role) == 0 {
				return "", err
			}
			name := role[0].node
			if name == "" {
				name = roles[0]
			}
			return fmt.Sprintf("role %s lacks %v", name, need), nil
		}
	}
	return "", nil
}
