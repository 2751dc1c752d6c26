package postgres

import (
	"fmt"
	"strings"
	"testing"
)

// many is a schema of so many tables with ten columns each.
func many(tables int) string {
	var b strings.Builder
	for i := range tables {
		fmt.Fprintf(&b, `create table public.t%d (id integer generated always as identity primary key, code text not null default 'x', amount numeric(10,2), at timestamptz default now(), flag boolean not null default false,
			note text, other integer references public.t%d, ratio double precision check (ratio > 0), tags text[], day date); create index t%d_code on public.t%d (code, at); comment on column public.t%d.note is 'a note';`+"\n", i, i/2, i, i, i)
	}
	return b.String()
}

func BenchmarkRead(b *testing.B) {
	_, conn := database(b)
	run(b, conn, many(1000))
	b.ResetTimer()
	for b.Loop() {
		reading(b, conn)
	}
}

func BenchmarkReadQueries(b *testing.B) {
	_, conn := database(b)
	run(b, conn, many(1000))
	for i, q := range catalogQueries {
		b.Run(fmt.Sprint(i, " ", q.sql[:60]), func(b *testing.B) {
			for b.Loop() {
				run(b, conn, strings.ReplaceAll(q.sql, "%NS", ownSchema))
			}
		})
	}
}
