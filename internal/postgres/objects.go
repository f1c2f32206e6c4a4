package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"brickrow/internal/cloud"
	"brickrow/internal/ways"
)

// Objects lists what stands in the server: its roles and databases, and of the databases that are
// known, or that are asked anyway, what is in them.
func (s *server) Objects(ctx context.Context, known map[string]ways.Known) ([]ways.Object, error) {
	out, err := s.roles(ctx, known, 0)
	if err != nil {
		return nil, err
	}
	databases, err := s.databases(ctx, known, 0)
	if err != nil {
		return nil, err
	}
	out = append(out, databases...)
	inside := map[uint32]bool{}
	for of := range known {
		for _, typ := range []string{Database, Schema, Extension, Grant} {
			if n := numbers(typ, of); n != nil {
				inside[n[0]] = true
			}
		}
	}
	for _, d := range databases {
		n := numbers(Database, d.ID)[0]
		called := fmt.Sprint(d.Properties["name"])
		if !inside[n] && called != s.home {
			continue
		}
		more, err := s.inside(ctx, n, called, known)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

// Object reads one object.
func (s *server) Object(ctx context.Context, typ, of string, known ways.Known) (ways.Object, error) {
	n, all := numbers(typ, of), map[string]ways.Known{}
	if known.Properties != nil {
		all[of] = known
	}
	if n == nil {
		return ways.Object{}, notThere(of)
	}
	var list []ways.Object
	var err error
	switch typ {
	case Role:
		list, err = s.roles(ctx, all, n[0])
	case Database:
		list, err = s.databases(ctx, all, n[0])
	default:
		var called string
		if called, err = s.databaseName(ctx, n[0]); err == nil {
			list, err = s.inside(ctx, n[0], called, all)
		}
	}
	if err != nil {
		return ways.Object{}, err
	}
	for _, o := range list {
		if o.ID == of {
			return o, nil
		}
	}
	return ways.Object{}, notThere(of)
}

// databaseName is the name of a database by its number.
func (s *server) databaseName(ctx context.Context, n uint32) (called string, err error) {
	err = s.in(ctx, "", func(c *pgx.Conn) error {
		return c.QueryRow(ctx, `select datname from pg_database where oid = $1`, n).Scan(&called)
	})
	if errors.Is(err, pgx.ErrNoRows) || isProblem(err) && strings.Contains(err.Error(), pgx.ErrNoRows.Error()) {
		err = notThere(id(Database, n))
	}
	return called, err
}

func isProblem(err error) bool {
	var p *cloud.Problem
	return errors.As(err, &p)
}

// each asks for rows, and scans each.
func each(ctx context.Context, c *pgx.Conn, query string, args []any, scan func(pgx.Rows) error) error {
	rows, err := c.Query(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// roles lists the roles, but for those that each server has; or the one of a number, where that is not 0.
func (s *server) roles(ctx context.Context, known map[string]ways.Known, only uint32) (out []ways.Object, err error) {
	err = s.in(ctx, "", func(c *pgx.Conn) error {
		kept, readable := map[uint32]string{}, true
		err := pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error { // one may not be allowed to
			rows, err := tx.Query(ctx, `select oid, rolpassword from pg_authid where rolpassword is not null`)
			if err != nil {
				return err
			}
			var n uint32
			var text string
			_, err = pgx.ForEachRow(rows, []any{&n, &text}, func() error { kept[n] = text; return nil })
			return err
		})
		if err != nil {
			if readable = false; c.IsClosed() {
				return err
			}
		}
		members, names := map[uint32][]uint32{}, map[uint32]string{}
		if err := each(ctx, c, `select m.member, m.roleid, r.rolname from pg_auth_members as m join pg_roles as r on r.oid = m.roleid order by m.roleid`, nil, func(rows pgx.Rows) error {
			var member, of uint32
			var called string
			err := rows.Scan(&member, &of, &called)
			members[member], names[of] = append(members[member], of), called
			return err
		}); err != nil {
			return err
		}
		return each(ctx, c, `select r.oid, r.rolname, r.rolcanlogin, r.rolinherit, r.rolcreatedb, r.rolcreaterole, r.rolsuper, r.rolreplication, r.rolbypassrls,
			r.rolconnlimit, coalesce(nullif(r.rolvaliduntil, 'infinity')::text, ''), coalesce(s.setconfig, '{}'), coalesce(shobj_description(r.oid, 'pg_authid'), '')
			from pg_roles as r left join pg_db_role_setting as s on s.setrole = r.oid and s.setdatabase = 0
			where ($1 = 0 and r.oid <> 10 and r.rolname !~ '^pg_' or r.oid = $1) order by r.rolname`, []any{only}, func(rows pgx.Rows) error {
			var n uint32
			var called, until, label string
			var login, inherit, createDB, createRole, super, replication, bypass bool
			var connections int32
			var settings []string
			if err := rows.Scan(&n, &called, &login, &inherit, &createDB, &createRole, &super, &replication, &bypass, &connections, &until, &settings, &label); err != nil {
				return err
			}
			o := ways.Object{ID: id(Role, n), Type: Role, Links: map[string][]string{}, Properties: map[string]any{"name": called, "login": login, "inherit": inherit,
				"create_databases": createDB, "create_roles": createRole, "superuser": super, "replication": replication, "bypass_row_security": bypass,
				"connections": connections}}
			k, isKnown := known[o.ID]
			about(&o, label, settings, k)
			if until != "" {
				o.Properties["valid_until"] = until
				if was, ok := k.Properties["valid_until"].(string); ok && sameTime(was, until) {
					o.Properties["valid_until"] = was
				}
			}
			secrets := k.Secrets["password"]
			i := slices.IndexFunc(secrets, func(p string) bool { return fits(kept[n], p) })
			switch {
			case len(secrets) == 0: // where none was given, the one that it has is left alone
			case i >= 0:
				o.Properties["password"] = ways.Print{Is: secrets[i]}
			case kept[n] != "":
				o.Properties["password"] = ways.Print{Kept: kept[n]}
			case !readable: // it cannot be told
				o.Properties["password"] = ways.Print{Is: secrets[0]}
			}
			var links, others []string
			for _, of := range members[n] {
				switch named := listed(k.Properties["member_of"], names[of]); {
				case !named && (slices.Contains(k.Links["member_of"], id(Role, of)) || isKnown || !strings.HasPrefix(names[of], "pg_")):
					links = append(links, id(Role, of))
				default:
					others = append(others, names[of])
				}
			}
			if links = inOrder(links, k.Links["member_of"]); len(links) > 0 {
				o.Links["member_of"] = links
			}
			if others = inOrder(others, texts(k.Properties["member_of"])); len(others) > 0 {
				o.Properties["member_of"] = others
			}
			out = append(out, o)
			return nil
		})
	})
	return out, err
}

// about are a label and settings.
func about(o *ways.Object, label string, settings []string, k ways.Known) {
	if label != "" {
		o.Properties["label"] = label
	}
	if len(settings) > 0 {
		was, _ := k.Properties["settings"].(map[string]any)
		m := map[string]any{}
		for _, text := range settings {
			key, v, _ := strings.Cut(text, "=")
			for called := range was { // the server writes some names in its own way
				if strings.EqualFold(called, key) {
					key = called
				}
			}
			m[key] = v
			if asked, there := was[key]; there && flat(fmt.Sprint(asked)) == flat(v) {
				m[key] = asked
			}
		}
		o.Properties["settings"] = m
	}
}

// flat is a list of names without what makes no difference.
func flat(s string) string { return strings.NewReplacer(" ", "", `"`, "").Replace(s) }

// texts is a property that is a list of texts.
func texts(v any) []string {
	var out []string
	list, _ := v.([]any)
	for _, e := range list {
		out = append(out, fmt.Sprint(e))
	}
	return out
}

func listed(v any, text string) bool { return slices.Contains(texts(v), text) }

// inOrder puts what was asked for in its order, and the rest behind it.
func inOrder(list, asked []string) []string {
	var out []string
	for _, a := range asked {
		if slices.Contains(list, a) && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	for _, e := range list {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	return out
}

// databases lists the databases, but for the templates; or the one of a number, where that is not 0.
func (s *server) databases(ctx context.Context, known map[string]ways.Known, only uint32) (out []ways.Object, err error) {
	err = s.in(ctx, "", func(c *pgx.Conn) error {
		return each(ctx, c, `select d.oid, d.datname, d.datdba, o.rolname = current_user or o.oid = 10, pg_encoding_to_char(d.encoding), d.datcollate, d.datconnlimit,
			coalesce(s.setconfig, '{}'), coalesce(shobj_description(d.oid, 'pg_database'), ''),
			case when has_database_privilege(d.oid, 'connect') then pg_database_size(d.oid) else 0 end
			from pg_database as d join pg_roles as o on o.oid = d.datdba left join pg_db_role_setting as s on s.setdatabase = d.oid and s.setrole = 0
			where ($1 = 0 and not d.datistemplate or d.oid = $1) order by d.datname`, []any{only}, func(rows pgx.Rows) error {
			var n, owner uint32
			var called, encoding, collation, label string
			var usual bool
			var connections int32
			var settings []string
			var size int64
			if err := rows.Scan(&n, &called, &owner, &usual, &encoding, &collation, &connections, &settings, &label, &size); err != nil {
				return err
			}
			o := ways.Object{ID: id(Database, n), Type: Database, Links: map[string][]string{}, Attributes: map[string]any{"size": size}, Properties: map[string]any{
				"name": called, "encoding": encoding, "connections": connections, "template": "template0", "force": false}}
			k, isKnown := known[o.ID]
			if isKnown {
				asAsked(&o, k, "template", "force")
			}
			if !isKnown || k.Properties["collation"] != nil {
				o.Properties["collation"] = collation
			}
			about(&o, label, settings, k)
			belongs(&o, owner, usual, k, isKnown)
			out = append(out, o)
			return nil
		})
	})
	return out, err
}

// asAsked are properties that the server does not tell.
func asAsked(o *ways.Object, k ways.Known, names ...string) {
	for _, name := range names {
		if v := k.Properties[name]; v != nil {
			o.Properties[name] = v
		}
	}
}

// belongs is the link to the owner: where none was asked for, that of the connection is none.
func belongs(o *ways.Object, owner uint32, usual bool, k ways.Known, isKnown bool) {
	if asked := k.Links["owner"]; len(asked) > 0 || !usual {
		o.Links["owner"] = []string{id(Role, owner)}
	}
}

// inside lists what is in a database, and what may be done with the database itself.
func (s *server) inside(ctx context.Context, db uint32, called string, known map[string]ways.Known) (out []ways.Object, err error) {
	in := id(Database, db)
	err = s.in(ctx, called, func(c *pgx.Conn) error {
		names := map[uint32]string{}
		if err := each(ctx, c, `select n.oid, n.nspname, n.nspowner, o.rolname = current_user or o.oid = 10 or o.rolname = 'pg_database_owner', coalesce(obj_description(n.oid, 'pg_namespace'), ''),
			(select count(*) from pg_class as t where t.relnamespace = n.oid and t.relkind in ('r', 'v', 'm', 'S', 'f', 'p') and not exists (
				select 1 from pg_depend as d where d.classid = 'pg_class'::regclass and d.objid = t.oid and d.deptype in ('e', 'i', 'a')))
			+ (select count(*) from pg_proc as f where f.pronamespace = n.oid and not exists (
				select 1 from pg_depend as d where d.classid = 'pg_proc'::regclass and d.objid = f.oid and d.deptype = 'e'))
			from pg_namespace as n join pg_roles as o on o.oid = n.nspowner where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' order by n.nspname`, nil, func(rows pgx.Rows) error {
			var n, owner uint32
			var called, label string
			var usual bool
			var objects int64
			if err := rows.Scan(&n, &called, &owner, &usual, &label, &objects); err != nil {
				return err
			}
			names[n] = called
			o := ways.Object{ID: id(Schema, db, n), Type: Schema, With: in, Links: map[string][]string{"database": {in}}, Attributes: map[string]any{"objects": objects},
				Properties: map[string]any{"name": called, "empties": false}}
			k, isKnown := known[o.ID]
			asAsked(&o, k, "empties")
			about(&o, label, nil, k)
			belongs(&o, owner, usual, k, isKnown)
			out = append(out, o)
			return nil
		}); err != nil {
			return err
		}
		if err := each(ctx, c, `select e.oid, e.extname, e.extversion, e.extnamespace, coalesce(obj_description(e.oid, 'pg_extension'), ''), coalesce(a.comment, '')
			from pg_extension as e left join pg_available_extensions as a on a.name = e.extname where e.extname <> 'plpgsql' order by e.extname`, nil, func(rows pgx.Rows) error {
			var n, schema uint32
			var called, version, label, usual string
			if err := rows.Scan(&n, &called, &version, &schema, &label, &usual); err != nil {
				return err
			}
			o := ways.Object{ID: id(Extension, db, n), Type: Extension, With: in, Links: map[string][]string{"database": {in}}, Attributes: map[string]any{"installed_version": version},
				Properties: map[string]any{"name": called}}
			k, isKnown := known[o.ID]
			if k.Properties["version"] != nil {
				o.Properties["version"] = version
			}
			if label == usual {
				label = ""
			}
			about(&o, label, nil, k)
			switch here := id(Schema, db, schema); {
			case len(k.Links["schema"]) > 0:
				o.Links["schema"] = []string{here}
			case k.Properties["in_schema"] != nil || !isKnown && names[schema] != "public":
				o.Properties["in_schema"] = names[schema]
			}
			out = append(out, o)
			return nil
		}); err != nil {
			return err
		}
		grants := map[string]*ways.Object{}
		add := func(of, on string, to uint32, privilege string, grantable bool) {
			o := grants[of]
			if o == nil {
				o = &ways.Object{ID: of, Type: Grant, With: on, Links: map[string][]string{"on": {on}, "to": {id(Role, to)}}, Properties: map[string]any{"privileges": []string{}, "grantable": true}}
				grants[of] = o
			}
			o.Properties["privileges"] = append(o.Properties["privileges"].([]string), strings.ToLower(privilege))
			o.Properties["grantable"] = o.Properties["grantable"].(bool) && grantable
		}
		const exploded = ` as a where a.grantee not in (0, t.owner) order by 1, 2, 3`
		if err := each(ctx, c, `select distinct a.grantee, a.privilege_type, a.is_grantable from (select datacl as acl, datdba as owner from pg_database where oid = $1) as t, aclexplode(t.acl)`+exploded, []any{db}, func(rows pgx.Rows) error {
			var to uint32
			var privilege string
			var grantable bool
			err := rows.Scan(&to, &privilege, &grantable)
			add(id(Grant, db, to), in, to, privilege, grantable)
			return err
		}); err != nil {
			return err
		}
		if err := each(ctx, c, `select distinct a.grantee, a.privilege_type, a.is_grantable, t.n from (select oid as n, nspacl as acl, nspowner as owner from pg_namespace
			where nspname !~ '^pg_' and nspname <> 'information_schema') as t, aclexplode(t.acl)`+exploded, nil, func(rows pgx.Rows) error {
			var to, schema uint32
			var privilege string
			var grantable bool
			err := rows.Scan(&to, &privilege, &grantable, &schema)
			add(id(Grant, db, schema, to), id(Schema, db, schema), to, privilege, grantable)
			return err
		}); err != nil {
			return err
		}
		for _, of := range slices.Sorted(maps.Keys(grants)) {
			o := grants[of]
			have := o.Properties["privileges"].([]string)
			o.Properties["privileges"] = asPrivileges(have, texts(known[of].Properties["privileges"]), len(numbers(Grant, of)) == 2)
			out = append(out, *o)
		}
		return nil
	})
	return out, err
}

// allOf are all privileges there are on a database, or on a schema.
func allOf(database bool) []string {
	if database {
		return []string{"connect", "create", "temporary"}
	}
	return []string{"create", "usage"}
}

// asPrivileges are privileges as they were asked for, where they are those.
func asPrivileges(have, asked []string, database bool) []string {
	slices.Sort(have)
	have = slices.Compact(have)
	if want := expanded(asked, database); slices.Equal(have, want) {
		return asked
	}
	out := []string{}
	for _, a := range asked {
		if one := expanded([]string{a}, database); !slices.ContainsFunc(one, func(p string) bool { return !slices.Contains(have, p) }) {
			out = append(out, a)
		}
	}
	covered := expanded(out, database)
	for _, p := range have {
		if !slices.Contains(covered, p) {
			out = append(out, p)
		}
	}
	return out
}

// expanded are privileges by their own names, sorted.
func expanded(asked []string, database bool) []string {
	var out []string
	for _, a := range asked {
		switch a = strings.ToLower(strings.TrimSpace(a)); a {
		case "all", "all privileges":
			out = append(out, allOf(database)...)
		case "temp":
			out = append(out, "temporary")
		default:
			out = append(out, a)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
