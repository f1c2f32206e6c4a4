package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"brickrow/internal/cloud"
	"brickrow/internal/ways"
)

// values are the properties of a request as encoding/json decodes them.
func values(r cloud.Request) map[string]any {
	out := map[string]any{}
	for name, v := range r.Properties {
		if _, ok := v.(ways.Verbatim); ok {
			out[name] = v
			continue
		}
		text, err := json.Marshal(v)
		var x any
		if err == nil && json.Unmarshal(text, &x) == nil {
			out[name] = x
		}
	}
	return out
}

func text(v any) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}

func link(r cloud.Request, requirement string) string {
	if ids := r.Links[requirement]; len(ids) > 0 {
		return ids[0]
	}
	return ""
}

// sameTime reports whether two texts are one moment.
func sameTime(a, b string) bool {
	parse := func(s string) (time.Time, bool) {
		for _, form := range []string{"2006-01-02 15:04:05Z07", "2006-01-02 15:04:05Z07:00", "2006-01-02T15:04:05Z07:00", "2006-01-02 15:04:05", "2006-01-02 15:04Z07:00", "2006-01-02"} {
			if t, err := time.Parse(form, s); err == nil {
				return t, true
			}
		}
		return time.Time{}, false
	}
	x, ok1 := parse(a)
	y, ok2 := parse(b)
	return a == b || ok1 && ok2 && x.Equal(y)
}

// nameOf is the name of an object of a kind of catalogue, by its number.
func (s *server) nameOf(ctx context.Context, typ, of string) (string, error) {
	n := numbers(typ, of)
	if n == nil {
		return "", refused("wrong-target", "", "%s is no %s of this server", of, typ)
	}
	query := map[string]string{Role: `select rolname from pg_roles where oid = $1`, Database: `select datname from pg_database where oid = $1`,
		Schema: `select nspname from pg_namespace where oid = $1`, Extension: `select extname from pg_extension where oid = $1`}[typ]
	database := ""
	if len(n) > 1 {
		var err error
		if database, err = s.databaseName(ctx, n[0]); err != nil {
			return "", err
		}
	}
	var called string
	err := s.in(ctx, database, func(c *pgx.Conn) error {
		err := c.QueryRow(ctx, query, n[len(n)-1]).Scan(&called)
		if err == pgx.ErrNoRows {
			return notThere(of)
		}
		return err
	})
	return called, err
}

// Find is the object that a request is about, by its name.
func (s *server) Find(ctx context.Context, r cloud.Request) (string, error) {
	v := values(r)
	query, database, kind := "", "", []uint32{}
	switch r.Type {
	case Role:
		query = `select oid from pg_roles where rolname = $1`
	case Database:
		query = `select oid from pg_database where datname = $1`
	case Schema, Extension:
		query = map[string]string{Schema: `select oid from pg_namespace where nspname = $1`, Extension: `select oid from pg_extension where extname = $1`}[r.Type]
		in := link(r, "database")
		var err error
		if database, err = s.nameOf(ctx, Database, in); err != nil {
			return "", err
		}
		kind = numbers(Database, in)
	case Grant:
		of, err := grantID(link(r, "on"), link(r, "to"))
		if err != nil {
			return "", err
		}
		_, err = s.Object(ctx, Grant, of, ways.Known{})
		return of, err
	}
	var n uint32
	err := s.in(ctx, database, func(c *pgx.Conn) error {
		err := c.QueryRow(ctx, query, text(v["name"])).Scan(&n)
		if err == pgx.ErrNoRows {
			return notThere(text(v["name"]))
		}
		return err
	})
	return id(r.Type, append(kind, n)...), err
}

// grantID is the id of what a role may do with something.
func grantID(on, to string) (string, error) {
	role := numbers(Role, to)
	if role == nil {
		return "", refused("wrong-target", "", "%s is no role of this server", to)
	}
	for _, typ := range []string{Database, Schema} {
		if n := numbers(typ, on); n != nil {
			return id(Grant, append(n, role...)...), nil
		}
	}
	return "", refused("wrong-target", "let on lead to a PostgresDatabase or a PostgresSchema", "nothing can be granted on %s", on)
}

// Create makes an object.
func (s *server) Create(ctx context.Context, r cloud.Request, again bool) (string, error) {
	v := values(r)
	called := text(v["name"])
	there, err := s.Find(ctx, r)
	switch {
	case err == nil && !again:
		what := strings.TrimPrefix(r.Type, "Postgres")
		fix := "choose another name, or adopt it by its id, " + there
		if r.Type == Grant {
			return "", refused("name-taken", "adopt it, or revoke it there first", "that role has privileges there already")
		}
		return "", refused("name-taken", fix, "there is a %s %s already", strings.ToLower(what), called)
	case err == nil: // it was made then; what it lacks still is done now
		_, err = s.Update(ctx, r.Type, there, r, ways.Known{})
		return there, err
	case !cloud.IsNotFound(err):
		return "", err
	}
	switch r.Type {
	case Role:
		more, _, err := s.roleStatements(ctx, called, called, v, r, ways.Known{}, "")
		if err != nil {
			return "", err
		}
		err = s.within(ctx, "", append([]string{"create role " + name(called)}, more...)...)
		if err != nil {
			return "", err
		}
	case Database:
		if err := s.createDatabase(ctx, called, v, r); err != nil {
			return "", err
		}
	case Schema:
		in, err := s.nameOf(ctx, Database, link(r, "database"))
		if err != nil {
			return "", err
		}
		owners := s.owners(ctx, Database, link(r, "database"))
		statements := []string{"create schema " + name(called)}
		if owner := link(r, "owner"); owner != "" {
			to, err := s.nameOf(ctx, Role, owner)
			if err != nil {
				return "", err
			}
			statements[0] += " authorization " + name(to)
			owners = append(owners, to)
		}
		if err := s.asOwner(ctx, in, owners, append(statements, comments("schema "+name(called), v)...)...); err != nil {
			return "", err
		}
	case Extension:
		in, err := s.nameOf(ctx, Database, link(r, "database"))
		if err != nil {
			return "", err
		}
		statement := "create extension " + name(called)
		schema, err := s.extensionSchema(ctx, v, r)
		if err != nil {
			return "", err
		}
		if schema != "" {
			statement += " schema " + name(schema)
		}
		if version := text(v["version"]); version != "" {
			statement += " version " + literal(version)
		}
		owners := s.owners(ctx, Database, link(r, "database"))
		if of := link(r, "schema"); of != "" {
			owners = append(owners, s.owners(ctx, Schema, of)...)
		}
		if err := s.asOwner(ctx, in, owners, append([]string{statement}, comments("extension "+name(called), v)...)...); err != nil {
			return "", err
		}
	case Grant:
		if err := s.grant(ctx, link(r, "on"), link(r, "to"), nil, texts(v["privileges"]), v["grantable"] == true); err != nil {
			return "", err
		}
	}
	return s.Find(ctx, r)
}

func (s *server) extensionSchema(ctx context.Context, v map[string]any, r cloud.Request) (string, error) {
	if in := link(r, "schema"); in != "" {
		return s.nameOf(ctx, Schema, in)
	}
	return text(v["in_schema"]), nil
}

func (s *server) createDatabase(ctx context.Context, called string, v map[string]any, r cloud.Request) error {
	statement := "create database " + name(called) + " encoding " + literal(text(v["encoding"]))
	if template := text(v["template"]); template != "" {
		statement += " template " + name(template)
	}
	if collation := text(v["collation"]); collation != "" {
		statement += " lc_collate " + literal(collation) + " lc_ctype " + literal(collation)
	}
	if err := s.alone(ctx, statement); err != nil {
		return err
	}
	more := append(limits("database", called, v), comments("database "+name(called), v)...)
	more = append(more, settings("database "+name(called), v["settings"], nil)...)
	var owners []string
	if owner := link(r, "owner"); owner != "" {
		to, err := s.nameOf(ctx, Role, owner)
		if err != nil {
			return err
		}
		more, owners = append(more, "alter database "+name(called)+" owner to "+name(to)), []string{to}
	}
	return s.asOwner(ctx, "", owners, more...)
}

func limits(what, called string, v map[string]any) []string {
	if n, given := v["connections"]; given && n != nil {
		return []string{"alter " + what + " " + name(called) + " connection limit " + whole(n)}
	}
	return nil
}

func whole(v any) string {
	if f, ok := v.(float64); ok {
		return fmt.Sprintf("%d", int64(f))
	}
	return fmt.Sprint(v)
}

// comments put the label there.
func comments(what string, v map[string]any) []string {
	label, given := v["label"]
	switch {
	case !given:
		return nil
	case label == nil:
		return []string{"comment on " + what + " is null"}
	}
	return []string{"comment on " + what + " is " + literal(text(label))}
}

// lists are settings that hold a list of names.
var lists = []string{"search_path", "temp_tablespaces", "session_preload_libraries", "local_preload_libraries"}

// settings set what is wanted, and take back what else was set.
func settings(what string, wanted any, before map[string]any) []string {
	m, _ := wanted.(map[string]any)
	var out []string
	for _, key := range slices.Sorted(maps.Keys(before)) {
		stays := slices.ContainsFunc(slices.Collect(maps.Keys(m)), func(k string) bool { return strings.EqualFold(k, key) })
		if !stays {
			out = append(out, "alter "+what+" reset "+settingName(key))
		}
	}
	for _, key := range slices.Sorted(maps.Keys(m)) {
		v := literal(text(m[key]))
		if slices.Contains(lists, strings.ToLower(key)) {
			var parts []string
			for part := range strings.SplitSeq(text(m[key]), ",") {
				parts = append(parts, literal(strings.Trim(strings.TrimSpace(part), `"`)))
			}
			v = strings.Join(parts, ", ")
		}
		out = append(out, "alter "+what+" set "+settingName(key)+" to "+v)
	}
	return out
}

// settingName is the name of a setting, which may have a prefix.
func settingName(key string) string {
	parts := strings.Split(key, ".")
	for i := range parts {
		parts[i] = name(parts[i])
	}
	return strings.Join(parts, ".")
}

var roleFlags = []struct{ property, on, off string }{
	{"login", "login", "nologin"}, {"inherit", "inherit", "noinherit"}, {"create_databases", "createdb", "nocreatedb"},
	{"create_roles", "createrole", "nocreaterole"}, {"superuser", "superuser", "nosuperuser"}, {"replication", "replication", "noreplication"},
	{"bypass_row_security", "bypassrls", "nobypassrls"},
}

// found marks what the server kept of a password that was there before one was given.
const found = "found "

// roleStatements change a role: from is its name, to the one that it is to have. Kept is what the server
// keeps of its password now.
func (s *server) roleStatements(ctx context.Context, from, to string, v map[string]any, r cloud.Request, was ways.Known, kept string) (out []string, keep string, err error) {
	if from != to {
		out = append(out, "alter role "+name(from)+" rename to "+name(to))
	}
	var words []string
	flags, err := s.flags(ctx, from)
	if err != nil {
		return nil, "", err
	}
	for i, f := range roleFlags { // some may be named by superusers alone, even where they stay
		if is, given := v[f.property]; given {
			if on := is == true || is == nil && f.property == "inherit"; on != flags[i] {
				words = append(words, map[bool]string{true: f.on, false: f.off}[on])
			}
		}
	}
	if n, given := v["connections"]; given && n != nil {
		words = append(words, "connection limit "+whole(n))
	}
	if until, given := v["valid_until"]; given {
		if until == nil {
			until = "infinity"
		}
		words = append(words, "valid until "+literal(text(until)))
	}
	if p, given := v["password"]; given {
		switch p := p.(type) {
		case nil: // it is what it was before one was given
			before := "null"
			for _, k := range was.Kept {
				if own, ok := strings.CutPrefix(k, found); ok {
					before = literal(own)
				}
			}
			words = append(words, "password "+before)
		case ways.Verbatim:
			words = append(words, "password "+literal(string(p)))
		default:
			hashed, err := verifier(text(p), append([]string{kept}, was.Kept...))
			if err != nil {
				return nil, "", err
			}
			words = append(words, "password "+literal(hashed))
		}
		if keep = kept; keep != "" && len(was.Secrets["password"]) == 0 {
			keep = found + kept
		}
	} else if from != to && kept != "" { // an old way of keeping passwords forgets them when a role is renamed
		words = append(words, "password "+literal(kept))
	}
	if len(words) > 0 {
		out = append(out, "alter role "+name(to)+" "+strings.Join(words, " "))
	}
	have, err := s.memberships(ctx, from)
	if err != nil {
		return nil, "", err
	}
	want, changes, err := s.wantedMemberships(ctx, v, r, was, have)
	if err != nil {
		return nil, "", err
	}
	if changes {
		for _, of := range have {
			if !slices.Contains(want, of) {
				out = append(out, "revoke "+name(of)+" from "+name(to))
			}
		}
		for _, of := range want {
			if !slices.Contains(have, of) {
				out = append(out, "grant "+name(of)+" to "+name(to))
			}
		}
	}
	out = append(out, comments("role "+name(to), v)...)
	if wanted, given := v["settings"]; given {
		before, err := s.settingsOf(ctx, `select coalesce((select setconfig from pg_db_role_setting as s join pg_roles as r on r.oid = s.setrole where s.setdatabase = 0 and r.rolname = $1), '{}')`, from)
		if err != nil {
			return nil, "", err
		}
		out = append(out, settings("role "+name(to), wanted, before)...)
	}
	return out, keep, nil
}

// flags are what roleFlags are for a role; for one that is still to be made, what they will be by themselves.
func (s *server) flags(ctx context.Context, of string) ([]bool, error) {
	is := []bool{false, true, false, false, false, false, false}
	err := s.in(ctx, "", func(c *pgx.Conn) error {
		return each(ctx, c, `select rolcanlogin, rolinherit, rolcreatedb, rolcreaterole, rolsuper, rolreplication, rolbypassrls from pg_roles where rolname = $1`, []any{of}, func(rows pgx.Rows) error {
			return rows.Scan(&is[0], &is[1], &is[2], &is[3], &is[4], &is[5], &is[6])
		})
	})
	return is, err
}

func (s *server) settingsOf(ctx context.Context, query, of string) (map[string]any, error) {
	out := map[string]any{}
	err := s.in(ctx, "", func(c *pgx.Conn) error {
		var list []string
		if err := c.QueryRow(ctx, query, of).Scan(&list); err != nil {
			return err
		}
		for _, text := range list {
			key, v, _ := strings.Cut(text, "=")
			out[key] = v
		}
		return nil
	})
	return out, err
}

// memberships are the names of the roles that a role is a member of.
func (s *server) memberships(ctx context.Context, of string) (out []string, err error) {
	err = s.in(ctx, "", func(c *pgx.Conn) error {
		return each(ctx, c, `select r.rolname from pg_auth_members as m join pg_roles as r on r.oid = m.roleid join pg_roles as of on of.oid = m.member
			where of.rolname = $1 order by 1`, []any{of}, func(rows pgx.Rows) error {
			var called string
			err := rows.Scan(&called)
			out = append(out, called)
			return err
		})
	})
	return out, err
}

// wantedMemberships are those that a change wants: by requirement, and by name.
func (s *server) wantedMemberships(ctx context.Context, v map[string]any, r cloud.Request, was ways.Known, have []string) (want []string, changes bool, err error) {
	named, byName := v["member_of"]
	ids, byLink := r.Links["member_of"]
	if !byName && !byLink {
		return nil, false, nil
	}
	names := texts(named)
	if !byName {
		names = texts(was.Properties["member_of"])
	}
	if !byLink {
		ids = was.Links["member_of"]
	}
	for _, of := range ids {
		called, err := s.nameOf(ctx, Role, of)
		if err != nil {
			return nil, false, err
		}
		want = append(want, called)
	}
	for _, n := range names {
		if !slices.Contains(want, n) {
			want = append(want, n)
		}
	}
	return want, true, nil
}

// Update changes an object.
func (s *server) Update(ctx context.Context, typ, of string, r cloud.Request, was ways.Known) (keep string, err error) {
	v := values(r)
	if typ == Grant {
		o, err := s.Object(ctx, Grant, of, was)
		if err != nil && !cloud.IsNotFound(err) {
			return "", err
		}
		if err != nil { // somebody has taken all of it back
			o.Links = was.Links
		}
		have, _ := o.Properties["privileges"].([]string)
		want := have
		if p, given := v["privileges"]; given {
			want = texts(p)
		}
		grantable := o.Properties["grantable"] == true
		if g, given := v["grantable"]; given {
			grantable = g == true
		}
		return "", s.grant(ctx, o.Links["on"][0], o.Links["to"][0], have, want, grantable)
	}
	from, err := s.nameOf(ctx, typ, of)
	if err != nil {
		return "", err
	}
	to, database := from, ""
	if called := text(v["name"]); called != "" {
		to = called
	}
	if n := numbers(typ, of); len(n) > 1 {
		if database, err = s.databaseName(ctx, n[0]); err != nil {
			return "", err
		}
	}
	var statements, owners []string
	if typ != Role {
		owners = s.owners(ctx, typ, of)
	}
	what := strings.ToLower(strings.TrimPrefix(typ, "Postgres"))
	switch typ {
	case Role:
		kept := ""
		_ = s.in(ctx, "", func(c *pgx.Conn) error { // one may not be allowed to
			return c.QueryRow(ctx, `select coalesce(rolpassword, '') from pg_authid where rolname = $1`, from).Scan(&kept)
		})
		if statements, keep, err = s.roleStatements(ctx, from, to, v, r, was, kept); err != nil {
			return "", err
		}
	case Extension:
		if version := text(v["version"]); version != "" {
			statements = append(statements, "alter extension "+name(from)+" update to "+literal(version))
		}
		_, linked := r.Links["schema"]
		if _, given := v["in_schema"]; given || linked {
			schema, err := s.extensionSchema(ctx, v, r)
			if err != nil {
				return "", err
			}
			if schema == "" {
				schema = "public"
			}
			statements = append(statements, "alter extension "+name(from)+" set schema "+name(schema))
		}
		statements = append(statements, comments("extension "+name(from), v)...)
	default:
		if from != to {
			if typ == Database { // nobody may be in it meanwhile
				s.leave(0)
			}
			statements = append(statements, "alter "+what+" "+name(from)+" rename to "+name(to))
		}
		if ids, given := r.Links["owner"]; given {
			owner := "session_user"
			if len(ids) > 0 {
				called, err := s.nameOf(ctx, Role, ids[0])
				if err != nil {
					return "", err
				}
				owner = name(called)
				owners = append(owners, called)
			}
			statements = append(statements, "alter "+what+" "+name(to)+" owner to "+owner)
		}
		statements = append(statements, comments(what+" "+name(to), v)...)
		if typ == Database {
			statements = append(statements, limits("database", to, v)...)
			if wanted, given := v["settings"]; given {
				before, err := s.settingsOf(ctx, `select coalesce((select setconfig from pg_db_role_setting as s join pg_database as d on d.oid = s.setdatabase where s.setrole = 0 and d.datname = $1), '{}')`, from)
				if err != nil {
					return "", err
				}
				statements = append(statements, settings("database "+name(to), wanted, before)...)
			}
		}
	}
	return keep, s.asOwner(ctx, database, owners, statements...)
}

// owners are the names of the roles that something belongs to; none where that cannot be told.
func (s *server) owners(ctx context.Context, typ, of string) []string {
	if called, err := s.ownerOf(ctx, typ, of); err == nil {
		return []string{called}
	}
	return nil
}

// ownerOf is the name of the role that something belongs to.
func (s *server) ownerOf(ctx context.Context, typ, of string) (called string, err error) {
	n := numbers(typ, of)
	query := map[string]string{Database: `select datdba`, Schema: `select nspowner`, Extension: `select extowner`}[typ] +
		map[string]string{Database: ` from pg_database`, Schema: ` from pg_namespace`, Extension: ` from pg_extension`}[typ] + ` where oid = $1`
	database := ""
	if len(n) > 1 {
		if database, err = s.databaseName(ctx, n[0]); err != nil {
			return "", err
		}
	}
	err = s.in(ctx, database, func(c *pgx.Conn) error {
		err := c.QueryRow(ctx, `select rolname from pg_roles where oid = (`+query+`)`, n[len(n)-1]).Scan(&called)
		if err == pgx.ErrNoRows {
			return notThere(of)
		}
		return err
	})
	return called, err
}

// grant makes the privileges of a role on something what is wanted.
func (s *server) grant(ctx context.Context, on, to string, have, want []string, grantable bool) error {
	role, err := s.nameOf(ctx, Role, to)
	if err != nil {
		return err
	}
	isDatabase := numbers(Database, on) != nil
	typ := map[bool]string{true: Database, false: Schema}[isDatabase]
	called, err := s.nameOf(ctx, typ, on)
	if err != nil {
		return err
	}
	database := called
	if !isDatabase {
		if database, err = s.databaseName(ctx, numbers(Schema, on)[0]); err != nil {
			return err
		}
	}
	what := strings.ToLower(strings.TrimPrefix(typ, "Postgres")) + " " + name(called)
	list := expanded(want, isDatabase)
	for _, p := range list {
		if !slices.Contains(allOf(isDatabase), p) {
			return refused("bad-property", "use "+strings.Join(allOf(isDatabase), ", ")+" or all", "there is no privilege '%s' on a %s", p, strings.Fields(what)[0])
		}
	}
	var owner bool
	if err := s.in(ctx, database, func(c *pgx.Conn) error {
		query := `select exists (select 1 from pg_namespace where oid = $1 and nspowner = $2)`
		if isDatabase {
			query = `select exists (select 1 from pg_database where oid = $1 and datdba = $2)`
		}
		n := numbers(typ, on)
		return c.QueryRow(ctx, query, n[len(n)-1], numbers(Role, to)[0]).Scan(&owner)
	}); err != nil {
		return err
	}
	if owner && len(list) > 0 {
		return refused("bad-property", "take the grant out of the template", "%s owns %s, and may do all of it already", role, called)
	}
	var statements []string
	if gone := slices.DeleteFunc(slices.Clone(expanded(have, isDatabase)), func(p string) bool { return slices.Contains(list, p) }); len(gone) > 0 {
		statements = append(statements, "revoke "+strings.Join(gone, ", ")+" on "+what+" from "+name(role))
	}
	if len(list) > 0 {
		g := "grant " + strings.Join(list, ", ") + " on " + what + " to " + name(role)
		if grantable {
			g += " with grant option"
		} else if len(have) > 0 {
			statements = append(statements, "revoke grant option for "+strings.Join(list, ", ")+" on "+what+" from "+name(role))
		}
		statements = append(statements, g)
	}
	return s.asOwner(ctx, database, s.owners(ctx, typ, on), statements...)
}

// Remove removes an object.
func (s *server) Remove(ctx context.Context, typ, of string, was ways.Known) error {
	if typ == Grant {
		o, err := s.Object(ctx, Grant, of, ways.Known{})
		if err != nil {
			return err
		}
		have, _ := o.Properties["privileges"].([]string)
		return s.grant(ctx, o.Links["on"][0], o.Links["to"][0], have, nil, false)
	}
	called, err := s.nameOf(ctx, typ, of)
	if err != nil {
		return err
	}
	switch typ {
	case Role:
		return s.within(ctx, "", "drop role "+name(called))
	case Database:
		owners := s.owners(ctx, typ, of)
		if others, err := s.foreign(ctx, owners); err != nil {
			return err
		} else if len(others) > 0 { // only its owner may remove it, and that cannot be part of a transaction
			if err := s.asOwner(ctx, "", owners, "alter database "+name(called)+" owner to current_user"); err != nil {
				return err
			}
		}
		s.leave(0)
		statement := "drop database " + name(called)
		if was.Properties["force"] == true {
			statement += " with (force)"
		}
		return s.alone(ctx, statement)
	}
	in, err := s.databaseName(ctx, numbers(typ, of)[0])
	if err != nil {
		return err
	}
	statement := "drop " + strings.ToLower(strings.TrimPrefix(typ, "Postgres")) + " " + name(called)
	if typ == Schema && was.Properties["empties"] == true {
		statement += " cascade"
	}
	return s.asOwner(ctx, in, s.owners(ctx, typ, of), statement)
}
