// Command serving is what the script bench/server holds figures against, and its crowd. Usage:
//
//	serving line MS ADDRESS                a line to an address that carries every byte so many ms later; prints its own
//	serving curl FILE up|down              seconds that curl takes to or from a file server of the Go library
//	serving sum FILE                       seconds that one core takes for the SHA-256 of a file
//	serving crowd NUMBER FOLDER            clients inside of one process act at a server
package main

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/server"
)

func main() {
	var err error
	switch arg := os.Args[1:]; arg[0] {
	case "line":
		var ms int
		if ms, err = strconv.Atoi(arg[1]); err == nil {
			err = line(time.Duration(ms)*time.Millisecond, arg[2])
		}
	case "curl":
		err = curl(arg[1], arg[2] == "up")
	case "sum":
		err = sum(arg[1])
	case "crowd":
		var n int
		if n, err = strconv.Atoi(arg[1]); err == nil {
			err = crowd(n, arg[2])
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// line carries bytes between connections and an address, each so much later than it came.
func line(delay time.Duration, to string) error {
	in, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(in.Addr())
	for {
		c, err := in.Accept()
		if err != nil {
			return err
		}
		s, err := net.Dial("tcp", to)
		if err != nil {
			return err
		}
		go carry(c, s, delay)
		go carry(s, c, delay)
	}
}

// piece is what came at a time.
type piece struct {
	data []byte
	due  time.Time
}

func carry(from, to net.Conn, delay time.Duration) {
	pieces := make(chan piece, 1<<12)
	go func() {
		for p := range pieces {
			time.Sleep(time.Until(p.due))
			if _, err := to.Write(p.data); err != nil {
				from.Close()
			}
		}
		to.Close()
	}()
	for {
		buffer := make([]byte, 64<<10)
		n, err := from.Read(buffer)
		if n > 0 {
			pieces <- piece{buffer[:n], time.Now().Add(delay)}
		}
		if err != nil {
			close(pieces)
			return
		}
	}
}

// curl times curl against a file server of the Go library.
func curl(file string, up bool) error {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Method == http.MethodPut {
			out, err := os.Create(file + ".sent")
			if err == nil {
				_, err = io.Copy(out, q.Body)
			}
			if err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
			}
			out.Close()
			os.Remove(file + ".sent")
			return
		}
		http.ServeFile(w, q, file)
	}))
	defer s.Close()
	args := []string{"-sS", "-o", file + ".got", s.URL}
	if up {
		args = []string{"-sS", "-T", file, "-H", "Expect:", s.URL}
	}
	began := time.Now()
	err := exec.Command("curl", args...).Run()
	fmt.Printf("%.2f\n", time.Since(began).Seconds())
	os.Remove(file + ".got")
	return err
}

func sum(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	began := time.Now()
	h := sha256.New()
	_, err = io.CopyBuffer(h, f, make([]byte, 1<<20))
	fmt.Printf("%.2f\n", time.Since(began).Seconds())
	return err
}

// each is how many acts each client does.
const each = 20

// crowd lets clients act at a server: a lock, a sign of life, a commit on a branch of their own, the lock given back; and
// holds the rate against transactions of as many rows on a database of its own, each durable.
func crowd(n int, dir string) error {
	ctx := context.Background()
	s, err := server.Open(ctx, filepath.Join(dir, "data"), server.Options{Kinds: all.Table()})
	if err != nil {
		return err
	}
	defer s.Close()
	h := httptest.NewServer(s.Handler())
	defer h.Close()
	stores := make([]*remote.Store, n)
	for i := range stores {
		if stores[i], err = join(ctx, s, h.URL, dir, i); err != nil {
			return err
		}
		defer stores[i].Close()
	}
	var mu sync.Mutex
	var took []time.Duration
	var failed error
	began := time.Now()
	var all sync.WaitGroup
	for i, store := range stores {
		all.Go(func() {
			for k := range each {
				at := time.Now()
				err := act(ctx, store, i, k)
				mu.Lock()
				took = append(took, time.Since(at))
				if err != nil {
					failed = err
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	ours := float64(len(took)) / time.Since(began).Seconds()
	if failed != nil {
		return failed
	}
	bare, err := durable(ctx, filepath.Join(dir, "bare.db"))
	if err != nil {
		return err
	}
	slices.Sort(took)
	fmt.Printf("%d clients: %.0f acts a second, against %.0f durable transactions of SQLite: %.2f of them (goal 0.5); "+
		"99 %% below %.0f ms (goal 250), half below %.0f ms\n", n, ours, bare, ours/bare,
		took[len(took)*99/100].Seconds()*1000, took[len(took)/2].Seconds()*1000)
	return nil
}

func join(ctx context.Context, s *server.Server, url, dir string, i int) (*remote.Store, error) {
	name := fmt.Sprint("P", i)
	invitation, _, err := s.Book.Invite(ctx, name, false, time.Hour, "a test")
	if err != nil {
		return nil, err
	}
	calls, err := remote.NewCaller(url, remote.Signed{})
	if err != nil {
		return nil, err
	}
	var in wire.LoggedIn
	form := wire.Login{Name: name, Secret: "four words like these", Invitation: invitation, Machine: "bench"}
	if err := calls.Ask(ctx, wire.API+"/"+wire.CallJoin, form, &in); err != nil {
		return nil, err
	}
	who := remote.Signed{Token: in.Token, Person: in.Person, ID: in.ID}
	if i == 0 {
		own, err := remote.NewCaller(url, who)
		if err != nil {
			return nil, err
		}
		if err := own.Ask(ctx, wire.API+"/"+wire.CallProjects+"/add", wire.Project{Name: "reef"}, &struct{}{}); err != nil {
			return nil, err
		}
	}
	return remote.Open(ctx, remote.Address{Server: url, Project: "reef"}, who, filepath.Join(dir, "caches"), time.Now)
}

// act does one of the things that people do.
func act(ctx context.Context, s *remote.Store, who, n int) error {
	name := fmt.Sprint("P", who)
	address := fmt.Sprintf("art/%d.bin", who)
	do := func(a chest.Act) error {
		_, err := s.Do(ctx, chest.Request{Key: rand.Text(), Actor: chest.Actor{Person: name, Workspace: name}, Act: a})
		return err
	}
	switch n % 4 {
	case 0:
		return do(chest.TakeLocks{Wanted: []ledger.Lock{{Address: address, Holder: name, Workspace: name}}, Now: time.Now()})
	case 1:
		return s.Tell(ctx, chest.News{Workspace: ledger.Workspace{Name: name, Person: name},
			Put: []ledger.Edit{{Workspace: name, Path: address, State: "edited"}}})
	case 2:
		return do(chest.OpenReview{Review: ledger.Review{Title: "x", Author: name, State: ledger.ReviewOpen}})
	}
	return do(chest.FreeLocks{Holder: name, Workspace: name, Addresses: []string{address}, Now: time.Now()})
}

// durable gives how many transactions of four rows a second a database takes, each on the disk before the next.
func durable(ctx context.Context, file string) (float64, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_txlock=immediate&_pragma=journal_mode(wal)&_pragma=synchronous(full)")
	if err != nil {
		return 0, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.ExecContext(ctx, "create table rows (id integer primary key, text text not null)"); err != nil {
		return 0, err
	}
	const many = 2000
	began := time.Now()
	for range many {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return 0, err
		}
		for range 4 {
			if _, err := tx.ExecContext(ctx, "insert into rows (text) values (?)", rand.Text()); err != nil {
				return 0, err
			}
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
	}
	return many / time.Since(began).Seconds(), nil
}
