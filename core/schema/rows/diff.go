package rows

import "slices"

// Diff is what leads from one sheet to another, rows matched by key. The numbers are
// places of rows.
type Diff struct {
	Added   []int // of the wanted sheet
	Removed []int // of the one that is there
	Edited  []Edit
}

// Edit is a row that both have, with other values.
type Edit struct {
	Have, Want int
	// Columns are the places, in the wanted sheet, of the columns that differ.
	Columns []int
}

// Empty says that nothing differs.
func (d *Diff) Empty() bool { return len(d.Added)+len(d.Removed)+len(d.Edited) == 0 }

// Compare gives what leads from one sheet to another. Both must be sorted by the key and
// have its columns. A column that only the wanted one has differs in every row; one that
// only the other has is not looked at.
func Compare(have, want *Sheet, key []string) (*Diff, error) {
	wantKey, err := want.keyOf(key)
	if err != nil {
		return nil, err
	}
	haveKey, err := have.keyOf(key)
	if err != nil {
		return nil, err
	}
	from := make([]int, len(want.Columns))
	for i, c := range want.Columns {
		from[i] = have.Column(c)
	}
	d := &Diff{}
	h, w := 0, 0
	for h < len(have.Rows) || w < len(want.Rows) {
		c := 0
		switch {
		case h == len(have.Rows):
			c = 1
		case w == len(want.Rows):
			c = -1
		default:
			c = compareAcross(have.Rows[h], haveKey, want.Rows[w], wantKey)
		}
		switch {
		case c < 0:
			d.Removed = append(d.Removed, h)
			h++
		case c > 0:
			d.Added = append(d.Added, w)
			w++
		default:
			if cols := differing(have.Rows[h], want.Rows[w], from); len(cols) > 0 {
				d.Edited = append(d.Edited, Edit{h, w, cols})
			}
			h, w = h+1, w+1
		}
	}
	return d, nil
}

func compareAcross(a Row, aKey []int, b Row, bKey []int) int {
	for i := range aKey {
		x, y := a[aKey[i]].Text, b[bKey[i]].Text
		if x == y {
			continue
		}
		if c := compareTexts(x, y); c != 0 {
			return c
		}
	}
	return 0
}

func differing(have, want Row, from []int) []int {
	var out []int
	for i, f := range from {
		if f < 0 || have[f] != want[i] {
			out = append(out, i)
		}
	}
	return out
}

// Touched lists the wanted rows of a Diff, in their order.
func (d *Diff) touched() []int {
	out := slices.Clone(d.Added)
	for _, e := range d.Edited {
		out = append(out, e.Want)
	}
	slices.Sort(out)
	return out
}
