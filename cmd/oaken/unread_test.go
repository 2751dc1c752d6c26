package main

import (
	"os"
	"strings"
	"testing"
)

// TestWhatCantBeReadIsNeverAlike damages a file of a declared folder and takes another one
// away: no proof may say yes, and all say which file and line.
func TestWhatCantBeReadIsNeverAlike(t *testing.T) {
	for _, kind := range []string{"schema", "postgres-schema", "mariadb-schema"} {
		p := empty(t)
		p.write("oaken.toml", "project = \"Tanks\"\n\n[[artifact]]\npath = \"database\"\nkind = \""+kind+"\"\n")
		p.write("database/tank.sql", "create table tank (id integer primary key, name text);\n")
		p.write("database/visitor.sql", "create table visitor (id integer primary key);\n")
		if kind == "schema" {
			p.write("oaken.toml", p.read("oaken.toml")+
				"\n[[environment]]\nname = \"v\"\ntarget = \"sqlite:../v.db\"\ninto = \"database\"\n")
		}
		p.ok("begin", "--as", "Imke")
		p.ok("commit", "-m", "First")
		states := []string{"main", "release:one"}
		p.ok("release", "one", "-m", "One")
		if kind == "schema" {
			p.ok("deploy", "v")
			states = append(states, "env:v")
			if r := p.run("verify", "work", "env:v"); r.status != 0 || !strings.Contains(r.out, "Yes: both hold the same.") {
				t.Fatalf("before: %s", r.out)
			}
		}
		if kind == "schema" { // what is not committed is looked at, and never deployed
			p.write("database/tank.sql", "create table tank (id integer primary key, name text, depth integer);\n")
			p.says(p.ok("deploy", "v", "work", "--dry-run"), "add the column integer", "this was a dry run")
			p.fails(4, "What is not committed can't be deployed", "deploy", "v", "work")
			p.ok("discard", "database")
		}
		p.write("database/tank.sql", p.read("database/tank.sql")+"create tabel (\n")
		if err := os.Remove(p.path("database/visitor.sql")); err != nil {
			t.Fatal(err)
		}
		for _, s := range states {
			r := p.run("verify", "work", s)
			if r.status != 1 || !strings.Contains(r.out, "No: database/tank.sql can't be read, line 2") || strings.Contains(r.out, "Yes") {
				t.Errorf("%s, verify work %s: %d, %s", kind, s, r.status, r.out)
			}
			if r := p.run("compare", "work", s, "--check"); r.status != 1 || !strings.Contains(r.out, "line 2") ||
				strings.Contains(r.out, "only bytes without meaning") {
				t.Errorf("%s, compare work %s: %d, %s", kind, s, r.status, r.out)
			}
		}
		// Both hold the same bytes, which nobody can read: they are alike all the same.
		p.ok("commit", "-m", "Damaged")
		if r := p.run("verify", "work", "main"); r.status != 0 {
			t.Errorf("%s: equal bytes differ: %s", kind, r.out)
		}
		// Both can't be read, and differ.
		p.write("database/visitor.sql", "create table visitor (id integer primary key);\n")
		if r := p.run("verify", "work", "main"); r.status != 1 {
			t.Errorf("%s: two that can't be read are alike: %s", kind, r.out)
		}
		if kind == "schema" {
			p.fails(4, "tank.sql, line 2", "deploy", "v")
			if r := p.run("drift", "v", "--check"); r.status != 0 {
				t.Errorf("what was deployed is there still: %s", r.out)
			}
		}
	}
}

// TestAnEmptyStageIsTold asks what is owed before anything was deployed.
func TestAnEmptyStageIsTold(t *testing.T) {
	p := empty(t)
	p.write("oaken.toml", "project = \"Tanks\"\n"+
		"\n[[environment]]\nname = \"dev\"\ntarget = \"folder:../dev\"\ninto = \"files\"\ntier = \"development\"\n"+
		"\n[[environment]]\nname = \"test\"\ntarget = \"folder:../test\"\ninto = \"files\"\ntier = \"test\"\n"+
		"\n[[environment]]\nname = \"live\"\ntarget = \"folder:../live\"\ninto = \"files\"\ntier = \"live\"\n"+
		"\n[[pipeline.move]]\nfrom = \"dev\"\nto = \"test\"\n\n[[pipeline.move]]\nfrom = \"test\"\nto = \"live\"\n")
	p.write("files/reef.txt", "A reef\n")
	p.ok("begin", "--as", "Imke")
	p.ok("commit", "-m", "First")
	p.says(p.ok("owed"), "Nothing is owed, as far as is known.",
		"Nothing was deployed to test, live yet: what is there, and owed for it, is not known.")
	if o := p.object("owed"); len(o["empty"].([]any)) != 2 {
		t.Errorf("%v", o)
	}
	for _, stage := range []string{"dev", "test", "live"} {
		if err := os.MkdirAll(p.path("../"+stage), 0o777); err != nil {
			t.Fatal(err)
		}
		p.ok("deploy", stage)
	}
	if out := p.ok("owed"); out != "Nothing is owed: what later environments have has come back everywhere.\n" {
		t.Errorf("%s", out)
	}
}

// TestACaptureDoesNotEmptyAFolder points an environment to a database that has next to
// nothing of what is declared.
func TestACaptureDoesNotEmptyAFolder(t *testing.T) {
	p := empty(t)
	p.write("oaken.toml", "project = \"Tanks\"\n\n[[artifact]]\npath = \"database\"\nkind = \"schema\"\n\n[[environment]]\nname = \"v\"\n"+
		"target = \"sqlite:../v.db\"\ninto = \"database\"\n")
	for _, name := range []string{"tank", "visitor", "feeding", "keeper"} {
		p.write("database/"+name+".sql", "create table "+name+" (id integer primary key);\n")
	}
	p.ok("begin", "--as", "Imke")
	p.ok("commit", "-m", "First")
	p.ok("deploy", "v")
	p.sql("../v.db", "drop table keeper; drop table visitor")
	p.ok("capture", "v") // half of them
	p.ok("discard", "database")
	p.sql("../v.db", "drop table feeding")
	p.fails(4, "v lacks what 3 of 4 files in database declare", "capture", "v")
	p.fails(4, "nothing was captured", "capture", "v", "--removes", "2")
	p.ok("capture", "v", "--removes", "3", "--commit", "-m", "One table is left")
	if _, err := os.Stat(p.path("database/tank.sql")); err != nil || strings.Contains(p.tree("database"), "feeding") {
		t.Errorf("captured: %s, %v", p.tree("database"), err)
	}
}

// TestABrokenManifestLocksNobodyOut breaks oaken.toml, and brings it back with what is at hand.
func TestABrokenManifestLocksNobodyOut(t *testing.T) {
	p := empty(t)
	p.write("reef.txt", "A reef\n")
	p.write("trash.tmp", "x")
	p.write("oaken.toml", "project = \"Reef\"\nleave-out = [\"*.tmp\"]\n")
	p.ok("begin", "--as", "Imke")
	p.ok("commit", "-m", "First")
	p.write("oaken.toml", "project = \n")
	p.write("reef.txt", "A larger reef\n")
	for _, call := range [][]string{{"commit", "-m", "x"}, {"sync"}, {"lock", "reef.txt"}} {
		p.fails(2, "oaken.toml can't be read: line 1", call...)
	}
	r := p.run("changes")
	if r.status != 0 || !strings.Contains(r.err, "The rules of main:1 count.") || !strings.Contains(r.out, "reef.txt") ||
		strings.Contains(r.out, "trash.tmp") {
		t.Errorf("changes: %d %s%s", r.status, r.out, r.err)
	}
	p.says(p.ok("history", "oaken.toml"), "First")
	p.says(p.ok("compare", "main", "work", "--lines"), "project =", "A larger reef")
	p.ok("restore", "reef.txt", "--from", "main")
	if p.read("reef.txt") != "A reef\n" {
		t.Error("restore did not bring a file back")
	}
	p.ok("discard", "oaken.toml")
	p.write("reef.txt", "A larger reef\n")
	p.ok("commit", "-m", "It works again")
}
