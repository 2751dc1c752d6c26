package workspace

import (
	"os"
	"slices"
	"strings"
)

// Pages and reports that were drawn into the project's folder are nobody's work: they are left out of this
// workspace's commits, by .oaken/apart, one path a line.
const apartName = "apart"

func (w *Workspace) apart() (out []string) {
	data, err := os.ReadFile(w.disk.Own(apartName))
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(data)) {
		if p := strings.TrimSuffix(line, "\n"); p != "" {
			out = append(out, p)
		}
	}
	return out
}

// KeepApart leaves a file, by the path that a person wrote from dir, out of this workspace's commits, and
// reports whether it lies in the project and had not been left out before. A file that is recorded stays so.
func (w *Workspace) KeepApart(dir, file string) (bool, error) {
	p, err := w.ProjectPath(dir, file)
	if err != nil || w.Manifest.LeftOut(p) {
		return false, nil // outside of the project
	}
	if recorded, err := w.Recorded(p); err != nil || recorded {
		return false, err
	}
	list := append(w.apart(), p)
	slices.Sort(list)
	if err := w.disk.WriteOwn(apartName, []byte(strings.Join(slices.Compact(list), "\n")+"\n")); err != nil {
		return false, err
	}
	w.leaveApart()
	return true, nil
}

// leaveApart has the rules leave out what is kept apart here.
func (w *Workspace) leaveApart() {
	if w.Manifest == nil {
		return // it can't be read, and no command goes on
	}
	for _, p := range w.apart() {
		w.Manifest.AlsoLeaveOut(p)
	}
}
