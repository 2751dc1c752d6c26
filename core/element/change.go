package element

// ChangeKind says what happened to the thing at an address.
type ChangeKind string

// The kinds of change, as people and scripts read them.
const (
	Added   ChangeKind = "added"
	Removed ChangeKind = "removed"
	Edited  ChangeKind = "edited"
	Moved   ChangeKind = "moved"
	Renamed ChangeKind = "renamed"
)

// Change is one line of a comparison. For Edited, From and To are the values
// of the property at Address; for Renamed, the two keys; for Moved within a
// list, the two positions from 1; for Moved to another parent, the two
// addresses. Added and Removed give the element itself.
type Change struct {
	Kind     ChangeKind
	Address  Address
	From, To Value
	Element  *Element
}

// Changes lists d in a stable order: as B reads from top to bottom, what is
// gone from a list after what is in it. Addresses are those of B, for what is
// removed those of A. A nil Delta has none.
func (d *Delta) Changes(path string) []Change {
	if d == nil {
		return nil
	}
	var out []Change
	d.list(Address{Path: path}, Address{Path: path}, &out)
	return joinMoves(out)
}

func (d *Delta) list(inA, inB Address, out *[]Change) {
	for _, p := range d.Props {
		*out = append(*out, Change{Kind: Edited, Address: inB.Of(p.Name), From: p.From, To: p.To})
	}
	stepsA, stepsB := steps{kids: d.A.Children}, steps{kids: d.B.Children}
	former := d.former()
	for _, k := range d.Kids {
		switch {
		case k.To < 0 && former[d.A.Children[k.From]] != nil: // told where it goes on
		case k.From < 0 && former[d.B.Children[k.To]] != nil:
			was, is := former[d.B.Children[k.To]], d.B.Children[k.To]
			at := inB.Below(stepsB.at(k.To))
			*out = append(*out, Change{Kind: Renamed, Address: at, From: TextValue(was.Key), To: TextValue(is.Key)})
			if below := Compare(was, is); below != nil {
				below.list(inA.Below(Step{Type: was.Type, Key: was.Key}), at, out)
			}
		case k.To >= 0 && k.From >= 0 && k.Delta == nil && !k.Moved && d.A.Children[k.From].Key == d.B.Children[k.To].Key:
		case k.To < 0:
			*out = append(*out, Change{Kind: Removed, Address: inA.Below(stepsA.at(k.From)), Element: d.A.Children[k.From]})
		case k.From < 0:
			*out = append(*out, Change{Kind: Added, Address: inB.Below(stepsB.at(k.To)), Element: d.B.Children[k.To]})
		default:
			at := inB.Below(stepsB.at(k.To))
			if from, to := d.A.Children[k.From].Key, d.B.Children[k.To].Key; from != to {
				*out = append(*out, Change{Kind: Renamed, Address: at, From: TextValue(from), To: TextValue(to)})
			}
			if k.Moved {
				*out = append(*out, Change{Kind: Moved, Address: at, From: IntValue(int64(k.From) + 1), To: IntValue(int64(k.To) + 1)})
			}
			if k.Delta != nil {
				k.Delta.list(inA.Below(stepsA.at(k.From)), at, out)
			}
		}
	}
}

// former pairs children that went with those that came and say that they had their keys, both ways;
// what was told as something else is left alone.
func (d *Delta) former() map[*Element]*Element {
	var out map[*Element]*Element
	for _, k := range d.Kids {
		if k.From >= 0 || d.B.Children[k.To].Former == "" {
			continue
		}
		is := d.B.Children[k.To]
		for _, o := range d.Kids {
			if o.To >= 0 || d.A.Children[o.From].Type != is.Type || d.A.Children[o.From].Key != is.Former ||
				out[d.A.Children[o.From]] != nil {
				continue
			}
			if out == nil {
				out = map[*Element]*Element{}
			}
			out[is], out[d.A.Children[o.From]] = d.A.Children[o.From], is
		}
	}
	return out
}

// steps gives the steps of children; those without keys are counted when the first
// of them is asked for.
type steps struct {
	kids []*Element
	all  []Step
}

func (s *steps) at(i int) Step {
	if k := s.kids[i]; k.Key != "" && s.all == nil {
		return Step{Type: k.Type, Key: k.Key}
	}
	if s.all == nil {
		s.all = stepsOf(s.kids)
	}
	return s.all[i]
}

// joinMoves turns the removal and the addition of one and the same keyed
// subtree into a move from one parent to another.
func joinMoves(all []Change) []Change {
	m := digests{}
	gone := map[Digest][]int{}
	for i, c := range all {
		if c.Kind == Removed && c.Element.Key != "" {
			d := m.of(c.Element).whole
			gone[d] = append(gone[d], i)
		}
	}
	if len(gone) == 0 {
		return all
	}
	drop := map[int]bool{}
	for i, c := range all {
		if c.Kind != Added || c.Element.Key == "" {
			continue
		}
		d := m.of(c.Element).whole
		if from := gone[d]; len(from) == 1 && !drop[from[0]] {
			drop[from[0]] = true
			all[i].Kind = Moved
			all[i].From, all[i].To = TextValue(all[from[0]].Address.String()), TextValue(c.Address.String())
		}
	}
	kept := all[:0:0]
	for i, c := range all {
		if !drop[i] {
			kept = append(kept, c)
		}
	}
	return kept
}
