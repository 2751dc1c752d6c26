package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/schematest"
)

// server gives the way to a server that tests may make databases on.
func server(t testing.TB) *mysql.Config {
	t.Helper()
	dsn := os.Getenv("OAKEN_MARIADB")
	if dsn == "" {
		dsn = "root@tcp(127.0.0.1:3306)/"
	}
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		t.Fatal(err)
	}
	db, err := Open(context.Background(), config.Clone())
	if err != nil {
		t.Skipf("no MariaDB at %s: set OAKEN_MARIADB to the address of one where databases may be made (%v)", config.Addr, err)
	}
	db.Close()
	return config
}

// database makes an empty database.
func database(t testing.TB) (string, *sql.DB) {
	t.Helper()
	config := server(t)
	admin, err := Open(context.Background(), config.Clone())
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	name := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	run(t, admin, "create database "+name)
	own := config.Clone()
	own.DBName = name
	db, err := Open(context.Background(), own)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		run(t, db, "drop database "+name)
		db.Close()
	})
	return name, db
}

func run(t testing.TB, q Querier, text string) {
	t.Helper()
	if _, err := q.ExecContext(context.Background(), text); err != nil {
		t.Fatalf("%v\n%s", EngineError(err), text)
	}
}

// own is a call of one of the engine's own programs on a server.
func own(t testing.TB, program string, args ...string) *exec.Cmd {
	t.Helper()
	config := server(t)
	host, port, err := net.SplitHostPort(config.Addr)
	if err != nil {
		t.Fatal(err)
	}
	return exec.Command(program, append([]string{"--user=" + config.User, "--host=" + host, "--port=" + port,
		"--default-character-set=utf8mb4"}, args...)...)
}

// fill runs a file with the engine's own client.
func fill(t testing.TB, name, file string) {
	t.Helper()
	in, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	cmd := own(t, "mariadb", name)
	cmd.Stdin = bytes.NewReader(in)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

func reading(t testing.TB, q Querier) *Catalog {
	t.Helper()
	c, err := Read(context.Background(), q)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func different(a, b *element.Element) string {
	d := element.Compare(a, b)
	if d == nil {
		return ""
	}
	var out strings.Builder
	for i, c := range d.Changes("db") {
		if i == 30 {
			break
		}
		fmt.Fprintf(&out, "%s %s: %s → %s\n", c.Address, c.Kind, c.From, c.To)
	}
	return out.String()
}

// counters is what may differ: where counting stands, who made it, and how the text of a
// trigger is laid out.
var counters = regexp.MustCompile(` AUTO_INCREMENT=\d+|DEFINER=\S+ |follows \S+ `)

var trigger = regexp.MustCompile(`(?s)/\*!50003 CREATE\*/ /\*!50017.*?;;\n`)

// dump is the engine's own account of a database.
func dump(t testing.TB, name string) string {
	t.Helper()
	cmd := own(t, "mariadb-dump", "--no-data", "--routines", "--events", "--triggers", "--skip-comments", "--skip-dump-date", name)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	out = trigger.ReplaceAllFunc(out, func(text []byte) []byte {
		return append(bytes.ToLower(bytes.Join(bytes.Fields(text), []byte(" "))), '\n')
	})
	return sortedKeys(counters.ReplaceAllString(strings.ReplaceAll(string(out), name, "NAME"), ""))
}

// sortedKeys sorts the keys of each table, which stand in the order in which they were
// made.
func sortedKeys(dump string) string {
	lines := strings.Split(dump, "\n")
	for from := 0; from < len(lines); from++ {
		to := from
		for ; to < len(lines) && strings.Contains(strings.SplitN(lines[to], "`", 2)[0], "KEY ") &&
			strings.HasPrefix(lines[to], "  "); to++ {
			lines[to] = strings.TrimSuffix(lines[to], ",")
		}
		slices.Sort(lines[from:to])
		from = max(from, to-1)
	}
	return strings.Join(lines, "\n")
}

func folder(root *element.Element) declared.Files { return Update(nil, &Declared{}, root) }

func TestEverythingIsCapturedAndDeclared(t *testing.T) {
	name, db := database(t)
	fill(t, name, "testdata/everything.sql")
	live := reading(t, db)
	files := folder(live.Root)
	if again := folder(reading(t, db).Root); !maps.EqualFunc(files, again, bytes.Equal) {
		t.Error("two captures of one database differ")
	}
	d, err := Parse(files)
	if err != nil {
		t.Fatal(err)
	}
	if diff := different(live.Root, d.Root); diff != "" {
		t.Errorf("what the files say is not what was captured:\n%s", diff)
	}
	second, other := database(t)
	loaded, err := Load(context.Background(), other, d)
	if err != nil {
		t.Fatal(err)
	}
	if diff := different(live.Root, loaded.Root); diff != "" {
		t.Errorf("loading the files makes something else:\n%s", diff)
	}
	if a, b := dump(t, name), dump(t, second); a != b {
		t.Errorf("the engine's own dumps differ:\n%s", schematest.FirstDifference(a, b))
	}
}
