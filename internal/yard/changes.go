package yard

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// change is a creation or an update under way: what the rules of a type look
// at. Properties and links are those that will be. Like a request it carries its
// context.
type change struct {
	*tx
	ctx             context.Context
	account, region string
	kind            string
	typ             *tosca.NodeType
	id              string
	before          *row // nil for a creation
	properties      tosca.Map
	places          []string // where secrets stand, as JSON Pointers
	links           map[string][]string
	targets         map[string][]*row // the links' other ends
}

func (c *change) text(property string) string { return tosca.Show(c.properties[property]) }

func (c *change) number(property string) int64 {
	n, _ := c.properties[property].(tosca.Int)
	return int64(n)
}

// changed reports whether a property is given now and was not the same before.
func (c *change) changed(property string) bool {
	if c.before == nil {
		return true
	}
	was := cloud.ReadProperty(c.typ, property, tosca.FromJSON(c.before.properties[property]))
	return !tosca.Equal(was, c.properties[property])
}

func (y *Yard) create(ctx context.Context, r *request) (int, any, error) {
	var body cloud.Request
	key, err := r.body(&body)
	if err != nil {
		return 0, nil, err
	}
	r.hide(body)
	digest := y.digest([]any{"create", r.account, r.region, body})
	var out cloud.Operation
	err = y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.createNew(ctx, r, key, digest, body)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) createNew(ctx context.Context, r *request, key, digest string, body cloud.Request) (*op, error) {
	typ := t.y.lib.Nodes[body.Type]
	if typ == nil || behaviours[body.Type].attributes == nil {
		return nil, refuse(http.StatusUnprocessableEntity, "unknown-type", "", "there is no type %s in this cloud",
			body.Type)
	}
	if err := t.permitted(ctx, r.account, body.Type, cloud.VerbCreate); err != nil {
		return nil, err
	}
	inside, err := t.within(r, body)
	if err != nil {
		return nil, err
	}
	n, err := t.next(ctx, "resources")
	if err != nil {
		return nil, err
	}
	id := newID(body.Type, n)
	if inside != "" {
		id = inside + "/" + id
	}
	c := &change{tx: t, ctx: ctx, account: r.account, region: r.region, kind: "create", typ: typ,
		id: id, properties: tosca.Map{}, links: body.Links}
	if err := c.prepare(body); err != nil {
		return nil, err
	}
	if limit := behaviours[body.Type].quota; limit > 0 {
		var have int
		if err := t.QueryRowContext(ctx,
			`select count(*) from resources where account = ? and region = ? and type = ?`, r.account, r.region,
			body.Type).Scan(&have); err != nil {
			return nil, err
		}
		if have >= limit {
			return nil, refuse(http.StatusUnprocessableEntity, "quota",
				fmt.Sprintf("remove a %s that is not needed, or use another region", body.Type),
				"the quota of %d %s in %s/%s is used up", limit, body.Type, r.account, r.region)
		}
	}
	out, err := c.outcome(body.Tags)
	if err != nil {
		return nil, err
	}
	properties, attributes, tags, sealed, err := t.y.columns(out)
	if err != nil {
		return nil, err
	}
	if _, err := t.ExecContext(ctx,
		`insert into resources(id, seq, account, region, type, state, properties, attributes, tags, stack, node,
			unique_key, version, sealed, inside) values(?, ?, ?, ?, ?, 'creating', ?, ?, ?, ?, ?, ?, 1, ?, ?)`,
		c.id, n, r.account, r.region, body.Type, properties, attributes, tags, out.Tags["stack"], out.Tags["node"],
		t.y.uniqueKey(out.UniqueKey), sealed, inside); err != nil {
		return nil, err
	}
	if err := t.setLinks(ctx, c.id, c.links); err != nil {
		return nil, err
	}
	if t.y.holdsData(body.Type) {
		if err := t.setContents(ctx, c.id, body.Type, ""); err != nil {
			return nil, err
		}
	}
	o := &op{id: "op~" + c.id + "-1", key: key, digest: digest, resourceID: c.id, kind: "create", steps: c.steps()}
	if err := t.start(ctx, r, o, out.Tags["node"], body.Type); err != nil {
		return nil, c.undoInsert(err)
	}
	if err := t.handOver(ctx, o, c); err != nil {
		return nil, err
	}
	if err := t.by(ctx, r, c.id); err != nil {
		return nil, err
	}
	return o, t.noted(ctx, c.id, "")
}

// undoInsert takes back the row of a creation that a fault refused at once.
func (c *change) undoInsert(err error) error {
	var keep *keptProblem
	if !errors.As(err, &keep) {
		return err
	}
	if _, e := c.ExecContext(c.ctx, `delete from links where from_id = ?`, c.id); e != nil {
		return e
	}
	if _, e := c.ExecContext(c.ctx, `delete from resources where id = ?`, c.id); e != nil {
		return e
	}
	return err
}

func (y *Yard) update(ctx context.Context, r *request) (int, any, error) {
	var body cloud.Request
	key, err := r.body(&body)
	if err != nil {
		return 0, nil, err
	}
	r.hide(body)
	digest := y.digest([]any{"update", r.account, r.region, r.PathValue("id"), body})
	var out cloud.Operation
	err = y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.updateNow(ctx, r, key, digest, body)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) updateNow(ctx context.Context, r *request, key, digest string, body cloud.Request) (*op, error) {
	was, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
	if err != nil {
		return nil, err
	}
	if err := t.permitted(ctx, r.account, was.typ, cloud.VerbChange); err != nil {
		return nil, err
	}
	if err := t.idle(ctx, was); err != nil {
		return nil, err
	}
	if tag := r.Header.Get("If-Match"); tag != "" && tag != was.wire().ETag {
		return nil, refuse(http.StatusPreconditionFailed, "changed-meanwhile", "look at it again, then decide",
			"%s was changed meanwhile", was.id)
	}
	c := &change{tx: t, ctx: ctx, account: r.account, region: r.region, kind: "update", typ: t.y.lib.Nodes[was.typ],
		id: was.id, before: was, properties: tosca.Map{}, links: map[string][]string{}}
	for k, v := range was.properties {
		c.properties[k] = cloud.ReadProperty(c.typ, k, tosca.FromJSON(v))
	}
	for k, v := range was.links {
		c.links[k] = v
	}
	for k, v := range body.Links {
		c.links[k] = v
	}
	for _, p := range was.places {
		if !cloud.Below(p, "/tags") || body.Tags == nil {
			c.places = append(c.places, p)
		}
	}
	r.secrets.Add(was.hiddenValues()...)
	if err := c.prepare(body); err != nil {
		return nil, err
	}
	if err := c.inPlace(); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(c.typ.Properties, func(d *tosca.Property) bool { return d.Metadata["restarts"] == "true" && c.changed(d.Name) }) {
		if err := t.cutOff(ctx, was); err != nil {
			return nil, err
		}
	}
	tags := was.tags
	if body.Tags != nil {
		tags = body.Tags
	}
	out, err := c.outcome(tags)
	if err != nil {
		return nil, err
	}
	out.Rests = was.state == suspended
	n, err := t.next(ctx, "operations")
	if err != nil {
		return nil, err
	}
	steps, err := c.hosted(c.steps())
	if err != nil {
		return nil, err
	}
	o := &op{id: fmt.Sprintf("op~%s-u%d", was.id, n), key: key, digest: digest, resourceID: was.id, kind: "update",
		steps: steps, outcome: out}
	if err := t.start(ctx, r, o, was.node, was.typ); err != nil {
		return nil, err
	}
	if err := t.handOver(ctx, o, c); err != nil {
		return nil, err
	}
	if _, err := t.ExecContext(ctx, `update resources set state = 'updating', version = version + 1 where id = ?`, was.id); err != nil {
		return nil, err
	}
	if err := t.by(ctx, r, was.id); err != nil {
		return nil, err
	}
	return o, t.noted(ctx, was.id, "")
}

// idle refuses while another operation on the resource is under way.
func (t *tx) idle(ctx context.Context, r *row) error {
	o, err := t.operation(ctx, `resource_id = ? and settled = 0`, r.id)
	if err != nil || o == nil {
		return err
	}
	p := refuse(http.StatusConflict, "operation-under-way", "", "another operation on %s is under way (%s)", r.id,
		o.kind)
	p.Passing, p.RetryAfterMS = true, max(1, min(o.end-t.now, o.wire(t.now).NextMS+1000))
	return p
}

func (y *Yard) remove(ctx context.Context, r *request) (int, any, error) {
	key, err := r.body(nil)
	if err != nil {
		return 0, nil, err
	}
	id := r.PathValue("id")
	digest := y.digest([]any{"delete", r.account, r.region, id})
	var out cloud.Operation
	err = y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.removeNow(ctx, r, key, digest)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) removeNow(ctx context.Context, r *request, key, digest string) (*op, error) {
	was, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
	if err != nil {
		return nil, err
	}
	if err := t.permitted(ctx, r.account, was.typ, cloud.VerbRemove); err != nil {
		return nil, err
	}
	if err := t.idle(ctx, was); err != nil {
		return nil, err
	}
	users, err := t.users(ctx, was)
	if err != nil {
		return nil, err
	}
	if len(users) > 0 {
		var words []string
		for _, u := range users {
			w := u.id
			if u.stack != "" {
				w = fmt.Sprintf("%s of %s (%s)", u.node, u.stack, u.id)
			}
			words = append(words, w)
		}
		return nil, refuse(http.StatusConflict, "in-use", "remove what uses it first", "%s is in use by %s", was.id,
			strings.Join(words, ", "))
	}
	if err := t.emptyOf(ctx, was); err != nil {
		return nil, err
	}
	if err := t.cutOff(ctx, was); err != nil {
		return nil, err
	}
	n, err := t.next(ctx, "operations")
	if err != nil {
		return nil, err
	}
	takes := nominal(t.y.lib.Nodes[was.typ])
	o := &op{id: fmt.Sprintf("op~%s-d%d", was.id, n), key: key, digest: digest, resourceID: was.id, kind: "delete",
		steps: []step{{Name: "removing", MS: max(600, takes*2/5)}}}
	if was.typ == "Software" {
		scripts, err := t.removingSoftware(ctx, was)
		if err != nil {
			return nil, err
		}
		o.steps = append(scripts, o.steps...)
	}
	if err := t.start(ctx, r, o, was.node, was.typ); err != nil {
		return nil, err
	}
	if _, err := t.ExecContext(ctx, `update resources set state = 'deleting', version = version + 1 where id = ?`, was.id); err != nil {
		return nil, err
	}
	return o, t.noted(ctx, was.id, "")
}

// users are those that stand in the way of a removal. What runs on a server and belongs to the same
// stack goes with it.
func (t *tx) users(ctx context.Context, r *row) ([]*row, error) {
	if len(r.usedBy) == 0 {
		return nil, nil
	}
	return t.resources(ctx, `where id in (select from_id from links where to_id = ?) and not (type = 'Software' and stack <> '' and stack = ?
		and state in ('ready', 'failed')) order by id`, r.id, r.stack)
}

// prepare merges the given properties in and holds everything against the
// type and its rules.
func (c *change) prepare(body cloud.Request) error {
	if err := c.merge(body); err != nil {
		return err
	}
	for _, d := range c.typ.Properties {
		if _, has := c.properties[d.Name]; has || d.Name == "tags" {
			continue
		}
		if d.Default != nil {
			c.properties[d.Name] = (&tosca.Env{Index: -1, Findings: new(tosca.Findings)}).
				EvalAs(d.Default, d.Type, d.Name)
		} else if d.Required {
			return refuse(http.StatusUnprocessableEntity, "missing-property", "", "%s needs the property %s",
				c.typ.Name, d.Name)
		}
	}
	if err := c.resolveLinks(); err != nil {
		return err
	}
	if check := behaviours[c.typ.Name].check; check != nil {
		if p := check(c); p != nil {
			return p
		}
	}
	return nil
}

func (c *change) merge(body cloud.Request) error {
	for _, p := range body.Secrets {
		if cloud.Below(p, "/tags") {
			c.places = append(c.places, p)
		}
	}
	for name, v := range body.Properties {
		d := c.typ.Property(name)
		at := tosca.Pointer("properties", name)
		c.places = slices.DeleteFunc(c.places, func(p string) bool { return cloud.Below(p, at) })
		switch {
		case d == nil || name == "tags":
			return refuse(http.StatusUnprocessableEntity, "unknown-property", "", "%s has no property %s", c.typ.Name,
				name)
		case v == nil:
			delete(c.properties, name)
			continue
		}
		var findings tosca.Findings
		value := d.Type.Fit(cloud.HideAt(tosca.FromJSON(v), at, body.Secrets), tosca.Pos{}, name, &findings)
		tosca.Validate(d.Validation, value, d.Type, tosca.Pos{}, name, &findings)
		if len(findings) > 0 {
			return refuse(http.StatusUnprocessableEntity, findings[0].Code, findings[0].Fix, "%s", findings[0].Message)
		}
		c.places = append(c.places, cloud.SecretPlaces(at, value)...)
		c.properties[name], _ = tosca.Bare(value)
	}
	return nil
}

// hide remembers the secrets of a request, so that no answer repeats them.
func (r *request) hide(body cloud.Request) {
	for k, v := range body.Properties {
		r.secrets.Add(cloud.HideAt(tosca.FromJSON(v), tosca.Pointer("properties", k), body.Secrets))
	}
	for k, v := range body.Tags {
		r.secrets.Add(hideTag(k, v, body.Secrets))
	}
}

// resolveLinks finds the other ends of the links and checks their types.
func (c *change) resolveLinks() error {
	c.targets = map[string][]*row{}
	for name, ids := range c.links {
		d := c.typ.Requirement(name)
		if d == nil {
			return refuse(http.StatusUnprocessableEntity, "unknown-requirement", "", "%s has no requirement %s",
				c.typ.Name, name)
		}
		if d.High >= 0 && len(ids) > d.High {
			return refuse(http.StatusUnprocessableEntity, "too-many-links", "", "%s takes at most %d of %s",
				c.typ.Name, d.High, name)
		}
		for _, id := range ids {
			target, err := c.find(c.ctx, c.account, c.region, id)
			if cloud.IsNotFound(err) {
				return refuse(http.StatusUnprocessableEntity, "no-such-resource", "", "%s: there is no %s in %s/%s",
					name, id, c.account, c.region)
			}
			if err != nil {
				return err
			}
			if !c.y.lib.IsA(target.typ, d.Node) {
				return refuse(http.StatusUnprocessableEntity, "wrong-target", "", "%s wants a %s; %s is a %s", name,
					d.Node, id, target.typ)
			}
			if target.state == "failed" || target.state == "creating" || target.state == "deleting" {
				return refuse(http.StatusConflict, "not-ready", "", "%s is not ready (%s)", id, target.state)
			}
			c.targets[name] = append(c.targets[name], target)
		}
	}
	for _, d := range c.typ.Requirements {
		if len(c.links[d.Name]) < d.Low {
			return refuse(http.StatusUnprocessableEntity, "missing-link", "", "%s needs a %s", c.typ.Name, d.Name)
		}
	}
	return nil
}

// inPlace refuses changes that need a new resource.
func (c *change) inPlace() error {
	for _, d := range c.typ.Properties {
		was := cloud.ReadProperty(c.typ, d.Name, tosca.FromJSON(c.before.properties[d.Name]))
		if stack.SwapNeeded(d.Metadata, was, c.properties[d.Name]) {
			return refuse(http.StatusUnprocessableEntity, "cannot-change", "replace the resource",
				"the property %s of %s cannot be changed from %s to %s", d.Name, c.id, tosca.Show(was),
				tosca.Show(c.properties[d.Name]))
		}
	}
	for _, d := range c.typ.Requirements {
		if stack.Swaps(d.Metadata) && !slices.Equal(c.before.links[d.Name], c.links[d.Name]) {
			return refuse(http.StatusUnprocessableEntity, "cannot-change", "replace the resource",
				"what %s of %s rests on cannot be changed", d.Name, c.id)
		}
	}
	return nil
}

// outcome is the resource as the change leaves it.
func (c *change) outcome(tags map[string]string) (outcome, error) {
	b := behaviours[c.typ.Name]
	out := outcome{Properties: map[string]any{}, Attributes: map[string]any{}, Tags: tags, Links: c.links,
		Places: c.places}
	if out.Tags == nil {
		out.Tags = map[string]string{}
	}
	for k, v := range c.properties {
		out.Properties[k] = tosca.Reveal(v)
	}
	if c.before != nil {
		for k, v := range c.before.attributes {
			out.Attributes[k] = v
		}
	}
	made, err := b.attributes(c)
	if err != nil {
		return out, err
	}
	for k, v := range made {
		out.Attributes[k] = v
	}
	secrets := c.secrets(tags)
	for k, v := range out.Attributes {
		if c.y.secretAttribute(c.typ.Name, k) || tosca.HasSecret(secrets.Mark(tosca.FromJSON(plain(v)))) {
			out.SecretAttributes = append(out.SecretAttributes, k)
		}
	}
	slices.Sort(out.SecretAttributes)
	if b.unique != nil {
		out.UniqueKey = b.unique(c)
		holder, _, err := c.holder(c.ctx, out.UniqueKey, c.id)
		if err != nil {
			return out, err
		}
		if holder != "" {
			return out, refuse(http.StatusConflict, "name-taken", "choose another name", "the name %s is taken",
				strings.TrimPrefix(out.UniqueKey, c.typ.Name+"/"))
		}
	}
	return out, nil
}

// secrets are those of the resource as it will be, and of what it rests on.
func (c *change) secrets(tags map[string]string) *tosca.Secrets {
	s := &tosca.Secrets{}
	for k, v := range c.properties {
		s.Add(cloud.HideAt(v, tosca.Pointer("properties", k), c.places))
	}
	for k, v := range tags {
		s.Add(hideTag(k, v, c.places))
	}
	if c.before != nil {
		s.Add(c.before.hiddenValues()...)
	}
	for _, rows := range c.targets {
		for _, r := range rows {
			s.Add(r.hiddenValues()...)
		}
	}
	return s
}

// nominal is how long a type takes at speed 1, in milliseconds.
func nominal(t *tosca.NodeType) int64 { return int64(stack.NominalSeconds(t, nil) * 1000) }
