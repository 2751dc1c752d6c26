package watch

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func write(t *testing.T, file string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("x"), 0o666); err != nil {
		t.Fatal(err)
	}
}

// told waits for word of a change.
func told(f *files, within time.Duration) bool {
	select {
	case <-f.changed:
		return true
	case <-time.After(within):
		return false
	}
}

func TestChangesAreToldOnceTheyEnd(t *testing.T) {
	root := t.TempDir()
	write(t, filepath.Join(root, "a", "one.txt"))
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	f, err := follow(ctx, root, func(rel string) bool { return strings.HasPrefix(rel, "skip") }, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if f.polling {
		t.Skip("this system has no room to watch folders")
	}
	if told(f, 2*settleTime) {
		t.Error("a change is told before there is one")
	}
	for range 5 {
		write(t, filepath.Join(root, "a", "one.txt"))
		time.Sleep(settleTime / 10)
	}
	if !told(f, 5*time.Second) || told(f, 2*settleTime) {
		t.Error("a burst of writes is not told once")
	}
	write(t, filepath.Join(root, "skip", "two.txt"))
	write(t, filepath.Join(root, "skip", "deep", "two.txt"))
	if told(f, 2*settleTime) {
		t.Error("what is left out is told")
	}
	write(t, filepath.Join(root, "new", "deep", "three.txt"))
	if !told(f, 5*time.Second) {
		t.Error("a new folder is not told")
	}
	time.Sleep(settleTime)
	write(t, filepath.Join(root, "new", "deep", "four.txt"))
	if !told(f, 5*time.Second) {
		t.Error("a file in a new folder is not told")
	}
	if err := os.RemoveAll(filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	if !told(f, 5*time.Second) {
		t.Error("what goes is not told")
	}
}

func TestWithoutEventsTheFilesAreLookedAt(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	f := &files{root: t.TempDir(), changed: make(chan struct{}, 1)}
	go f.poll(ctx, 10*time.Millisecond)
	for range 2 {
		if !told(f, 5*time.Second) {
			t.Error("nobody looks")
		}
	}
	stop()
	time.Sleep(30 * time.Millisecond)
	told(f, 0)
	if told(f, 50*time.Millisecond) {
		t.Error("somebody looks after the end")
	}
}
