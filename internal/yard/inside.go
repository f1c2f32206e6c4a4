package yard

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// What is inside of things: objects in buckets, messages in queues, and the requests that
// functions answer.

// insides is what is counted inside of the types that hold something: the attribute.
var insides = map[string]string{"Bucket": "objects", "Queue": "messages"}

// verbRead and verbWrite are what credentials may do inside of a resource.
const (
	verbRead  = "read"
	verbWrite = "write"
)

// object is an object in a bucket. What a bucket holds is a map of them by key, as JSON.
type object struct {
	Text string `json:"text"`
	At   int64  `json:"at"` // in milliseconds
}

// Object is an object as it is listed or read; the text only where it was asked for.
type Object struct {
	Key  string  `json:"key"`
	Size int     `json:"size"` // in bytes
	Text *string `json:"text,omitempty"`
}

// Message is a message that was taken from a queue.
type Message struct {
	ID    string `json:"id"`
	Text  string `json:"text"`
	Taken int    `json:"taken"` // how often, with this one
}

// within runs something inside of a resource of a type, whose state lets it work.
func (y *Yard) within(ctx context.Context, r *request, typ, verb string, f func(t *tx, row *row) error) error {
	return y.inTx(ctx, func(t *tx) error {
		row, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
		if err == nil {
			err = t.permitted(ctx, r.account, row.typ, verb)
		}
		switch {
		case err != nil:
			return err
		case row.typ != typ:
			return refuse(http.StatusUnprocessableEntity, "bad-request", "", "%s is a %s, and no %s", row.id, row.typ, typ)
		case row.state != "ready" && row.state != "updating":
			return refuse(http.StatusConflict, "not-ready", "", "%s is not ready (%s)", row.id, row.state)
		}
		return f(t, row)
	})
}

// text reads a body that has a text alone.
func (r *request) text() (string, error) {
	var body struct {
		Text string `json:"text"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&body); err != nil {
		return "", refuse(http.StatusBadRequest, "bad-request", "", "the body cannot be read: %v", err)
	}
	return body.Text, nil
}

// length is how long a property of a resource says that something lasts, in milliseconds at
// the speed of the yard; 0 is not set.
func (t *tx) length(r *row, property string) int64 {
	v, _ := cloud.ReadProperty(t.y.lib.Nodes[r.typ], property, tosca.FromJSON(r.properties[property])).(tosca.Scalar)
	return int64(v.Amount * 1000 / t.y.speed)
}

// objects are what a bucket holds, without what it keeps no longer.
func (t *tx) objects(ctx context.Context, r *row) (map[string]object, error) {
	contents, err := t.contents(ctx, r.id)
	list := map[string]object{}
	if err == nil && contents != "" {
		err = json.Unmarshal([]byte(contents), &list)
	}
	if days := whole(r.properties["keep_days"]); days > 0 {
		for key, o := range list {
			if o.At+int64(float64(days)*24*3600*1000/t.y.speed) < t.now {
				delete(list, key)
			}
		}
	}
	return list, err
}

func (t *tx) putObjects(ctx context.Context, r *row, list map[string]object) error {
	contents := ""
	if len(list) > 0 {
		text, err := json.Marshal(list)
		if err != nil {
			return err
		}
		contents = string(text)
	}
	return t.setContents(ctx, r.id, r.typ, contents)
}

// readObjects lists the objects of a bucket, or reads one.
func (y *Yard) readObjects(ctx context.Context, r *request) (int, any, error) {
	out := []Object{}
	key := r.URL.Query().Get("key")
	err := y.within(ctx, r, "Bucket", verbRead, func(t *tx, row *row) error {
		list, err := t.objects(ctx, row)
		if err != nil {
			return err
		}
		for name, o := range list {
			switch {
			case key == "":
				out = append(out, Object{Key: name, Size: len(o.Text)})
			case key == name:
				out = append(out, Object{Key: name, Size: len(o.Text), Text: &o.Text})
			}
		}
		if key != "" && len(out) == 0 {
			return cloud.NotFound("object " + key)
		}
		slices.SortFunc(out, func(a, b Object) int { return strings.Compare(a.Key, b.Key) })
		return nil
	})
	return http.StatusOK, out, err
}

// putObject writes an object of a bucket.
func (y *Yard) putObject(ctx context.Context, r *request) (int, any, error) {
	text, err := r.text()
	if err != nil {
		return 0, nil, err
	}
	return y.withObjects(ctx, r, func(t *tx, list map[string]object, key string) { list[key] = object{text, t.now} })
}

// removeObject removes an object of a bucket; that there is none is no error.
func (y *Yard) removeObject(ctx context.Context, r *request) (int, any, error) {
	return y.withObjects(ctx, r, func(_ *tx, list map[string]object, key string) { delete(list, key) })
}

func (y *Yard) withObjects(ctx context.Context, r *request, change func(t *tx, list map[string]object, key string)) (int, any, error) {
	key := r.URL.Query().Get("key")
	if key == "" {
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "add ?key=KEY", "it is not said which object is meant")
	}
	err := y.within(ctx, r, "Bucket", verbWrite, func(t *tx, row *row) error {
		list, err := t.objects(ctx, row)
		if err != nil {
			return err
		}
		change(t, list, key)
		return t.putObjects(ctx, row, list)
	})
	return http.StatusOK, struct{}{}, err
}

// send puts a message into a queue.
func (y *Yard) send(ctx context.Context, r *request) (int, any, error) {
	text, err := r.text()
	if err != nil {
		return 0, nil, err
	}
	var out Message
	err = y.within(ctx, r, "Queue", verbWrite, func(t *tx, row *row) error {
		out, err = t.sendNow(ctx, row, text)
		return err
	})
	return http.StatusOK, out, err
}

func (t *tx) sendNow(ctx context.Context, r *row, text string) (Message, error) {
	n, err := t.next(ctx, "messages")
	if err != nil {
		return Message{}, err
	}
	sealed, err := t.y.seal(text)
	if err != nil {
		return Message{}, err
	}
	out := Message{ID: newID("Message", n), Text: text}
	if _, err := t.ExecContext(ctx, `insert into messages(id, seq, queue_id, sent_ms, hidden_ms, taken, contents)
		values(?, ?, ?, ?, 0, 0, ?)`, out.ID, n, r.id, t.now, sealed); err != nil {
		return Message{}, err
	}
	return out, t.countMessages(ctx, r)
}

// countMessages forgets what a queue keeps no longer, and writes how many there are.
func (t *tx) countMessages(ctx context.Context, r *row) error {
	if keep := t.length(r, "keep"); keep > 0 {
		if _, err := t.ExecContext(ctx, `delete from messages where queue_id = ? and sent_ms < ?`, r.id, t.now-keep); err != nil {
			return err
		}
	}
	_, err := t.ExecContext(ctx, `update resources set holds = (select count(*) from messages where queue_id = ?) where id = ?`, r.id, r.id)
	return err
}

// take takes messages from a queue, the oldest first. They are hidden for a while, and there
// again then, unless they are removed.
func (y *Yard) take(ctx context.Context, r *request) (int, any, error) {
	var body struct {
		Most int `json:"most"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&body); err != nil || body.Most < 1 {
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "say how many at most", "it is not said how many are wanted")
	}
	out := []Message{}
	err := y.within(ctx, r, "Queue", verbRead, func(t *tx, row *row) error {
		if err := t.countMessages(ctx, row); err != nil {
			return err
		}
		list, err := t.waiting(ctx, row, body.Most)
		if err != nil {
			return err
		}
		for _, m := range list {
			if _, err := t.ExecContext(ctx, `update messages set hidden_ms = ?, taken = ? where id = ?`,
				t.now+t.length(row, "visible_after"), m.Taken, m.ID); err != nil {
				return err
			}
		}
		out = append(out, list...)
		return nil
	})
	return http.StatusOK, out, err
}

func (t *tx) waiting(ctx context.Context, r *row, most int) (out []Message, err error) {
	rows, err := t.QueryContext(ctx, `select id, contents, taken + 1 from messages where queue_id = ? and hidden_ms <= ?
		order by seq limit ?`, r.id, t.now, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var m Message
		var sealed string
		if err := rows.Scan(&m.ID, &sealed, &m.Taken); err != nil {
			return nil, err
		}
		if err := t.y.unseal(sealed, &m.Text); err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, rows.Err()
}

// removeMessage removes a message of a queue; that there is none is no error.
func (y *Yard) removeMessage(ctx context.Context, r *request) (int, any, error) {
	err := y.within(ctx, r, "Queue", verbRead, func(t *tx, row *row) error {
		if _, err := t.ExecContext(ctx, `delete from messages where queue_id = ? and id = ?`, row.id, r.URL.Query().Get("id")); err != nil {
			return err
		}
		return t.countMessages(ctx, row)
	})
	return http.StatusOK, struct{}{}, err
}

// invoke lets a function answer a request. One whose role may not do what it needs fails.
func (y *Yard) invoke(ctx context.Context, r *request) (int, any, error) {
	if _, err := r.text(); err != nil {
		return 0, nil, err
	}
	var out cloud.Reply
	err := y.within(ctx, r, "Function", verbWrite, func(t *tx, row *row) error {
		lacks, err := t.lacking(ctx, row.properties["needs"], row.links["role"])
		if err != nil {
			return err
		}
		if lacks != "" {
			out = cloud.Reply{Status: http.StatusInternalServerError, Body: lacks, By: row.id}
			return nil
		}
		out, err = t.page(ctx, row, call{kind: "http"})
		out.By = row.id
		return err
	})
	return http.StatusOK, out, err
}

// emptyOf refuses the removal of a bucket that holds objects, unless it says that they go
// with it.
func (t *tx) emptyOf(ctx context.Context, r *row) error {
	if r.typ != "Bucket" || r.properties["empties"] == true {
		return nil
	}
	list, err := t.objects(ctx, r)
	if err != nil || len(list) == 0 {
		return err
	}
	what := "objects"
	if len(list) == 1 {
		what = "object"
	}
	return refuse(http.StatusConflict, "not-empty", "empty it first, or set its property empties", "%s holds %d %s", r.id, len(list), what)
}
