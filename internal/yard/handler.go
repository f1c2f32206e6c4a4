package yard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// maxBody bounds the body of a request, in bytes.
const maxBody = 4 << 20

// Handler serves the yard's interface.
func (y *Yard) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/targets", func(w http.ResponseWriter,
		_ *http.Request) {
		write(w, http.StatusOK, y.Targets())
	})
	mux.HandleFunc("GET /v1/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(openAPI())
	})
	mux.HandleFunc("GET /v1/{account}/{region}/feed", y.admitted(func(w http.ResponseWriter, r *request) {
		if err := y.feed(w, r); err != nil {
			fail(w, err, r.secrets)
		}
	}))
	y.route(mux, "GET /v1/{account}/{region}/resources", y.list)
	y.route(mux, "POST /v1/{account}/{region}/resources", y.create)
	y.route(mux, "GET /v1/{account}/{region}/resources/{id}", y.get)
	y.route(mux, "PATCH /v1/{account}/{region}/resources/{id}", y.update)
	y.route(mux, "DELETE /v1/{account}/{region}/resources/{id}", y.remove)
	y.route(mux, "GET /v1/{account}/{region}/operations/{id}", y.operation)
	y.route(mux, "GET /v1/{account}/{region}/about", y.about)
	y.route(mux, "GET /v1/{account}/{region}/names", y.names)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/drain", y.drain)
	y.route(mux, "DELETE /v1/{account}/{region}/resources/{id}/drain", y.refill)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/backups", y.backup)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/restore", y.restore)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/actions", y.act)
	y.route(mux, "GET /v1/{account}/{region}/backups", y.backups)
	y.route(mux, "DELETE /v1/{account}/{region}/backups/{id}", y.removeBackup)
	y.route(mux, "GET /v1/{account}/{region}/resources/{id}/objects", y.readObjects)
	y.route(mux, "PUT /v1/{account}/{region}/resources/{id}/objects", y.putObject)
	y.route(mux, "DELETE /v1/{account}/{region}/resources/{id}/objects", y.removeObject)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/messages", y.send)
	y.route(mux, "DELETE /v1/{account}/{region}/resources/{id}/messages", y.removeMessage)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/taken", y.take)
	y.route(mux, "POST /v1/{account}/{region}/resources/{id}/requests", y.invoke)
	y.route(mux, "PUT /operator/contents", y.fill)
	y.route(mux, "POST /v1/{account}/{region}/ask", y.ask)
	y.route(mux, "GET /v1/{account}/{region}/scripts", y.listScripts)
	y.route(mux, "GET /operator/cut-off", y.countCutOff)
	y.route(mux, "GET /operator/resources", y.everything)
	y.route(mux, "PUT /operator/permissions", y.permit)
	y.route(mux, "PUT /operator/at-once", y.setAtOnce)
	y.route(mux, "GET /operator/faults", y.listFaults)
	y.route(mux, "POST /operator/faults", y.addFault)
	y.route(mux, "DELETE /operator/faults", y.clearFaults)
	return mux
}

// Server serves a handler with limits on how long a caller may take: one that
// sends half a request, or reads no answer, holds nothing for long.
func Server(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: readTime, ReadTimeout: readTime, WriteTimeout: 2 * readTime,
		IdleTimeout: 60 * time.Second, MaxHeaderBytes: 64 << 10}
}

// readTime is how long a caller may take to send a request.
const readTime = 5 * time.Second

// request is a request that was let in.
type request struct {
	*http.Request
	account, region string
	cluster         string // whose interface it was sent to; "" is the yard's own
	lose            bool   // the answer is to be lost
	secrets         *tosca.Secrets
}

// route adds a handler behind the check of the token and the place.
func (y *Yard) route(mux *http.ServeMux, pattern string, h func(ctx context.Context, r *request) (int, any, error)) {
	mux.HandleFunc(pattern, y.admitted(func(w http.ResponseWriter, r *request) {
		status, body, err := h(r.Context(), r)
		if r.lose {
			panic(http.ErrAbortHandler)
		}
		if err != nil {
			fail(w, err, r.secrets)
			return
		}
		if o, ok := body.(cloud.Operation); ok && status == http.StatusAccepted {
			w.Header().Set("Location", fmt.Sprintf("/v1/%s/%s/operations/%s", r.account, r.region, o.ID))
		}
		if res, ok := body.(cloud.Resource); ok {
			w.Header().Set("ETag", res.ETag)
		}
		write(w, status, body)
	}))
}

// admitted lets a request in whose place there is and whose token is right.
func (y *Yard) admitted(h func(w http.ResponseWriter, r *request)) http.HandlerFunc {
	tokens := y.Tokens()
	return func(w http.ResponseWriter, req *http.Request) {
		r := &request{Request: req, account: req.PathValue("account"), region: req.PathValue("region"),
			secrets: &tosca.Secrets{}}
		defer brokenDown(w)
		if !strings.HasPrefix(req.URL.Path, "/operator/") && (!slices.Contains(y.accounts, r.account) || !slices.Contains(Regions, r.region)) {
			fail(w, &cloud.Problem{Type: "unknown-target", Title: "unknown target", Status: http.StatusNotFound,
				Detail: fmt.Sprintf("there is no %s/%s", r.account, r.region),
				Fix: "accounts are " + strings.Join(y.accounts[:min(len(y.accounts), 6)], ", ") + "; regions are " + strings.Join(Regions,
					", ")}, nil)
			return
		}
		if strings.HasPrefix(req.URL.Path, "/operator/") {
			r.account = "operator"
		}
		problem := y.enter(r, tokens)
		if problem == nil {
			problem = r.reaches()
		}
		if problem != nil {
			fail(w, problem, nil)
			return
		}
		h(w, r)
	}
}

// brokenDown answers for a handler that panicked: this is a defect, and asking
// again does not help.
func brokenDown(w http.ResponseWriter) {
	switch broken := recover(); broken {
	case nil:
	case http.ErrAbortHandler:
		panic(broken)
	default:
		fail(w, &cloud.Problem{Type: "internal", Title: "the yard broke down", Status: http.StatusInternalServerError,
			Detail: fmt.Sprintf("the stand-in cloud broke down: %v", broken),
			Fix:    "this is a defect of the stand-in; please report it"}, nil)
	}
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body) // the connection may be gone; nobody to tell
}

// fail answers with a problem, without the secrets of the request.
func fail(w http.ResponseWriter, err error, secrets *tosca.Secrets) {
	var p *cloud.Problem
	if !errors.As(err, &p) {
		p = &cloud.Problem{Type: "internal", Title: "the yard failed", Status: http.StatusInternalServerError,
			Detail: err.Error()}
	}
	with := *p
	with.Detail, with.Fix = secrets.Hide(p.Detail), secrets.Hide(p.Fix)
	p = &with
	if p.Passing {
		w.Header().Set("Retry-After", strconv.FormatInt((p.RetryAfterMS+999)/1000, 10))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

func refuse(status int, kind, fix, format string, args ...any) *cloud.Problem {
	return &cloud.Problem{Type: kind, Title: strings.ReplaceAll(kind, "-", " "), Status: status,
		Detail: fmt.Sprintf(format, args...), Fix: fix}
}

// body reads the body of a request that changes something, and its key.
func (r *request) body(out any) (key string, err error) {
	key = r.Header.Get("Idempotency-Key")
	if key == "" || len(key) > 200 {
		return "", refuse(http.StatusBadRequest, "missing-key", "send a fresh one for each thing to do",
			"the header Idempotency-Key is missing or too long")
	}
	if out == nil {
		return key, nil
	}
	d := json.NewDecoder(io.LimitReader(r.Body, maxBody))
	d.UseNumber()
	d.DisallowUnknownFields()
	if err := d.Decode(out); err != nil {
		return "", refuse(http.StatusBadRequest, "bad-request", "", "the body cannot be read: %v", err)
	}
	return key, nil
}

// list lists a page of what is in a place: what comes after the number after,
// up to the number until where there is one. The first page says after which
// numbers the others begin, so that they can be asked for at once.
func (y *Yard) list(ctx context.Context, r *request) (int, any, error) {
	const size = 200
	page := struct {
		Items  []cloud.Resource `json:"items"`
		Next   string           `json:"next"`
		Starts []string         `json:"starts"`
		// Clusters are those whose own interface is to be asked for what is inside them.
		Clusters []string `json:"clusters,omitempty"`
	}{Items: []cloud.Resource{}, Starts: []string{}}
	q := r.URL.Query()
	after, _ := strconv.ParseInt(q.Get("after"), 10, 64)
	until, err := strconv.ParseInt(q.Get("until"), 10, 64)
	if err != nil {
		until = math.MaxInt64
	}
	const where = `where account = ? and region = ? and seq > ? and seq <= ? and (? = '' or stack = ?) and inside = ?`
	args := []any{r.account, r.region, after, until, q.Get("stack"), q.Get("stack"), r.cluster}
	err = y.look(ctx, func(t *tx) error {
		if after == 0 && r.cluster == "" {
			var err error
			if page.Clusters, err = t.clusters(ctx, r); err != nil {
				return err
			}
		}
		rows, err := t.resources(ctx, where+` order by seq limit ?`, append(args, size)...)
		for _, row := range rows {
			page.Items = append(page.Items, row.wire())
			page.Next = strconv.FormatInt(row.seq, 10)
		}
		if len(rows) < size {
			page.Next = ""
		}
		if err != nil || after > 0 || page.Next == "" {
			return err
		}
		starts, err := t.QueryContext(ctx,
			`select seq from (select seq, row_number() over (order by seq) as place from resources `+where+
				`) as t where place % ? = 0 order by seq`, append(args, size)...)
		if err != nil {
			return err
		}
		defer starts.Close()
		for starts.Next() {
			var seq int64
			if err := starts.Scan(&seq); err != nil {
				return err
			}
			page.Starts = append(page.Starts, strconv.FormatInt(seq, 10))
		}
		return starts.Err()
	})
	return http.StatusOK, page, err
}

func (y *Yard) get(ctx context.Context, r *request) (int, any, error) {
	var out cloud.Resource
	err := y.look(ctx, func(t *tx) error {
		row, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
		if err == nil {
			out = row.wire()
		}
		return err
	})
	return http.StatusOK, out, err
}

func (y *Yard) operation(ctx context.Context, r *request) (int, any, error) {
	var out cloud.Operation
	working := false
	err := y.look(ctx, func(t *tx) error {
		o, err := t.operation(ctx, `id = ? and account = ?`, r.PathValue("id"), r.account)
		if err == nil && o == nil {
			err = cloud.NotFound("operation " + r.PathValue("id"))
		}
		if err == nil {
			out, working = o.wire(t.now), o.end == never
		}
		return err
	})
	if working { // perhaps nobody is at it any more
		y.runner.wake()
	}
	return http.StatusOK, out, err
}

// Listed is a resource in the listing of everything, free of what changes by
// itself.
type Listed struct {
	ID         string            `json:"id"`
	Type       string            `json:"type"`
	Account    string            `json:"account"`
	Region     string            `json:"region"`
	Stack      string            `json:"stack"`
	Node       string            `json:"node"`
	Properties map[string]any    `json:"properties"`
	Attributes map[string]any    `json:"attributes"`
	Tags       map[string]string `json:"tags"`
}

// everything lists the resources of all accounts, sorted by place, stack,
// node and id.
func (y *Yard) everything(ctx context.Context, r *request) (int, any, error) {
	out := []Listed{}
	err := y.look(ctx, func(t *tx) error {
		name := r.URL.Query().Get("stack")
		rows, err := t.resources(ctx, `where (? = '' or stack = ?) order by account, region, stack, node, id`, name,
			name)
		for _, row := range rows {
			attributes := row.attributes
			maps.DeleteFunc(attributes, func(name string, _ any) bool { // what tells of its last run
				d := y.lib.Nodes[row.typ].Attribute(name)
				return d != nil && d.Metadata["log"] == "true"
			})
			for name := range attributes { // what lets one in is only for who asks for the resource itself
				if slices.Contains(row.secretAttributes, name) || y.secretAttribute(row.typ, name) {
					attributes[name] = tosca.SecretText
				}
			}
			out = append(out, Listed{row.id, row.typ, row.account, row.region, row.stack, row.node, row.shown,
				attributes, row.shownTags})
		}
		return err
	})
	return http.StatusOK, out, err
}

// Fault makes the yard fail on purpose.
type Fault struct {
	ID     int64  `json:"id"`
	Name   string `json:"name"`   // of a node or of one resource; empty is any
	Type   string `json:"type"`   // empty is any
	On     string `json:"on"`     // create, update, delete; empty is create and update
	At     string `json:"at"`     // the step; empty is the first, "last" the last, "call" refuses at once
	Mode   string `json:"mode"`   // fail, busy (a passing error), lose (the answer is lost after the work is begun); of agents silent, slow, endless, unheard
	Reason string `json:"reason"` // the cloud's words
	Times  int    `json:"times"`  // how often; 0 is until cleared
}

func (y *Yard) listFaults(ctx context.Context, _ *request) (int, any, error) {
	var out []Fault
	err := y.look(ctx, func(t *tx) (err error) {
		out, err = t.faults(ctx)
		return err
	})
	return http.StatusOK, append([]Fault{}, out...), err
}

func (y *Yard) addFault(ctx context.Context, r *request) (int, any, error) {
	var f Fault
	d := json.NewDecoder(io.LimitReader(r.Body, maxBody))
	if err := d.Decode(&f); err != nil {
		return 0, nil, refuse(http.StatusBadRequest, "bad-request", "", "the fault cannot be read: %v", err)
	}
	if f.Mode == "" {
		f.Mode = "fail"
	}
	switch {
	case f.Type != "" && y.lib.Nodes[f.Type] == nil:
		return 0, nil, refuse(http.StatusUnprocessableEntity, "unknown-type", "", "there is no type %s", f.Type)
	case !slices.Contains([]string{"", "create", "update", "delete", "drain", "refill", "backup", "restore", "restart", "suspend", "resume"}, f.On):
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "use create, update, delete, drain, refill, backup, restore, restart, suspend or resume",
			"a fault cannot be on '%s'", f.On)
	case !slices.Contains(append([]string{"fail", "busy", "lose"}, agentFaults...), f.Mode):
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "use fail, busy, lose, or of an agent silent, slow, endless or unheard",
			"there is no mode '%s'", f.Mode)
	case f.Reason == "":
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "say the reason, as the cloud would",
			"a fault needs a reason")
	}
	left := f.Times
	if left <= 0 {
		left = -1
	}
	err := y.inTx(ctx, func(t *tx) error {
		reason, err := y.seal(f.Reason)
		if err != nil {
			return err
		}
		res, err := t.ExecContext(ctx,
			`insert into faults(name, type, on_kind, at, mode, reason, times_left) values(?, ?, ?, ?, ?, ?, ?)`,
			f.Name, f.Type, f.On, f.At, f.Mode, reason, left)
		if err == nil {
			f.ID, err = res.LastInsertId()
		}
		return err
	})
	return http.StatusCreated, f, err
}

func (y *Yard) clearFaults(ctx context.Context, _ *request) (int, any, error) {
	err := y.inTx(ctx, func(t *tx) error {
		_, err := t.ExecContext(ctx, `delete from faults`)
		return err
	})
	return http.StatusOK, []Fault{}, err
}
