package database

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"time"

	"oakenchest/core/environment"
)

// Cache keeps what engines said about declared files, so that the same files need not
// be tried again. What can't be kept or read is as if it were not there.
type Cache struct{ Folder string }

// keptFor is how long an answer that nobody asks for stays.
const keptFor = 30 * 24 * time.Hour

// Key names the answer of one engine, by its version, about files.
func (c Cache) Key(engine string, files environment.Files) string {
	h := sha256.New()
	put := func(b []byte) {
		n := len(b)
		h.Write([]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)})
		h.Write(b)
	}
	put([]byte(engine))
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		put([]byte(name))
		put(files[name])
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Get gives an answer that is kept.
func (c Cache) Get(key string) ([]byte, bool) {
	if c.Folder == "" {
		return nil, false
	}
	file := filepath.Join(c.Folder, key)
	data, err := os.ReadFile(file)
	if err == nil {
		now := time.Now()
		_ = os.Chtimes(file, now, now)
	}
	return data, err == nil
}

// Put keeps an answer.
func (c Cache) Put(key string, data []byte) {
	if c.Folder == "" || os.MkdirAll(c.Folder, 0o777) != nil {
		return
	}
	old, _ := os.ReadDir(c.Folder)
	for _, e := range old {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > keptFor {
			_ = os.Remove(filepath.Join(c.Folder, e.Name()))
		}
	}
	f, err := os.CreateTemp(c.Folder, "new-*")
	if err != nil {
		return
	}
	_, err = f.Write(data)
	if closed := f.Close(); err != nil || closed != nil || os.Rename(f.Name(), filepath.Join(c.Folder, key)) != nil {
		_ = os.Remove(f.Name())
	}
}
