package element

// A child may be another thing than its key says, or its place: somebody gave the thing
// another name, and its name to a new one. What has a text of its own in it, that no other
// child of the base has, is known by that.

// kinText is how long a text is, at least, by which a thing is known again.
const kinText = 12

// kinship tells who has texts of their own.
type kinship struct {
	sums  digests
	b     *Element
	owner map[Digest]int // the base's child that has it, -1 for several
}

// pairKin pairs children of the base with what a side has added and is their only kin:
// those that both sides have lost, so that two who each made another thing of one, or one
// who did while the other took it away, are told; and those whose partner has nothing of
// theirs.
func (g *merger) pairKin(b, m, t *Element, pm, pt *pairing) {
	var kin *kinship
	for _, side := range []struct {
		e        *Element
		p, other *pairing
	}{{m, pm, pt}, {t, pt, pm}} {
		for j, kid := range side.e.Children {
			if side.p.toA[j] >= 0 || kid.Firm || len(kid.Children) == 0 {
				continue
			}
			if kin == nil {
				kin = g.kinship(b)
			}
			i := kin.of(kid)
			if i < 0 || b.Children[i].Type != kid.Type || b.Children[i].Firm {
				continue
			}
			switch k := side.p.toB[i]; {
			case k < 0 && side.other.toB[i] < 0:
				side.p.pair(i, j)
			case k >= 0 && kin.of(side.e.Children[k]) < 0 && !g.sums.sameBody(b.Children[i], side.e.Children[k]):
				side.p.part(i)
				side.p.pair(i, j)
			}
		}
	}
}

func (g *merger) kinship(b *Element) *kinship {
	k := &kinship{g.sums, b, map[Digest]int{}}
	for i, kid := range b.Children {
		own := map[Digest]bool{}
		k.texts(kid, own)
		for d := range own {
			if _, twice := k.owner[d]; twice {
				k.owner[d] = -1
			} else {
				k.owner[d] = i
			}
		}
	}
	return k
}

// of gives the base's child that has some of the texts in an element, -1 for none or several.
func (k *kinship) of(e *Element) int {
	own := map[Digest]bool{}
	k.texts(e, own)
	out := -1
	for d := range own {
		i, known := k.owner[d]
		switch {
		case !known || i < 0:
		case out >= 0 && out != i:
			return -1
		default:
			out = i
		}
	}
	return out
}

// texts gathers what is below an element and has a text by which it is known again.
func (k *kinship) texts(e *Element, into map[Digest]bool) {
	for _, c := range e.Children {
		for _, p := range c.Props {
			if p.Value.sort == Text && len(p.Value.text) >= kinText {
				into[k.sums.of(c).body] = true
				break
			}
		}
		k.texts(c, into)
	}
}
