// Command commits fills a new workspace with many commits, for measurements: of
// three files, two change all the time and one, notes/tide.txt, in 500 of the
// commits. Usage: commits FOLDER NUMBER.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/workspace"
)

func main() {
	n, err := strconv.Atoi(os.Args[2])
	if err == nil {
		err = fill(os.Args[1], n)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func fill(folder string, n int) error {
	ctx := context.Background()
	host := workspace.Host{Now: time.Now, Machine: "bench", Person: "Imke", Kinds: all.Table()}
	w, err := workspace.Begin(ctx, host, folder, workspace.BeginOptions{})
	if err != nil {
		return err
	}
	defer w.Close()
	trees, err := writeTrees(ctx, w.Chest, n)
	if err != nil {
		return err
	}
	l, err := tables.Open(ctx, filepath.Join(w.Place().Dir, "ledger.db"))
	if err != nil {
		return err
	}
	defer l.Close()
	return l.Update(ctx, func(tx *tables.Tx) error { return record(w.Chest, tx, trees) })
}

// writeTrees stores the trees of the commits.
func writeTrees(ctx context.Context, c *chest.Chest, n int) ([]element.Digest, error) {
	batch := c.Contents.Begin(ctx)
	defer batch.Abandon()
	trees := make([]element.Digest, n)
	for i := range trees {
		var files []chest.File
		for p, text := range map[string]string{"exhibit/lamp.txt": fmt.Sprint("lamp ", i/2),
			"database/tank.txt": fmt.Sprint("tank ", (i+1)/2), "notes/tide.txt": fmt.Sprint("tide ", i*500/n)} {
			d, err := batch.PutBytes([]byte(text))
			if err != nil {
				return nil, err
			}
			files = append(files, chest.File{Path: p, Mode: chest.Plain, Size: int64(len(text)), Digest: d})
		}
		var err error
		if trees[i], err = c.WriteTree(batch, files); err != nil {
			return nil, err
		}
	}
	return trees, batch.Commit()
}

// record adds the commits as publishing them one by one would.
func record(c *chest.Chest, tx *tables.Tx, trees []element.Digest) error {
	begin := time.Now().Add(-time.Duration(len(trees)) * time.Minute)
	var last ledger.Commit
	for i, tree := range trees {
		next := ledger.Commit{Branch: chest.FirstBranch, Depth: i + 1, Generation: i + 1, Tree: tree,
			Author:    []string{"Imke", "Tarek", "Odalys"}[i%3],
			Workspace: "bench", Time: begin.Add(time.Duration(i) * time.Minute), Message: fmt.Sprint("Commit ", i)}
		var touches []ledger.Touch
		if i > 0 {
			next.Parents = []ledger.ID{last.ID}
			var err error
			if touches, err = c.Touches([]ledger.Commit{last}, tree); err != nil {
				return err
			}
		}
		next.Seal()
		if err := tx.AddCommit(next); err != nil {
			return err
		}
		if err := tx.AddTouches(next.ID, touches); err != nil {
			return err
		}
		if err := tx.MoveTip(chest.FirstBranch, last.ID, next.ID); err != nil {
			return err
		}
		last = next
	}
	return nil
}
