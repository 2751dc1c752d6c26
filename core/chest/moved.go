package chest

import (
	"path"
	"slices"

	"oakenchest/core/content"
)

// Moved tells which files of some pairs moved, new path to former path: a file that went and one of equal content that
// came are one. Of several of one content those go together that kept their names, then the others in the order of
// their paths. Every part of the program that speaks of moves asks here.
func Moved(pairs []Pair) map[string]string {
	gone := map[content.Digest][]string{}
	for _, p := range pairs {
		if p.Is.Mode == 0 && p.Was.Size > 0 {
			gone[p.Was.Digest] = append(gone[p.Was.Digest], p.Path)
		}
	}
	out := map[string]string{}
	if len(gone) == 0 {
		return out
	}
	came := map[content.Digest][]string{}
	for _, p := range pairs {
		if p.Was.Mode == 0 && p.Is.Size > 0 && len(gone[p.Is.Digest]) > 0 {
			came[p.Is.Digest] = append(came[p.Is.Digest], p.Path)
		}
	}
	for d, news := range came {
		olds := gone[d]
		slices.Sort(olds)
		slices.Sort(news)
		pairUp(olds, news, out)
	}
	return out
}

// pairUp pairs paths of one content, those with equal names first.
func pairUp(olds, news []string, out map[string]string) {
	taken := map[string]bool{}
	if len(olds)+len(news) > 2 {
		byName := map[string][]string{}
		for _, n := range news {
			byName[path.Base(n)] = append(byName[path.Base(n)], n)
		}
		for _, o := range olds {
			if list := byName[path.Base(o)]; len(list) > 0 {
				out[list[0]], byName[path.Base(o)] = o, list[1:]
				taken[o], taken[list[0]] = true, true
			}
		}
	}
	left := func(list []string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(p string) bool { return taken[p] })
	}
	olds, news = left(olds), left(news)
	for i := range min(len(olds), len(news)) {
		out[news[i]] = olds[i]
	}
}
