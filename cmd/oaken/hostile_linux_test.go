package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite"
)

const million = 1_000_000

func squeezed(data string) string {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	_, _ = w.Write([]byte(data))
	_ = w.Close()
	return b.String()
}

// numbered joins what a form gives for each number.
func numbered(n int, form string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, form, i)
	}
	return b.String()
}

func zipOf(n int, body string) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := range n {
		f, _ := w.Create(fmt.Sprintf("p%d.json", i))
		_, _ = f.Write([]byte(body))
	}
	_ = w.Close()
	return b.String()
}

func tarOf(n int) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := range n {
		_ = w.WriteHeader(&tar.Header{Name: fmt.Sprint("f", i), Size: 1, Mode: 0o644})
		_, _ = w.Write([]byte("x"))
	}
	_ = w.Close()
	return b.String()
}

// rowsOf gives a statement that puts rows 1 to n into the table t.
func rowsOf(n int) string {
	return fmt.Sprintf("insert into t(a) select value from (with recursive r(value) as (select 1 union all select value+1 from r where "+
		"value<%d) select value from r)", n)
}

// hostileDatabases are files of SQLite that compute more than they hold.
var hostileDatabases = map[string][]string{
	"blob.db":  {"create table t(a integer primary key, b as (zeroblob(500000000)))", rowsOf(3)},
	"text.db":  {"create table t(a integer primary key, b as (hex(zeroblob(400000000))))", rowsOf(1)},
	"sum.db":   {"create table t(a integer primary key, b as (hex(zeroblob(20000))))", rowsOf(60000)},
	"slow.db":  {"create table t(a integer primary key, b as (length(replace(hex(zeroblob(15000)), '0', '11'))))", rowsOf(50000)},
	"rows.db":  {"create table t(a integer primary key)", rowsOf(120000)},
	"cells.db": {"create table t(a integer primary key, b,c,d,e,f,g,h,i,j)", rowsOf(50000)},
	"view.db": {"create table t(a integer primary key)",
		"create view v as with recursive r(x) as (select 1 union all select x+1 from r) select * from r"},
}

// hostileFiles are files of about a megabyte that a reader could be lost in.
var hostileFiles = map[string]func() string{
	"numbers.json":   func() string { return "[1" + strings.Repeat(",1", million/2) + "]" },
	"lists.json":     func() string { return "[[]" + strings.Repeat(",[]", million/3) + "]" },
	"members.json":   func() string { return "{" + numbered(million/11, `"a%d":1,`) + `"z":1}` },
	"deep.json":      func() string { return strings.Repeat("[", million/2) + strings.Repeat("]", million/2) },
	"nested.json":    func() string { return nestedJSON(80, 5*million) },
	"markup.json":    func() string { return `{"a":"<r>` + strings.Repeat("<a/>", million/5) + `</r>"}` },
	"big.json.gz":    func() string { return squeezed("[1" + strings.Repeat(",1", 25*million) + "]") },
	"big.xml.gz":     func() string { return squeezed("<r>" + strings.Repeat("<a/>", 12*million) + "</r>") },
	"big.txt.gz":     func() string { return squeezed(strings.Repeat("a\n", 25*million)) },
	"big.csv.gz":     func() string { return squeezed("a,b\n" + strings.Repeat("1,2\n", 12*million)) },
	"twice.gz":       func() string { return squeezed(squeezed(strings.Repeat("\x00", 100*million))) },
	"parts.zip":      func() string { return zipOf(250, "[1"+strings.Repeat(",1", million/2)+"]") },
	"names.zip":      func() string { return zipOf(8000, "1") },
	"names.tar.gz":   func() string { return squeezed(tarOf(40000)) },
	"tags.xml":       func() string { return "<r>" + strings.Repeat("<a/>", million/4) + "</r>" },
	"same.xml":       func() string { return "<r>" + strings.Repeat(`<a id="1"/>`, million/11) + "</r>" },
	"deep.xml":       func() string { return strings.Repeat("<a>", million/7) + strings.Repeat("</a>", million/7) },
	"attributes.xml": func() string { return "<r " + numbered(million/10, `a%d="" `) + "/>" },
	"list.yaml":      func() string { return strings.Repeat("- a\n", million/4) },
	"deep.yaml":      func() string { return strings.Repeat("[", million/2) },
	"aliases.yaml":   func() string { return aliases() },
	"keys.toml":      func() string { return numbered(million/10, "a%d=1\n") },
	"tables.toml":    func() string { return numbered(million/12, "[s%d]\na=1\n") },
	"keys.ini":       func() string { return "[s]\n" + numbered(million/10, "a%d=1\n") },
	"rows.csv":       func() string { return strings.Repeat("a\n", million/2) },
	"copies.csv":     func() string { return "id,a\n" + strings.Repeat("1,2\n", million/4) },
	"cells.csv":      func() string { return strings.Repeat(",", million) + "\n" },
	"lines.txt":      func() string { return strings.Repeat("\n", million) },
}

func nestedJSON(parts, size int) string {
	packed := base64.StdEncoding.EncodeToString([]byte(squeezed("[1" + strings.Repeat(",1", size) + "]")))
	return "{" + numbered(parts, `"p%d":"`+packed+`",`) + `"z":1}`
}

func aliases() string {
	text := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'k'; c++ {
		text += fmt.Sprintf("%c: &%c [%s]\n", c, c, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c,", c-1), 9), ","))
	}
	return text
}

// TestHostileFilesAreBounded lists changes of files that are made to be too much, new ones and edited
// ones: each takes little memory, and ends. With -v it says what each took; bench/hostile shows that.
func TestHostileFilesAreBounded(t *testing.T) {
	const most = 300 << 10 // KiB of memory
	p := empty(t)
	p.ok("begin")
	p.ok("commit", "-m", "Nothing yet")
	listed := func(name, when string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, program, "changes")
		var errs bytes.Buffer
		cmd.Dir, cmd.Stderr = p.dir, &errs
		begun := time.Now()
		err := cmd.Run()
		took := time.Since(begun)
		used := cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss
		t.Logf("%-16s %-7s %6.2f s %5d MiB", name, when, took.Seconds(), used>>10)
		if err != nil || used > most {
			t.Errorf("%s, %s: %v, %d MiB, %v: %.300s", name, when, err, used>>10, took, errs.String())
		}
	}
	try := func(name string) {
		listed(name, "new")
		p.ok("commit", "-m", name)
		f, err := os.OpenFile(p.path(name), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = f.WriteString("\n")
		_ = f.Close()
		listed(name, "edited")
		p.ok("discard", name)
		os.Remove(p.path(name))
		p.ok("commit", "-m", "No "+name)
	}
	zoo := &project{t: t, dir: t.TempDir()}
	zoo.made("hostile")
	files, err := os.ReadDir(zoo.dir)
	if err != nil || len(files) < len(hostileFiles)+len(hostileDatabases) {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, f := range files {
		p.call("mv", zoo.path(f.Name()), f.Name())
		try(f.Name())
	}
}

func init() {
	makers["hostile"] = func(folder string) {
		for name, make := range hostileFiles {
			if err := os.WriteFile(filepath.Join(folder, name), []byte(make()), 0o666); err != nil {
				panic(err)
			}
		}
		for name, statements := range hostileDatabases {
			db, err := sql.Open("sqlite", filepath.Join(folder, name))
			if err != nil {
				panic(err)
			}
			for _, s := range statements {
				if _, err := db.Exec(s); err != nil {
					panic(name + ": " + s + ": " + err.Error())
				}
			}
			if err := db.Close(); err != nil {
				panic(err)
			}
		}
	}
}
