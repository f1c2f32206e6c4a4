package yard

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"brickrow/internal/cloud"
)

// How long it takes to copy what a resource holds, and to fill one, at nominal speed.
const (
	backupMS  = 5_000
	restoreMS = 6_000
)

func (y *Yard) holdsData(typ string) bool {
	t := y.lib.Nodes[typ]
	return t != nil && t.Metadata["holds_data"] == "true"
}

// contentsDigest is what is shown of the contents of a resource.
func (y *Yard) contentsDigest(typ, contents string) string {
	list := map[string]object{}
	if typ == "Bucket" && json.Unmarshal([]byte(contents), &list) == nil { // when it was written does not matter
		texts := map[string]string{}
		for key, o := range list {
			texts[key] = o.Text
		}
		return "sha256:" + y.digest([]any{"objects", texts})[:24]
	}
	return "sha256:" + y.digest([]any{"contents", contents})[:24]
}

// setContents writes what a resource holds.
func (t *tx) setContents(ctx context.Context, id, typ, contents string) error {
	sealed, err := t.y.seal(contents)
	if err != nil {
		return err
	}
	list := map[string]object{}
	if typ == "Bucket" && contents != "" {
		if err := json.Unmarshal([]byte(contents), &list); err != nil {
			return err
		}
	}
	_, err = t.ExecContext(ctx, `update resources set contents = ?, contents_digest = ?, holds = ? where id = ?`, sealed,
		t.y.contentsDigest(typ, contents), len(list), id)
	return err
}

// contents reads what a resource holds.
func (t *tx) contents(ctx context.Context, id string) (contents string, err error) {
	var sealed string
	if err = t.QueryRowContext(ctx, `select contents from resources where id = ?`, id).Scan(&sealed); err == nil && sealed != "" {
		err = t.y.unseal(sealed, &contents)
	}
	return contents, err
}

// backup begins to copy what a resource holds: as it is when that is done.
func (y *Yard) backup(ctx context.Context, r *request) (int, any, error) {
	key, err := r.body(nil)
	if err != nil {
		return 0, nil, err
	}
	return y.copying(ctx, r, key, "backup", "")
}

// restore begins to fill a resource from a backup.
func (y *Yard) restore(ctx context.Context, r *request) (int, any, error) {
	var body struct {
		Backup string `json:"backup"`
	}
	key, err := r.body(&body)
	if err != nil {
		return 0, nil, err
	}
	return y.copying(ctx, r, key, "restore", body.Backup)
}

func (y *Yard) copying(ctx context.Context, r *request, key, kind, from string) (int, any, error) {
	digest := y.digest([]any{kind, r.account, r.region, r.PathValue("id"), from})
	var out cloud.Operation
	err := y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.copyNow(ctx, r, key, digest, kind, from)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) copyNow(ctx context.Context, r *request, key, digest, kind, from string) (*op, error) {
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
	if !t.y.holdsData(was.typ) {
		return nil, refuse(http.StatusUnprocessableEntity, "no-backups", "", "a %s holds nothing that could be copied", was.typ)
	}
	n, err := t.next(ctx, "operations")
	if err != nil {
		return nil, err
	}
	o := &op{id: fmt.Sprintf("op~%s-c%d", was.id, n), key: key, digest: digest, resourceID: was.id, kind: kind,
		steps: []step{{Name: "copying what it holds", MS: backupMS}}, outcome: outcome{Backup: newID("Backup", n)}}
	if kind == "restore" {
		var typ string
		if err := t.QueryRowContext(ctx, `select type from backups where id = ? and account = ? and region = ?`, from, r.account, r.region).
			Scan(&typ); err != nil {
			return nil, cloud.NotFound("backup " + from + " in " + r.account + "/" + r.region)
		}
		if typ != was.typ {
			return nil, refuse(http.StatusUnprocessableEntity, "no-backups", "use a backup of a "+was.typ, "%s is a backup of a %s", from, typ)
		}
		o.steps, o.outcome.Backup = []step{{Name: "filling it from " + from, MS: restoreMS}}, from
	}
	return o, t.start(ctx, r, o, was.node, was.typ)
}

// copied applies a copy that is done.
func (t *tx) copied(ctx context.Context, o *op) error {
	rows, err := t.resources(ctx, `where id = ?`, o.resourceID)
	if err != nil || len(rows) == 0 {
		return err
	}
	r := rows[0]
	if o.kind == "restore" {
		var sealed, contents string
		if err := t.QueryRowContext(ctx, `select contents from backups where id = ?`, o.outcome.Backup).Scan(&sealed); err != nil {
			return err
		}
		if err := t.y.unseal(sealed, &contents); err != nil {
			return err
		}
		return t.setContents(ctx, r.id, r.typ, contents)
	}
	contents, err := t.contents(ctx, r.id)
	if err != nil {
		return err
	}
	sealed, err := t.y.seal(contents)
	if err != nil {
		return err
	}
	n, err := t.next(ctx, "backups")
	if err != nil {
		return err
	}
	_, err = t.ExecContext(ctx, `insert into backups(id, seq, account, region, of_id, type, stack, node, taken_ms, contents, digest)
		values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, o.outcome.Backup, n, r.account, r.region, r.id, r.typ, r.stack, r.node, o.end, sealed,
		t.y.contentsDigest(r.typ, contents))
	return err
}

// backups lists the backups of a place, the newest first.
func (y *Yard) backups(ctx context.Context, r *request) (int, any, error) {
	out := []cloud.Backup{}
	stack := r.URL.Query().Get("stack")
	err := y.look(ctx, func(t *tx) error {
		rows, err := t.QueryContext(ctx, `select id, of_id, type, stack, node, taken_ms, digest from backups
			where account = ? and region = ? and (? = '' or stack = ?) order by seq desc`, r.account, r.region, stack, stack)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var b cloud.Backup
			var at int64
			if err := rows.Scan(&b.ID, &b.Of, &b.Type, &b.Stack, &b.Node, &at, &b.Digest); err != nil {
				return err
			}
			b.Taken = time.UnixMilli(at).UTC()
			out = append(out, b)
		}
		return rows.Err()
	})
	return http.StatusOK, out, err
}

// removeBackup removes a backup.
func (y *Yard) removeBackup(ctx context.Context, r *request) (int, any, error) {
	err := y.inTx(ctx, func(t *tx) error {
		res, err := t.ExecContext(ctx, `delete from backups where id = ? and account = ? and region = ?`, r.PathValue("id"), r.account, r.region)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n > 0 {
			return err
		}
		return cloud.NotFound("backup " + r.PathValue("id"))
	})
	return http.StatusOK, struct{}{}, err
}

// Filling is what the operator puts into a resource that holds data.
type Filling struct {
	Stack    string `json:"stack"`
	Node     string `json:"node"`
	Contents string `json:"contents"`
}

// fill writes what a resource holds: into a bucket one object, into a queue one more message.
func (y *Yard) fill(ctx context.Context, r *request) (int, any, error) {
	var f Filling
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&f); err != nil {
		return 0, nil, refuse(http.StatusBadRequest, "bad-request", "", "the contents cannot be read: %v", err)
	}
	err := y.inTx(ctx, func(t *tx) error {
		rows, err := t.resources(ctx, `where stack = ? and node = ? order by seq desc`, f.Stack, f.Node)
		if err != nil {
			return err
		}
		switch {
		case len(rows) > 0 && rows[0].typ == "Queue":
			_, err = t.sendNow(ctx, rows[0], f.Contents)
			return err
		case len(rows) > 0 && rows[0].typ == "Bucket" && f.Contents == "":
			return t.putObjects(ctx, rows[0], nil)
		case len(rows) > 0 && rows[0].typ == "Bucket":
			return t.putObjects(ctx, rows[0], map[string]object{"contents": {f.Contents, t.now}})
		case len(rows) == 0 || !y.holdsData(rows[0].typ):
			return refuse(http.StatusUnprocessableEntity, "bad-request", "", "%s of %s holds nothing", f.Node, f.Stack)
		}
		return t.setContents(ctx, rows[0].id, rows[0].typ, f.Contents)
	})
	return http.StatusOK, f, err
}

// Fill writes what a resource of a stack holds.
func (d *Door) Fill(ctx context.Context, f Filling) error {
	return d.call(ctx, http.MethodPut, "contents", f, nil)
}
