package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// graph says what stands on what in a live database (pg_depend).
type graph struct {
	on map[string][]edge // by identity: what stands on it
}

// edge leads to what stands on a thing. It goes with it when soft is set.
type edge struct {
	id   string
	soft bool
}

// depend reads the dependencies between things that people made.
func depend(ctx context.Context, conn *pgx.Conn, c *Catalog) (*graph, error) {
	g := &graph{on: map[string][]edge{}}
	sql := `begin isolation level repeatable read read only; set local search_path = '';
		select r.oid, r.ev_class from pg_catalog.pg_rewrite r where r.rulename = '_RETURN' and r.oid >= 16384;
		select t.oid, t.typrelid, t.typelem, (select b.oid from pg_catalog.pg_type b where b.typarray = t.oid) from pg_catalog.pg_type t where t.oid >= 16384;
		select k.conindid, k.oid from pg_catalog.pg_constraint k where k.contype in ('p', 'u', 'x');
		select d.classid::pg_catalog.regclass, d.objid, d.objsubid, d.refclassid::pg_catalog.regclass, d.refobjid, d.refobjsubid, d.deptype
		from pg_catalog.pg_depend d where d.objid >= 16384 and (d.refobjid >= 16384 or d.refobjid = (select oid from pg_catalog.pg_namespace where nspname = 'public'));
		commit`
	f := &finder{ids: map[oid]string{}, instead: map[oid]oid{}}
	for id, o := range c.oids {
		f.ids[o] = id
	}
	for o, id := range c.alias {
		f.ids[o] = id
	}
	var raw [][2]oid
	var soft []bool
	err := results(conn.PgConn().Exec(ctx, sql), 2, func(query int, r row) error {
		switch query {
		case 0:
			f.instead[oid{"pg_rewrite", r.s(0), "0"}] = oid{"pg_class", r.s(1), "0"}
		case 1:
			own := oid{"pg_type", r.s(0), "0"}
			switch {
			case f.ids[own] != "":
			case r.s(1) != "0":
				f.instead[own] = oid{"pg_class", r.s(1), "0"}
			case r[3] != nil:
				f.instead[own] = oid{"pg_type", r.s(3), "0"}
			}
		case 2:
			f.instead[oid{"pg_class", r.s(0), "0"}] = oid{"pg_constraint", r.s(1), "0"}
		case 3:
			from, to := oid{r.s(0), r.s(1), r.s(2)}, oid{r.s(3), r.s(4), r.s(5)}
			if r.s(6) == "e" || (from.class == "pg_amop" || from.class == "pg_amproc") &&
				(to.class == "pg_opclass" || to.class == "pg_opfamily") {
				f.instead[oid{from.class, from.object, "0"}] = to
				return nil
			}
			raw = append(raw, [2]oid{from, to})
			member := from.class == "pg_amop" || from.class == "pg_amproc" // its family stays when one goes
			soft = append(soft, r.s(6) != "n" && !member)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i, e := range raw {
		if who, whom := f.find(e[0]), f.find(e[1]); who != "" && whom != "" && who != whom {
			g.on[whom] = append(g.on[whom], edge{who, soft[i]})
		}
	}
	return g, nil
}

// finder finds the identity of what pg_depend names.
type finder struct {
	ids     map[oid]string
	instead map[oid]oid // what stands for a thing that is no object of ours
}

func (f *finder) find(o oid) string {
	for range 4 {
		if id, ok := f.ids[o]; ok {
			return id
		}
		whole := oid{o.class, o.object, "0"}
		if id, ok := f.ids[whole]; ok {
			return id
		}
		next, ok := f.instead[whole]
		if !ok {
			return ""
		}
		o = next
	}
	return ""
}
