package main

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	_ "modernc.org/sqlite"
)

// formerChest makes a chest what a program of format 2 left: its bytes in packs, its records of format 6.
func formerChest(t *testing.T, dir string) {
	t.Helper()
	do := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	names, err := filepath.Glob(filepath.Join(dir, "bales", "*"))
	do(err)
	do(os.Mkdir(filepath.Join(dir, "packs"), 0o777))
	for _, name := range names {
		data, err := os.ReadFile(name)
		do(err)
		ending, magic := ".pack", "OAKPACK\x02"
		if strings.HasSuffix(name, ".keys") {
			ending, magic = ".index", "OAKINDX\x01"
		}
		stem := strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
		do(os.WriteFile(filepath.Join(dir, "packs", stem+ending), append([]byte(magic), data[8:]...), 0o444))
	}
	do(os.RemoveAll(filepath.Join(dir, "bales")))
	do(os.WriteFile(filepath.Join(dir, "format"), []byte("oaken chest 2\n"), 0o666))
	db, err := sql.Open("sqlite", filepath.Join(dir, "ledger.db"))
	do(err)
	rs, err := db.Query("select tbl_name from sqlite_master where type = 'index' and name like '%\\_at' escape '\\'")
	do(err)
	var moments []string
	for rs.Next() {
		var table string
		do(rs.Scan(&table))
		moments = append(moments, "drop index "+table+"_at", "alter table "+table+" drop column at")
	}
	do(rs.Close())
	moments = append(slices.DeleteFunc(moments, func(s string) bool { return strings.Contains(s, "gone") }), "drop table moments",
		"drop table gone")
	for _, s := range append(moments, "drop table planned", "drop table bundles", "alter table approvals drop column plan",
		"alter table approvals drop column gate", "alter table accounts drop column plan", "alter table accounts drop column after",
		"drop table leases", "drop table answers", "drop table trail", "update format set version = 6") {
		_, err := db.Exec(s)
		do(err)
	}
	do(db.Close())
}

// TestAFormerChestGoesOn works on in a chest of format 2: nothing is lost, new contents go into bales, and tidying
// writes the former ones anew.
func TestAFormerChestGoesOn(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("a.txt", "one\n")
	p.write("b.txt", strings.Repeat("kelp and sand ", 9000))
	p.ok("begin", "--chest", "../chest")
	p.ok("commit", "-m", "First")
	p.write("a.txt", "two\n")
	p.ok("commit", "-m", "Second")
	p.ok("release", "spring")
	chest := p.path("../chest")
	formerChest(t, chest)
	p.says(p.ok("changes"), "Nothing has changed")
	if data, _ := os.ReadFile(filepath.Join(chest, "format")); string(data) != "oaken chest 3\n" {
		t.Errorf("the format is %q", data)
	}
	p.says(p.ok("health"), "The chest is whole")
	p.write("a.txt", "three\n")
	p.ok("commit", "-m", "Third")
	for _, pattern := range []string{"packs/*.pack", "bales/*.bale"} {
		if names, _ := filepath.Glob(filepath.Join(chest, pattern)); len(names) == 0 {
			t.Errorf("there are no %s", pattern)
		}
	}
	other := p.beside("second")
	if other.read("b.txt") != p.read("b.txt") {
		t.Error("another workspace got something else")
	}
	p.ok("tidy")
	if _, err := os.Stat(filepath.Join(chest, "packs")); err == nil {
		t.Error("the former bytes are still there")
	}
	p.says(p.ok("health"), "The chest is whole")
	p.says(p.ok("compare", "release:spring", "main"), "a.txt")
	p.says(p.ok("history"), "First", "Second", "Third")
}

// TestAChestOfANewerLedgerIsRefused says what to do about it.
func TestAChestOfANewerLedgerIsRefused(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("a.txt", "one\n")
	p.ok("begin", "--chest", "../chest")
	db, err := sql.Open("sqlite", p.path("../chest/ledger.db"))
	if err == nil {
		_, err = db.Exec("update format set version = 99")
	}
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	p.fails(5, "Use a newer oaken", "changes")
}

// TestLostKeysAreRebuilt loses and damages files of keys: content is read, or said to be missing, and health
// mends it.
func TestLostKeysAreRebuilt(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("a.txt", "one\n")
	p.ok("begin")
	p.ok("commit", "-m", "First")
	p.write("a.txt", "two\n")
	p.ok("commit", "-m", "Second")
	names, err := filepath.Glob(p.path(".oaken/chest/bales/*.keys"))
	if err != nil || len(names) < 2 {
		t.Fatal(names, err)
	}
	os.Remove(names[0])
	os.Chmod(names[1], 0o644)
	if err := os.WriteFile(names[1], []byte("rubbish"), 0o644); err != nil {
		t.Fatal(err)
	}
	if r := p.run("health"); r.status != 6 || !strings.Contains(r.out, filepath.Base(names[1])+"  it is no file of keys") ||
		!strings.Contains(r.out, "no keys belong to it") {
		t.Errorf("health: %d\n%s", r.status, r.out)
	}
	p.says(p.ok("health", "--repair"), "whole")
	p.says(p.ok("health"), "The chest is whole")
	p.says(p.ok("compare", "main:1", "main:2"), "a.txt")
}

// TestTidyingKeepsLargeFolders tidies a chest whose commits have a folder of so many files that its own record is cut
// into chunks.
func TestTidyingKeepsLargeFolders(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	for i := range 9000 {
		p.write(fmt.Sprintf("many/file number %d.txt", i), "x")
	}
	p.ok("begin")
	p.ok("commit", "-m", "Many")
	p.write("many/file number 7.txt", "y")
	p.ok("commit", "-m", "One of them")
	os.RemoveAll(p.path("many"))
	p.write("a.txt", "a")
	p.ok("commit", "-m", "None of them")
	p.ok("tidy", "--grace", "0s")
	p.says(p.ok("health"), "The chest is whole")
	p.ok("restore", "many", "--from", "main:2")
	if p.read("many/file number 7.txt") != "y" || p.read("many/file number 8.txt") != "x" {
		t.Error("the files are not what they were")
	}
}
