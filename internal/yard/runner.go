package yard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/cloud"
	"brickrow/internal/printed"
	"brickrow/internal/sqlite"
	"brickrow/internal/tosca"
	"brickrow/internal/yard/agent"
)

const (
	// atTheSameTime is how many scripts one process carries out at a time.
	atTheSameTime = 48
	// lease is how long a script belongs to a process that says nothing of it, and beat how
	// often it does.
	lease = 5 * time.Second
	beat  = 500 * time.Millisecond
	// grace is how long one that closes the yard waits for the scripts that run.
	grace = 2 * time.Second
	// shortestReal is the least time that a script has, however fast the yard is.
	shortestReal = 10 * time.Second
	// agentSlowMS and unheardMS are how long the faults of agents last, at nominal speed.
	agentSlowMS = 20_000
	unheardMS   = 8_000
)

// runner carries out the scripts in the queues of the servers, as long as there are any.
type runner struct {
	y    *Yard
	name string // of this process, for others
	crew *agent.Crew
	ctx  context.Context
	end  context.CancelFunc
	wg   sync.WaitGroup

	mu      sync.Mutex
	on      bool
	kick    chan struct{}
	mine    int // scripts under way
	closing bool
}

func newRunner(y *Yard) *runner {
	r := &runner{y: y, name: uuid.NewString(), crew: agent.NewCrew(), kick: make(chan struct{}, 1)}
	r.ctx, r.end = context.WithCancel(context.Background())
	return r
}

// wake says that there may be something to do.
func (r *runner) wake() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.on && !r.closing {
		r.on = true
		r.wg.Add(1)
		go r.loop()
	}
}

// close lets what runs come to its end, for a moment; what does not goes back into its queue as
// if it had never begun.
func (r *runner) close() {
	r.mu.Lock()
	r.closing = true
	r.mu.Unlock()
	select {
	case r.kick <- struct{}{}:
	default:
	}
	late := time.AfterFunc(grace, r.end)
	r.wg.Wait()
	late.Stop()
	r.end()
	r.crew.Close()
}

func (r *runner) loop() {
	defer r.wg.Done()
	for {
		r.mu.Lock()
		free, closing := atTheSameTime-r.mine, r.closing
		r.mu.Unlock()
		if closing {
			return
		}
		list, open, err := r.claim(free)
		for _, s := range list {
			r.mu.Lock()
			r.mine++
			r.mu.Unlock()
			r.wg.Add(1)
			go func() {
				defer r.wg.Done()
				r.carry(s)
				r.mu.Lock()
				r.mine--
				r.mu.Unlock()
				select {
				case r.kick <- struct{}{}:
				default:
				}
			}()
		}
		if err == nil && open == 0 {
			r.mu.Lock()
			if len(r.kick) == 0 {
				r.on = false
				r.mu.Unlock()
				return
			}
			r.mu.Unlock()
		}
		select {
		case <-r.kick:
		case <-time.After(200 * time.Millisecond):
		case <-r.ctx.Done():
			return
		}
	}
}

// claimed is a script that this process carries out.
type claimed struct {
	*script
	assignment
	heard   bool // it was carried out before, and only its answer was lost
	files   agent.Files
	secrets *tosca.Secrets
}

// claim takes scripts whose turn it is, and says how many are open at all.
func (r *runner) claim(most int) (out []*claimed, open int, err error) {
	now := time.Now().UnixMilli()
	late := now - lease.Milliseconds()
	ctx := r.ctx
	if err := r.y.db.View(ctx, func(s *sqlite.Snapshot) error {
		return s.QueryRowContext(ctx, `select count(*) from scripts where state in ('waiting', 'running', 'unheard')`).Scan(&open)
	}); err != nil || open == 0 || most <= 0 {
		return nil, open, err
	}
	err = r.y.inTx(ctx, func(t *tx) error {
		out = nil
		list, err := t.scripts(ctx, `as s where (state = 'waiting' or state in ('running', 'unheard') and claim_ms < ?) and not exists
			(select 1 from scripts as e where e.server_id = s.server_id and e.member = s.member and e.number < s.number and
			e.state in ('waiting', 'running', 'unheard')) order by number limit ?`, late, most)
		if err != nil {
			return err
		}
		for _, s := range list {
			c := &claimed{script: s, heard: s.state == "unheard"}
			if !c.heard {
				if c.secrets, err = t.scriptSecrets(ctx, s); err != nil {
					return err
				}
				if c.files, _, err = t.disk(ctx, s.server, s.member); err != nil {
					return err
				}
				var sealed string
				if err := t.QueryRowContext(ctx, `select request from scripts where number = ?`, s.number).Scan(&sealed); err != nil {
					return err
				}
				if err := t.y.unseal(sealed, &c.assignment); err != nil {
					return err
				}
				var before int64
				if err := t.QueryRowContext(ctx, `select coalesce(sum(took_ms), 0) from scripts where op_id = ? and software_id = ? and member = ?`,
					s.opID, s.software, s.member).Scan(&before); err != nil {
					return err
				}
				c.TimeMS = max(1, c.TimeMS-before)
			}
			if _, err := t.ExecContext(ctx, `update scripts set state = case when state = 'unheard' then state else 'running' end, claim = ?, claim_ms = ?,
				begun_ms = case when begun_ms = 0 then ? else begun_ms end where number = ?`, r.name, now, t.now, s.number); err != nil {
				return err
			}
			out = append(out, c)
		}
		return nil
	})
	return out, open, err
}

// scriptSecrets are the secrets that a script may come to know.
func (t *tx) scriptSecrets(ctx context.Context, s *script) (*tosca.Secrets, error) {
	out := &tosca.Secrets{}
	rows, err := t.resources(ctx, `where id in (?, ?)`, s.software, s.server)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		out.Add(r.hiddenValues()...)
	}
	o, err := t.operation(ctx, `id = ? and settled = 0`, s.opID)
	if err == nil && o != nil {
		for k, v := range o.outcome.Properties {
			out.Add(cloud.HideAt(tosca.FromJSON(plain(v)), tosca.Pointer("properties", k), o.outcome.Places))
		}
	}
	return out, err
}

// carry carries out a script and writes what became of it. One that another process has taken
// over meanwhile is theirs.
func (r *runner) carry(c *claimed) {
	ctx, end := context.WithCancel(r.ctx)
	defer end()
	if c.heard {
		r.hear(ctx, c)
		return
	}
	stdout, stderr := printed.New(c.secrets), printed.New(c.secrets)
	done := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() {
		tick := time.NewTicker(beat)
		defer tick.Stop()
		var last string
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			so := told{Output: stdout.SoFar(), Errors: stderr.SoFar()}
			if c.Stdin != "" {
				so.Output = "" // an adapter's answer is no text
			}
			now := so.Output + "\x00" + so.Errors
			mine, err := r.stillMine(ctx, c.script, so, now != last)
			if last = now; err == nil && !mine {
				end()
				return
			}
		}
	})
	answer, err := r.perform(ctx, c, stdout, stderr)
	close(done)
	watching.Wait()
	switch {
	case ctx.Err() != nil: // it was not carried out, as nothing of it is kept
		r.giveBack(c.script)
		return
	case err != nil:
		answer = agent.Answer{Exit: 126, Problem: "the agent could not carry it out: " + err.Error()}
	}
	c.exit, c.took = answer.Exit, max(0, answer.TookMS)
	c.told = told{Output: stdout.All(), Errors: stderr.All(), Results: map[string]string{}, Problem: c.secrets.Hide(answer.Problem)}
	for k, v := range answer.Results {
		c.told.Results[c.secrets.Hide(k)] = c.secrets.Hide(v)
	}
	if c.Stdin != "" && answer.Exit == 0 && answer.Problem == "" {
		c.adapted(stdout)
	}
	c.state = "done"
	if c.exit != 0 || c.told.Problem != "" {
		c.state = "failed"
	}
	r.settle(c, answer.Files)
}

// perform lets the agent of the server carry the script out, in the way of the fault that it
// meets.
func (r *runner) perform(ctx context.Context, c *claimed, stdout, stderr *printed.Text) (agent.Answer, error) {
	nominal := func(ms int64) time.Duration {
		return time.Duration(float64(ms) / r.y.speed * float64(time.Millisecond))
	}
	wait := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	limit := time.Duration(c.TimeMS) * time.Millisecond
	switch {
	case c.Fails != "":
		return agent.Answer{Exit: 1, Problem: c.Fails}, nil
	case c.Mode == "silent":
		wait(nominal(c.TimeMS))
		return agent.Answer{Exit: 124, Problem: fmt.Sprintf("the agent of %s did not answer for %s", c.on(), limit)}, nil
	case c.Mode == "slow":
		wait(nominal(agentSlowMS))
	case c.Mode == "endless":
		c.Script = "while :; do sleep 1; done"
	}
	q := &agent.Request{Server: c.Environ["BRICKROW_SERVER"], Script: c.Script, Name: c.operation, Environ: c.Environ, Stdin: c.Stdin, Beside: c.assignment.Files,
		Files: c.files, Speed: r.y.speed, Limits: agent.Usual}
	q.Limits.Time, q.Limits.Real = limit, min(limit, max(shortestReal, nominal(c.TimeMS)))
	return r.crew.Run(ctx, q, stdout, stderr, func(ctx context.Context, a agent.Ask) (int, string, error) { return r.y.asked(ctx, c.script, a) })
}

// adapted reads what an adapter has printed: one JSON object.
func (c *claimed) adapted(stdout *printed.Text) {
	var out struct {
		Outputs  map[string]any `json:"outputs"`
		Changed  *bool          `json:"changed"`
		Messages []string       `json:"messages"`
	}
	d := json.NewDecoder(strings.NewReader(stdout.Raw()))
	d.UseNumber()
	d.DisallowUnknownFields()
	err := d.Decode(&out)
	if err == nil && d.More() {
		err = errors.New("something comes behind it")
	}
	if err != nil {
		c.exit, c.told.Problem = 1, c.secrets.Hide("the adapter did not print one JSON object with outputs, changed, messages: "+err.Error())
		return
	}
	c.told.Changed, c.told.Output = out.Changed, ""
	for k, v := range out.Outputs {
		c.told.Results[c.secrets.Hide(k)] = c.secrets.Hide(inText(v))
	}
	for _, m := range out.Messages {
		c.told.Messages = append(c.told.Messages, c.secrets.Hide(m))
		c.told.Output += c.secrets.Hide(m) + "\n"
	}
}

// stillMine says that this process carries a script out still, and what it has printed so far.
func (r *runner) stillMine(ctx context.Context, s *script, so told, write bool) (bool, error) {
	n := int64(0)
	err := r.y.db.Write(ctx, func(t *sqlite.Tx) error {
		sealed := ""
		if write {
			var err error
			if sealed, err = r.y.seal(so); err != nil {
				return err
			}
		}
		res, err := t.ExecContext(ctx, `update scripts set claim_ms = ?, told = case when ? = '' then told else ? end
			where number = ? and claim = ? and state = 'running'`, time.Now().UnixMilli(), sealed, sealed, s.number, r.name)
		if err == nil {
			n, err = res.RowsAffected()
		}
		return err
	})
	return n > 0, err
}

// giveBack puts a script back into its queue, as if it had never begun.
func (r *runner) giveBack(s *script) {
	ctx, end := context.WithTimeout(context.Background(), lease)
	defer end()
	_ = r.y.db.Write(ctx, func(t *sqlite.Tx) error { // otherwise its lease ends
		_, err := t.ExecContext(ctx, `update scripts set state = 'waiting', claim = '', begun_ms = 0, told = '{}' where number = ? and claim = ? and
			state = 'running'`, s.number, r.name)
		return err
	})
}

// settle writes what became of a script, and what it left on its server: all or nothing.
func (r *runner) settle(c *claimed, files agent.Files) {
	ctx, end := context.WithTimeout(context.Background(), 4*lease)
	defer end()
	_ = r.y.inTx(ctx, func(t *tx) error { // otherwise its lease ends, and it is carried out from where it began
		state := c.state
		if c.Mode == "unheard" {
			state = "unheard"
		}
		sealed, err := t.y.seal(c.told)
		if err != nil {
			return err
		}
		c.end = t.now
		res, err := t.ExecContext(ctx, `update scripts set state = ?, ended_ms = ?, took_ms = ?, exit_code = ?, told = ?, claim_ms = ?, request = '{}'
			where number = ? and claim = ? and state = 'running'`, state, t.now, c.took, c.exit, sealed,
			time.Now().UnixMilli()-lease.Milliseconds()+int64(unheardMS/t.y.speed), c.number, r.name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err // another has taken it over
		}
		if err := t.leave(ctx, c, files); err != nil || state == "unheard" {
			return err
		}
		return t.ended(ctx, c.script)
	})
}

// leave writes the files of a server as a script has left them.
func (t *tx) leave(ctx context.Context, c *claimed, files agent.Files) error {
	if files == nil {
		return nil
	}
	var there int
	if err := t.QueryRowContext(ctx, `select count(*) from resources where id = ?`, c.server).Scan(&there); err != nil || there == 0 {
		return err
	}
	sealed, err := t.y.seal(files)
	if err != nil {
		return err
	}
	listens := ""
	if list := files.Services(); len(list) > 0 {
		listens = encode(list)
	}
	_, err = t.ExecContext(ctx, `insert into disks(server_id, member, files, listens) values(?, ?, ?, ?) on conflict(server_id, member) do update set
		files = excluded.files, listens = case when excluded.listens = '' and disks.listens <> '' then '[]' else excluded.listens end`,
		c.server, c.member, sealed, listens)
	return err
}

// hear takes note of a script that was carried out before, and whose answer was lost: its agent
// has kept it, and carries nothing out twice.
func (r *runner) hear(ctx context.Context, c *claimed) {
	_ = r.y.inTx(ctx, func(t *tx) error {
		c.state = "done"
		if c.exit != 0 || c.told.Problem != "" {
			c.state = "failed"
		}
		res, err := t.ExecContext(ctx, `update scripts set state = ? where number = ? and claim = ? and state = 'unheard'`, c.state, c.number, r.name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return t.ended(ctx, c.script)
	})
}

// asked answers what a script asks of the addresses of this cloud.
func (y *Yard) asked(ctx context.Context, s *script, a agent.Ask) (int, string, error) {
	reply, err := y.reply(ctx, a.URL, "http", func(t *tx) (string, string, error) {
		rows, err := t.resources(ctx, `where id = ?`, s.server)
		if err != nil || len(rows) == 0 {
			return "", "", err
		}
		return rows[0].account, rows[0].inside(s.member), nil
	})
	if err != nil {
		var p *cloud.Problem
		if errors.As(err, &p) {
			err = errors.New(p.Detail)
		}
		return 0, "", err
	}
	if reply.Refused != "" {
		return 0, "", errors.New("no connection: " + reply.Refused)
	}
	return reply.Status, reply.Body, nil
}

// inside is the private address of a server, or of one of a group.
func (r *row) inside(member int) string {
	if list, _ := r.attributes["addresses"].([]any); member < len(list) {
		return fmt.Sprint(list[member])
	}
	text, _ := r.attributes["private_address"].(string)
	return text
}
