package mariadb

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/schema/schematest"
	"oakenchest/core/schema/scope"
)

func statementsOf(steps []Step) string {
	var b strings.Builder
	for _, s := range steps {
		fmt.Fprintf(&b, "-- %s: %s [%s]\n%s;\n", s.Address, s.What, s.Effect, strings.Join(s.Statements, ";\n"))
	}
	return b.String()
}

func deploy(t testing.TB, q Querier, want *element.Element) ([]Step, error) {
	t.Helper()
	live := reading(t, q)
	root := scope.Scope{}.Overlay(want, live.Root)
	steps, err := Plan(context.Background(), q, live.Root, Wanted{Root: root})
	if err != nil {
		return nil, err
	}
	return steps, Apply(context.Background(), q, root, steps, 5, scope.Scope{}, nil)
}

// edits are what people do to the database of testdata/everything.sql.
var edits = []string{
	"alter table keeper add column phone varchar(20) not null default 'none' after name",
	"alter table keeper drop column badge",
	"alter table tank modify code varchar(60) not null comment 'longer'",
	"alter table tank modify depth decimal(10,3) default 2 check (depth > 1)",
	"alter table tank modify notes longtext",
	"alter table tank drop constraint tank_code",
	"alter table tank add constraint wide check (width < 100)",
	"alter table tank drop key short, add key short (depth)",
	"alter table tank add unique key once (code, depth)",
	"alter table tank drop key there",
	"alter table tank modify mood enum('calm','it''s hungry','a,b','new') default 'new'",
	"alter table tank drop column area",
	"alter table tank drop column area, add column area int generated always as (width * 4) stored after width",
	"alter table tank modify at datetime(6) not null default current_timestamp(6)",
	"alter table tank drop foreign key tank_keeper; alter table tank add constraint tank_keeper foreign key (keeper) references keeper (id)",
	"alter table tank drop foreign key tank_keeper; alter table keeper drop foreign key keeper_boss; alter table keeper modify boss " +
		"bigint unsigned, modify id bigint unsigned auto_increment; alter table tank modify keeper bigint unsigned; alter table tank add " +
		"constraint tank_keeper foreign key (keeper) references keeper (id); alter table keeper add constraint keeper_boss foreign key " +
		"(boss) references keeper (id)",
	"alter table tank row_format=dynamic key_block_size=0",
	"alter table tank comment='new comment'",
	"alter table keeper comment=''",
	"alter table old_one engine=InnoDB",
	"alter table old_one convert to character set utf8mb4",
	"alter table old_one add primary key (id)",
	"alter table reading drop partition p2024",
	"alter table spread remove partitioning",
	"alter table reading reorganize partition rest into (partition p2025 values less than (2026), partition p2026 values less than " +
		"(2027) comment 'a, b', partition rest values less than maxvalue)",
	"alter table reading drop partition rest",
	"alter table old_one convert to character set utf8mb4; alter table tank drop foreign key tank_keeper; alter table tank add " +
		"constraint tank_keeper foreign key (keeper) references keeper (id) on delete cascade",
	"set system_versioning_alter_history = keep; alter table kept add column x int",
	"alter table kept drop system versioning",
	"drop table reading",
	"alter table tank drop foreign key tank_keeper; drop view busy; drop view aaa; drop table keeper",
	"create table fresh (id int primary key, tank bigint, constraint fresh_tank foreign key (tank) references tank (id)); create view " +
		"zzz as select * from fresh",
	"create or replace view simple as select id from tank",
	"drop view aaa",
	"create or replace function total(a int, b varchar(10)) returns int return a",
	"drop function total",
	"drop procedure close_day",
	"drop trigger touch_too; drop trigger touch; create trigger touch before update on tank for each row set new.width = 9",
	"alter event nightly enable do delete from tank where id < 1",
	"drop event nightly",
	"alter sequence ticket increment by 7",
	"drop sequence ticket",
	"alter table `Käfig; drop table x; --` drop column `select`, add column `ä ``b` int",
}

// TestEveryEditIsDeployed makes each edit by hand in one database, and by a computed
// deployment in another; then takes both back by deployments.
func TestEveryEditIsDeployed(t *testing.T) {
	byHand, hand := database(t)
	computed, db := database(t)
	fill(t, byHand, "testdata/everything.sql")
	fill(t, computed, "testdata/everything.sql")
	original := reading(t, hand)
	for _, text := range edits {
		ok := t.Run(text[:min(len(text), 60)], func(t *testing.T) {
			run(t, hand, text)
			want := reading(t, hand)
			steps, err := deploy(t, db, want.Root)
			if err != nil {
				t.Fatalf("%v\n%s", err, statementsOf(steps))
			}
			if a, b := dump(t, byHand), dump(t, computed); a != b {
				t.Errorf("the dumps differ: %s\n%s", schematest.FirstDifference(a, b), statementsOf(steps))
			}
			if steps, err = deploy(t, db, want.Root); err != nil || len(steps) > 0 {
				t.Errorf("a second deployment does something: %v\n%s", err, statementsOf(steps))
			}
			for _, q := range []Querier{db, hand} {
				if steps, err = deploy(t, q, original.Root); err != nil {
					t.Fatalf("back: %v\n%s", err, statementsOf(steps))
				}
			}
		})
		if !ok {
			for _, name := range []string{byHand, computed} {
				run(t, db, "drop database "+name+"; create database "+name)
				fill(t, name, "testdata/everything.sql")
			}
			run(t, db, "use "+computed)
			run(t, hand, "use "+byHand)
		}
	}
}

func TestAPartitionThatComesLeavesTheOthers(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"range (a) (partition p1 values less than (1))",
			"range (a) (partition p1 values less than (1), partition p2 values less than (2))",
			"[instant] alter table t add partition (partition p2 values less than (2))"},
		{"range (a) (partition p1 values less than (1), partition r values less than maxvalue)",
			"range (a) (partition p1 values less than (1), partition `p 2` values less than (2) comment ',', partition r values less " +
				"than maxvalue)",
			"[rewrites] alter table t reorganize partition r into (partition `p 2` values less than (2) comment ',', partition r values " +
				"less than maxvalue)"},
		{"list (a) (partition p1 values in (1), partition p3 values in (3))",
			"list (a) (partition p1 values in (1), partition p2 values in (2), partition p3 values in (3))",
			"[rewrites] alter table t partition by list (a)"},
		{"range (a) (partition p1 values less than (1))",
			"range (b) (partition p1 values less than (1), partition p2 values less than (2))",
			"[rewrites] alter table t partition by range (b)"},
		{"hash (a) partitions 2", "hash (a) partitions 3", "[rewrites] alter table t partition by hash (a) partitions 3"},
		{"range (a) (partition p1 values less than (1), partition p2 values less than (2))",
			"range (a) (partition p1 values less than (1))", "[rewrites] alter table t partition by range (a)"},
		{"hash (a)", "", "[rewrites] alter table t remove partitioning"},
	} {
		l, w := &element.Element{Type: "table", Key: "t"}, &element.Element{Type: "table", Key: "t"}
		setText(l, "partition by", c.from)
		setText(w, "partition by", c.to)
		if _, effect, sql := repartition(l, w); !strings.HasPrefix("["+string(effect)+"] "+sql, c.want) {
			t.Errorf("%s\n→ %s\n[%s] %s", c.from, c.to, effect, sql)
		}
	}
}
