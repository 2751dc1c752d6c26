package state

import "oakenchest/core/chest"

// mode gives the mode of a file that both sides have: what one side made of it. A file of
// one side alone has that side's.
func (g *merge) mode(p string) chest.Mode {
	b, m, t := g.b.files[p].Mode, g.m.files[p].Mode, g.t.files[p].Mode
	switch {
	case m == 0 && t == 0:
		return chest.Plain
	case m == 0, t != 0 && m == b:
		return t
	}
	return m
}

// apart decides about a file of which one side changed the content, and the other one
// only the mode; it reports whether it did.
func (g *merge) apart(p string) bool {
	b, m, t := g.b.files[p], g.m.files[p], g.t.files[p]
	for _, f := range []File{m, t} {
		if f.Mode != chest.Plain && f.Mode != chest.Executable {
			return false
		}
	}
	switch {
	case m.Digest == t.Digest, b.Mode != 0 && t.Digest == b.Digest:
		if mode := g.mode(p); mode != m.Mode {
			g.edits[p] = g.remade(p, mode)
		}
	case b.Mode != 0 && m.Digest == b.Digest:
		g.edits[p] = Edit{Path: p, Take: withMode(t, g.mode(p))}
	default:
		return false
	}
	g.done[p] = true
	return true
}

// remade gives a file of mine another mode. Its content need not be in the chest yet.
func (g *merge) remade(p string, mode chest.Mode) Edit {
	if g.m.files[p].Digest != g.t.files[p].Digest {
		if data, err := ReadFile(g.m, p); err == nil {
			return Edit{Path: p, Data: data, Mode: mode}
		}
	}
	return Edit{Path: p, Take: withMode(g.m.files[p], mode)}
}

func withMode(f File, mode chest.Mode) File {
	f.Mode = mode
	return f
}
