package workspace

import (
	"context"
	"errors"
	"io"
	"os"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Health examines the chest, and the workspace's own files. With repair, what
// the workspace holds good copies of is stored anew, and the chest examined
// again; mended counts the versions. other is a further chest, or a workspace of
// one, to take good copies from; empty for none.
func (w *Workspace) Health(ctx context.Context, repair bool, other string) (x *chest.Examination, mended int, err error) {
	if w.Offline {
		return nil, 0, chest.Explain(ledger.ErrAway)
	}
	if repair && w.signed != "" { // before it is looked at for long
		_, err := w.Chest.Repair(ctx, nil, nil, nil)
		return nil, 0, err
	}
	flaws := w.flaws(repair)
	x, err = w.Chest.Examine(ctx, w.host.Progress)
	const deepest = 64 // folders inside folders: each round may lay open one more
	for round := 0; round < deepest && repair && err == nil && touched(x); round++ {
		n, failed := w.repair(ctx, x, other)
		if err = failed; err != nil || n == 0 {
			break
		}
		mended += n
		x, err = w.Chest.Examine(ctx, w.host.Progress) // a mended folder may show more
	}
	if err != nil {
		return x, mended, err
	}
	x.Findings = append(x.Findings, flaws...)
	if w.Unfinished != nil && fault.CodeOf(w.Unfinished) == fault.Damaged {
		x.Findings = append(x.Findings, chest.Finding{Where: Folder, Reason: strings.TrimSuffix(w.Unfinished.Error(), ".")})
	}
	return x, mended, nil
}

// touched reports whether some version can't be read.
func touched(x *chest.Examination) bool {
	return slices.ContainsFunc(x.Findings, func(f chest.Finding) bool { return len(f.Touches) > 0 })
}

// flaws says what is wrong with the index, which no command needs; repair takes
// it away. Other files of the workspace's own keep it from opening when they are
// damaged.
func (w *Workspace) flaws(repair bool) []chest.Finding {
	if !w.disk.IndexIsDamaged() {
		return nil
	}
	if repair && os.Remove(w.disk.IndexFile()) == nil {
		return nil
	}
	return []chest.Finding{{Where: Folder + "/index",
		Reason: "what the workspace remembers of its files is damaged; the next command that looks at them makes it anew"}}
}

// repair stores anew what is damaged in the chest and whole in the workspace.
func (w *Workspace) repair(ctx context.Context, x *chest.Examination, other string) (int, error) {
	var from *chest.Chest
	if other != "" {
		location, err := chestOf(other)
		if err != nil {
			return 0, err
		}
		f, err := w.host.openChest(ctx, location)
		if err != nil {
			return 0, chest.Explain(err)
		}
		defer f.Close()
		from = chest.New(f.Store)
	}
	files, err := w.Files(ctx)
	if err != nil {
		return 0, err
	}
	at := map[content.Digest]string{}
	for _, f := range files {
		if f.Mode == chest.Plain || f.Mode == chest.Executable {
			at[f.Digest] = f.Path
		}
	}
	return w.Chest.Repair(ctx, x, files, func(d content.Digest) (io.ReadCloser, error) {
		if p, ok := at[d]; ok {
			return os.Open(w.disk.Local(p))
		}
		if from == nil {
			return nil, nil
		}
		in, err := from.Contents.OpenExact(d)
		if errors.Is(err, content.ErrMissing) {
			return nil, nil
		}
		return in, err
	})
}
