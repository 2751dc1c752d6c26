package workspace

import (
	"bytes"
	"context"
	"os"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/workspace/disk"
)

// endLines brings the lines of changed text files into the form that the
// project's rules ask for, and gives the paths of those that it wrote. What was
// there is kept as a rescue copy. A file with a zero byte is no text.
func (w *Workspace) endLines(ctx context.Context, chosen []Change) ([]string, error) {
	if len(w.Manifest.Lines) == 0 {
		return nil, nil
	}
	var out []string
	for _, c := range chosen {
		end := w.Manifest.LineEnd(c.Path)
		if end == "" || c.Is.Mode != chest.Plain && c.Is.Mode != chest.Executable || c.Is.Size > kind.MaxFile {
			continue
		}
		data, err := os.ReadFile(w.disk.Local(c.Path))
		if err != nil {
			return out, fault.New(fault.Failed, "Nothing was recorded; run oaken changes and commit again.",
				"%s can't be read: %w.", c.Path, err)
		}
		ended := endLines(data, end)
		if bytes.IndexByte(data, 0) >= 0 || bytes.Equal(ended, data) {
			continue
		}
		if _, err := w.rescue(ctx, []string{c.Path}); err != nil {
			return out, err
		}
		if err := w.disk.Write(c.Path, ended, disk.FileMode(c.Is.Mode == chest.Executable)); err != nil {
			return out, err
		}
		out = append(out, c.Path)
	}
	return out, nil
}

// endLines ends each line of a text with end.
func endLines(data []byte, end string) []byte {
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	return bytes.ReplaceAll(data, []byte("\n"), []byte(end))
}
