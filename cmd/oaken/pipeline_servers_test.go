package main

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestAPromotionOnAServerGoesOnAfterAKill kills the program while it promotes a database
// and a folder: MariaDB has no transactions for what is made, so it stops half way.
func TestAPromotionOnAServerGoesOnAfterAKill(t *testing.T) {
	for _, s := range []server{postgresServer(t), mariadbServer(t)} {
		t.Run(s.engine, func(t *testing.T) {
			name := func(e string) string { return fmt.Sprintf("oaken_stage_%d_%s", rand.Uint32(), e) }
			dev, test := name("dev"), name("test")
			for _, db := range []string{dev, test} {
				s.run(t, "", "create database "+db)
				defer s.run(t, "", "drop database "+db)
			}
			p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
			kind := map[string]string{"postgres": "postgres-schema", "mysql": "mariadb-schema"}[s.engine]
			p.write("oaken.toml", fmt.Sprintf(`project = "Brindle Bay"
[[artifact]]
path = "database"
kind = %q
[[lock]]
match = "**"
policy = "off"
[[environment]]
name = "dev"
target = %q
into = "database"
tier = "development"
[[environment]]
name = "test"
target = %q
into = "database"
tier = "test"
[[environment.also]]
target = "folder:../signs"
into = "signs"
[[pipeline.move]]
from = "dev"
to = "test"
`, kind, s.target(dev), s.target(test)))
			p.write("signs/a.txt", "The reef\n")
			for i := range 12 {
				s.run(t, dev, fmt.Sprintf("create table t%d (id integer primary key, name varchar(20))", i))
			}
			p.ok("--as", "Imke", "begin")
			p.ok("commit", "-m", "Signs")
			p.ok("capture", "dev", "--commit", "-m", "Tables")
			p.ok("deploy", "test")
			r := rand.New(rand.NewPCG(rand.Uint64(), 1))
			died, halfway := 0, 0
			for round := range 5 {
				for i := range 12 {
					s.run(t, dev, fmt.Sprintf("alter table t%d add column a%d integer", i, round))
					s.run(t, dev, fmt.Sprintf("alter table t%d add column b%d varchar(5)", i, round))
					s.run(t, dev, fmt.Sprintf("create index i%d_%d on t%d (a%d)", i, round, i, round))
				}
				p.write("signs/a.txt", fmt.Sprintf("The reef %d\n", round))
				p.ok("commit", "-m", "Signs")
				p.ok("capture", "dev", "--commit", "-m", "Columns")
				begun := time.Now()
				p.ok("promote", "dev", "test", "--dry-run")
				took := time.Since(begun)
				for range 4 {
					if ended, _ := p.killed(took*4/10+time.Duration(r.Int64N(int64(took))), "promote", "dev", "test"); ended {
						break
					}
					died++
					if strings.Contains(p.ok("pipeline", "show"), "unfinished") {
						halfway++
					}
				}
				p.ok("promote", "dev", "test")
				p.ok("verify", "--pipeline")
			}
			t.Logf("%d processes died, %d of them half way", died, halfway)
			p.says(p.ok("owed"), "Nothing is owed")
		})
	}
}
