package main

import (
	"os/exec"
	"strings"
	"testing"
)

// TestMergesOfWhatOthersEdited lets outside programs make files of every kind that merges,
// and edit them on two branches; the merge must need nothing, and the same programs must
// find both edits in the outcome.
func TestMergesOfWhatOthersEdited(t *testing.T) {
	for _, tool := range []string{"sh", "sed", "awk", "tar", "gzip", "zip", "unzip", "sqlite3", "iconv"} {
		others(t, tool)
	}
	for _, c := range []struct {
		name string
		// base makes the file, mine and theirs edit it, check prints what must be want.
		base, mine, theirs, check, want string
	}{
		{"text", `cp /usr/share/common-licenses/GPL-3 f.txt`, `sed -i '10s/.*/MINE/; 300d' f.txt`,
			`sed -i '200s/.*/THEIRS/; 400a\ADDED' f.txt`,
			`grep -c 'MINE\|THEIRS\|ADDED' f.txt; wc -l <f.txt`, "3 674"},
		{"text in UTF-16", `iconv -f utf-8 -t utf-16 /usr/share/common-licenses/BSD >f.txt`,
			`iconv -f utf-16 -t utf-8 f.txt | sed '2s/.*/MINE/' | iconv -f utf-8 -t utf-16 >g && mv g f.txt`,
			`iconv -f utf-16 -t utf-8 f.txt | sed '20s/.*/THEIRS/' | iconv -f utf-8 -t utf-16 >g && mv g f.txt`,
			`iconv -f utf-16 -t utf-8 f.txt | grep -c 'MINE\|THEIRS'`, "2"},
		{"table", `sqlite3 -csv -header :memory: "with recursive n(id) as (select 1 union all select id + 1 from n where id < 500) select id, 'tank ' || id as name, id * 7 as litres from n" >f.csv`,
			`awk -F, -v OFS=, '$1 == 250 { $2 = "mine" } { print }' f.csv >g && mv g f.csv`,
			`awk -F, -v OFS=, '$1 == 250 { $3 = 99 } $1 != 300 { print } END { print "501,theirs,1" }' f.csv >g && mv g f.csv`,
			`sqlite3 :memory: ".import --csv f.csv t" "select name, litres from t where id = 250; select count(*) from t; select name from t where id = 501"`, "mine|99 500 theirs"},
		{"JSON", `sqlite3 -json :memory: "with recursive n(id) as (select 1 union all select id + 1 from n where id < 200) select id, 'tank ' || id as name, id * 7 as litres from n" >f.json`,
			`sed -i 's/"tank 150"/"mine"/' f.json`, `sed -i 's/"litres":1050/"litres":-1/' f.json`,
			`sqlite3 :memory: "select value ->> 'name', value ->> 'litres' from json_each(readfile('f.json')) where value ->> 'id' = 150"`,
			"mine|-1"},
		{"XML", `{ echo '<tanks>'; seq 1 300 | sed 's#.*#  <tank id="t&" litres="&"><keeper>Imke</keeper></tank>#'; echo '</tanks>'; } >f.xml`,
			`sed -i '/id="t150"/s/litres="150"/litres="9"/' f.xml`, `sed -i '/id="t150"/s/Imke/Tarek/; /id="t200"/d' f.xml`,
			`grep 't150' f.xml; wc -l <f.xml`, `<tank id="t150" litres="9"><keeper>Tarek</keeper></tank> 301`},
		{"YAML", `seq 1 60 | awk '{ printf "tank%d:\n  litres: %d\n  keeper: Imke # the usual\n", $1, $1 * 7 }' >f.yaml`,
			`sed -i 's/litres: 70$/litres: 71/' f.yaml`, `sed -i '30s/Imke/Tarek/; $a\tank61: {litres: 1}' f.yaml`,
			`sed -n '28,30p' f.yaml | tr -s ' '; tail -2 f.yaml`,
			"tank10: litres: 71 keeper: Tarek # the usual keeper: Imke # the usual tank61: {litres: 1}"},
		{"TOML", `seq 1 40 | awk '{ printf "[tank%d]\nlitres = %d # measured\nkeeper = \"Imke\"\n\n", $1, $1 * 7 }' >f.toml`,
			`sed -i 's/^litres = 70 /litres = 71 /' f.toml`, `sed -i '39s/Imke/Tarek/' f.toml`, `sed -n '37,39p' f.toml`,
			`[tank10] litres = 71 # measured keeper = "Tarek"`},
		{"settings", `seq 1 40 | awk '{ printf "[tank%d]\nlitres=%d\nkeeper=Imke\n\n", $1, $1 * 7 }' >f.ini`,
			`sed -i 's/^litres=70$/litres=71/' f.ini`, `sed -i '39s/Imke/Tarek/' f.ini`, `sed -n '37,39p' f.ini`,
			"[tank10] litres=71 keeper=Tarek"},
		{"package", `mkdir d && seq 1 50 >d/one.txt && echo '{"a":1,"b":2}' >d/two.json && (cd d && zip -q ../f.zip one.txt two.json) && rm -r d`,
			`mkdir d && (cd d && unzip -q ../f.zip && sed -i '5s/.*/MINE/' one.txt && sed -i 's/1/11/' two.json && zip -q ../f.zip one.txt two.json) && rm -r d`, `mkdir d && (cd d && unzip -q ../f.zip && sed -i '40s/.*/THEIRS/' one.txt && sed -i 's/2}/22}/' two.json && echo new >three.txt && zip -q ../f.zip one.txt two.json three.txt) && rm -r d`,
			`unzip -p f.zip one.txt | grep -c 'MINE\|THEIRS'; unzip -p f.zip two.json three.txt; unzip -tq f.zip | grep -c 'No errors'`,
			`2 {"a":11,"b":22} new 1`},
		{"archive", `mkdir d && seq 1 50 >d/one.txt && echo 'a=1' >d/two.ini && tar -C d -czf f.tar.gz one.txt two.ini && rm -r d`,
			`mkdir d && tar -C d -xzf f.tar.gz && sed -i '5s/.*/MINE/' d/one.txt && tar -C d -czf f.tar.gz one.txt two.ini && rm -r d`,
			`mkdir d && tar -C d -xzf f.tar.gz && sed -i '40s/.*/THEIRS/' d/one.txt && echo 'b=2' >>d/two.ini && tar -C d -czf f.tar.gz one.txt two.ini && rm -r d`,
			`tar -xzOf f.tar.gz one.txt | grep -c 'MINE\|THEIRS'; tar -xzOf f.tar.gz two.ini`, "2 a=1 b=2"},
		{"packed text", `cp /usr/share/common-licenses/GPL-3 f.txt && gzip -n f.txt`,
			`gunzip f.txt.gz && sed -i '10s/.*/MINE/' f.txt && gzip -n f.txt`,
			`gunzip f.txt.gz && sed -i '200s/.*/THEIRS/' f.txt && gzip -n f.txt`,
			`zcat f.txt.gz | grep -c 'MINE\|THEIRS'`, "2"},
		{"model", `{ for i in 1 2 3 4; do echo "v $i 0 0"; done; echo 'o rock'; echo 'f 1 2 3'; echo 'o sand'; echo 'f 2 3 4'; } >f.obj`,
			`sed -i 's/^v 1 0 0/v 1 5 0/' f.obj`, `sed -i 's/^v 4 0 0/v 4 6 0/' f.obj`, `grep '^v [14]' f.obj`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := empty(t)
			p.call("sh", "-c", c.base)
			p.ok("begin", "--as", "Imke")
			p.unlocked()
			p.ok("commit", "-m", "First")
			p.ok("branch", "theirs")
			p.call("sh", "-c", c.mine)
			p.ok("commit", "-m", "mine")
			p.ok("go", "theirs")
			p.call("sh", "-c", c.theirs)
			p.ok("commit", "-m", "theirs")
			p.ok("go", "main")
			r := p.run("merge", "theirs")
			if c.want == "" { // a kind that is read and not merged: one side or the other, and it says so
				if r.status != 3 {
					t.Errorf("status %d\n%s%s", r.status, r.out, r.err)
				}
				return
			}
			if r.status != 0 {
				t.Fatalf("status %d\n%s%s", r.status, r.out, r.err)
			}
			cmd := exec.Command("sh", "-c", c.check)
			cmd.Dir = p.dir
			out, err := cmd.CombinedOutput()
			if got := strings.Join(strings.Fields(string(out)), " "); err != nil || got != c.want {
				t.Errorf("the outcome is %q, want %q (%v)", got, c.want, err)
			}
		})
	}
}

// TestSchemasAlteredByTheEngineMerge lets SQLite's own program alter one database on two
// branches: the merge has both.
func TestSchemasAlteredByTheEngineMerge(t *testing.T) {
	sqlite := others(t, "sqlite3")
	p := empty(t)
	p.call(sqlite, "dev.db", "create table tank (id integer primary key, name text not null, litres integer); create table feeding (id "+
		"integer primary key, food text); create view big as select * from tank where litres > 1000")
	p.ok("begin", "--as", "Imke")
	p.ok("env", "add", "dev", "sqlite:dev.db", "--into", "database")
	p.ok("capture", "dev")
	p.ok("commit", "-m", "First")
	data := p.read("dev.db")
	mine := "alter table tank add column keeper text; create index by_food on feeding (food)"
	theirs := "alter table tank add column depth real not null default 2; drop view big"
	p.ok("branch", "theirs")
	p.call(sqlite, "dev.db", mine)
	p.ok("capture", "dev")
	p.ok("commit", "-m", "mine")
	p.ok("go", "theirs")
	p.write("dev.db", data)
	p.call(sqlite, "dev.db", theirs)
	p.fails(4, "Which of the two it stood on can't be told", "capture", "dev") // it was brought back from a copy
	p.ok("capture", "dev", "--stood-on", "main:1")
	p.ok("commit", "-m", "theirs")
	p.ok("go", "main")
	p.ok("merge", "theirs")
	p.ok("env", "add", "fresh", "sqlite:fresh.db", "--into", "database")
	p.ok("deploy", "fresh")
	cmd := exec.Command(sqlite, p.path("fresh.db"),
		"select name from pragma_table_info('tank') order by name; select name from sqlite_master where type = 'index' and sql is not "+
			"null; select count(*) from sqlite_master where type = 'view'")
	out, err := cmd.Output()
	if got := strings.Join(strings.Fields(string(out)), " "); err != nil || got != "depth id keeper litres name by_food 0" {
		t.Errorf("the merged database: %q, %v", got, err)
	}
}
