package manifest

import (
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// always is left out of every project.
const always = ".oaken"

// foreign are the names of what other programs and systems keep for themselves among people's files: it is left out
// of every project.
var foreign = []string{".git", ".hg", ".svn", ".DS_Store", "Thumbs.db", "desktop.ini"}

// temporary reports whether a name is that of a file by which an office program says that somebody has a
// document open; it goes when the document is closed.
func temporary(name string) bool {
	return strings.HasPrefix(name, "~$") || strings.HasPrefix(name, ".~lock.") && strings.HasSuffix(name, "#")
}

// leaver tells what is left out. Most patterns speak of a name or an ending
// anywhere in the project: those cost one look into a table.
type leaver struct {
	paths   map[string]bool
	names   map[string]bool
	endings map[string]bool // with their dot, as path.Ext gives them
	tails   []string        // other endings of names
	bases   []string        // patterns for names
	general []string
}

func newLeaver(m *Manifest) *leaver {
	l := &leaver{paths: map[string]bool{always: true}, names: map[string]bool{}, endings: map[string]bool{}}
	for _, name := range foreign {
		l.names[name] = true
	}
	for _, e := range m.Environments {
		for _, s := range e.Sites() {
			place, disk, ok := s.Place()
			if !ok || disk.Folder && strings.HasPrefix(s.Into+"/", place+"/") {
				continue
			}
			l.paths[place] = true
			for _, ending := range disk.Beside {
				l.paths[place+ending] = true
			}
		}
	}
	for _, pattern := range m.LeaveOut {
		l.add(pattern)
	}
	return l
}

func (l *leaver) add(pattern string) {
	const special = `*?[]{}\`
	name, anywhere := strings.CutPrefix(pattern, "**/")
	switch ending := strings.TrimPrefix(name, "*"); {
	case !anywhere && !strings.ContainsAny(pattern, special):
		l.paths[pattern] = true
	case !anywhere || strings.ContainsAny(name, "/{"):
		l.general = append(l.general, pattern)
	case !strings.ContainsAny(name, special):
		l.names[name] = true
	case ending != name && !strings.ContainsAny(ending, special) && strings.LastIndexByte(ending, '.') == 0:
		l.endings[ending] = true
	case ending != name && !strings.ContainsAny(ending, special):
		l.tails = append(l.tails, ending)
	default:
		l.bases = append(l.bases, name)
	}
}

func (l *leaver) leaves(p string) bool {
	base := p[strings.LastIndexByte(p, '/')+1:]
	if l.names[base] || l.paths[p] {
		return true
	}
	if i := strings.LastIndexByte(base, '.'); i >= 0 && l.endings[base[i:]] {
		return true
	}
	for _, tail := range l.tails {
		if strings.HasSuffix(base, tail) {
			return true
		}
	}
	for _, pattern := range l.bases {
		if ok, _ := path.Match(pattern, base); ok {
			return true
		}
	}
	for _, pattern := range l.general {
		if ok, _ := doublestar.Match(pattern, p); ok {
			return true
		}
	}
	return false
}

// LeftOut reports whether a path is never recorded. A pattern also covers what
// lies below a folder that it matches. The database file or the folder of an environment
// that lies in the project is left out too.
func (m *Manifest) LeftOut(p string) bool {
	for q := p; q != "." && q != "/"; q = path.Dir(q) {
		if m.LeftOutHere(q) {
			return true
		}
	}
	return false
}

// AlsoLeaveOut leaves out a file beyond what the project's rules say.
func (m *Manifest) AlsoLeaveOut(p string) {
	m.once.Do(func() { m.leave = newLeaver(m) })
	m.leave.paths[p] = true
}

// LeftOutHere is LeftOut for a path of whose folders none is left out. It may be
// called by several goroutines.
func (m *Manifest) LeftOutHere(p string) bool {
	m.once.Do(func() { m.leave = newLeaver(m) })
	name := path.Base(p)
	return m.leave.leaves(p) || Own(name) || temporary(name)
}
