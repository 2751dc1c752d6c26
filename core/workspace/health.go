package workspace

import (
	"context"
	"io"
	"os"

	"oakenchest/core/blob"
	"oakenchest/core/chest"
)

// Health examines the chest. With repair, what the workspace holds good copies
// of is stored anew, and the chest examined again; mended counts the versions.
func (w *Workspace) Health(ctx context.Context, repair bool) (x *chest.Examination, mended int, err error) {
	if x, err = w.Chest.Examine(ctx, w.host.Progress); err != nil || !repair || len(x.Findings) == 0 {
		return x, 0, err
	}
	files, err := w.Files(ctx)
	if err != nil {
		return x, 0, err
	}
	at := map[blob.Digest]string{}
	for _, f := range files {
		if f.Mode != chest.Link {
			at[f.Digest] = f.Path
		}
	}
	mended, err = w.Chest.Repair(ctx, x, files, func(d blob.Digest) (io.ReadCloser, error) {
		if p, ok := at[d]; ok {
			return os.Open(w.local(p))
		}
		return nil, nil
	})
	if err != nil || mended == 0 {
		return x, mended, err
	}
	x, err = w.Chest.Examine(ctx, w.host.Progress)
	return x, mended, err
}
