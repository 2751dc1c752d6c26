package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/linked"
)

var _ kind.Aligner = Kind{}

// grounds are the common ground of a sheet.
type grounds struct{ rows, cols ground }

// Align gives three versions of a workbook on a common ground, nil when no row and no
// column has moved.
func (k Kind) Align(b, m, t *element.Element) (*kind.Alignment, error) {
	sheets := map[string]*grounds{}
	for _, s := range b.Children {
		x, y := sheetOf(m, s.Key), sheetOf(t, s.Key)
		if s.Type != "sheet" || x == nil || y == nil {
			continue
		}
		g, err := newGrounds(s, x, y, k.keysOf(s.Key))
		if err != nil {
			return nil, err
		}
		if g != nil {
			sheets[s.Key] = g
		}
	}
	if len(sheets) == 0 {
		return nil, nil
	}
	a := &kind.Alignment{}
	for _, v := range []struct {
		from *element.Element
		to   **element.Element
		lane func(ground) lane
	}{{b, &a.Base, ofBase}, {m, &a.Mine, ofMine}, {t, &a.Theirs, ofTheirs}} {
		out, err := (&mover{sheets: sheets, to: func(g ground, n, _ int) (int, bool) { return v.lane(g).common(n), true },
			lane: v.lane}).tree(v.from)
		if err != nil {
			return nil, err
		}
		*v.to = wrapped(sheets, out)
	}
	a.Back = func(merged *element.Element) (*element.Element, error) { return back(sheets, merged) }
	a.Show = func(c element.Conflict) element.Conflict { return shown(sheets, c) }
	a.Take = func(c element.Conflict, choice element.Choice) element.Choice { return taken(sheets, c, choice) }
	return a, nil
}

// lineType is a row or a column that one side took away: what the other one did in it is to
// be told.
const lineType = "line"

// wrapped gathers the cells of rows and columns that one side took away.
func wrapped(sheets map[string]*grounds, root *element.Element) *element.Element {
	return withSheets(root, func(s *element.Element) {
		g := sheets[s.Key]
		if g == nil {
			return
		}
		lines := map[string]*element.Element{}
		var rest []*element.Element
		for _, e := range s.Children {
			key := g.line(e)
			if key == "" {
				rest = append(rest, e)
				continue
			}
			if lines[key] == nil {
				lines[key] = &element.Element{Type: lineType, Key: key, Firm: true}
				rest = append(rest, lines[key])
			}
			lines[key].Add(e)
			if e.Gist != "" {
				lines[key].Gist = strings.TrimPrefix(lines[key].Gist+" | "+e.Gist, " | ")
			}
		}
		s.Children = rest
	})
}

// line gives the row or column that was taken away and in which a cell stands, empty for none.
func (g *grounds) line(e *element.Element) string {
	col, row, ok := place(e.Key)
	if e.Type == "row" {
		row, _ = strconv.Atoi(e.Key)
		ok, col = true, 0
	} else if e.Type != "cell" {
		ok = false
	}
	switch {
	case ok && slices.Contains(g.rows.gone, row):
		return "row " + strconv.Itoa(row)
	case ok && slices.Contains(g.cols.gone, col):
		return "column " + columnName(col)
	}
	return ""
}

func unwrapped(root *element.Element) *element.Element {
	return withSheets(root, func(s *element.Element) {
		var rest []*element.Element
		for _, e := range s.Children {
			if e.Type == lineType {
				rest = append(rest, e.Children...)
			} else {
				rest = append(rest, e)
			}
		}
		s.Children = rest
	})
}

// withSheets gives a workbook in which a copy of each sheet was changed.
func withSheets(root *element.Element, change func(*element.Element)) *element.Element {
	out := *root
	out.Children = slices.Clone(root.Children)
	for i, s := range out.Children {
		if s.Type == "sheet" {
			c := *s
			change(&c)
			out.Children[i] = &c
		}
	}
	return &out
}

func ofBase(g ground) lane   { return g.base }
func ofMine(g ground) lane   { return g.mine }
func ofTheirs(g ground) lane { return g.theirs }

func sheetOf(root *element.Element, name string) *element.Element {
	for _, c := range root.Children {
		if c.Type == "sheet" && c.Key == name {
			return c
		}
	}
	return nil
}

// newGrounds gives the common ground of three versions of a sheet, nil when nothing moved.
// Rows are known by columns with headings, if there are any, else by what is alike.
func newGrounds(b, m, t *element.Element, headings []string) (*grounds, error) {
	rb, cb, hb := linesOf(b)
	rm, cm, hm := linesOf(m)
	rt, ct, ht := linesOf(t)
	columns := func(cols, heads []line) ([]int, bool) {
		return pairLines(hb, heads, func(i, j int) int { return sharing(cb[i], cols[j]) }, anything)
	}
	pm, doubtM := columns(cm, hm)
	pt, doubtT := columns(ct, ht)
	if doubtful(doubtM, doubtT, pm, pt) {
		return nil, errMoved
	}
	cols := newGround(len(hb)-1, pm, pt, func(x, y int) bool { return likeness(hm[x], ht[y]) == 1 })
	for rows, l := range map[*[]line]lane{&rb: cols.base, &rm: cols.mine, &rt: cols.theirs} {
		for i, r := range *rows {
			on := make(line, len(r))
			for c, text := range r {
				on[l.common(c)] = text
			}
			(*rows)[i] = on
		}
	}
	if len(headings) > 0 {
		nb, ok1 := rowNames(b, headings)
		nm, ok2 := rowNames(m, headings)
		nt, ok3 := rowNames(t, headings)
		if ok1 && ok2 && ok3 {
			rows, err := byNames(nb, nm, nt)
			if err != nil || rows.same && cols.same {
				return nil, err
			}
			return &grounds{rows, cols}, nil
		}
	}
	lines := func(rows []line) ([]int, bool) {
		return pairLines(rb, rows, func(i, j int) int { return agreeing(rb[i], rows[j]) }, rewritten)
	}
	pm, doubtM = lines(rm)
	pt, doubtT = lines(rt)
	if doubtful(doubtM, doubtT, pm, pt) {
		return nil, errMoved
	}
	rows := newGround(len(rb)-1, pm, pt, func(x, y int) bool { return likeness(rm[x], rt[y]) == 1 })
	if rows.same && cols.same {
		return nil, nil
	}
	return &grounds{rows, cols}, nil
}

var errMoved = errors.New("both sides have moved rows or columns, in a way that can't be told")

// doubtful reports whether it can't be told what one side has moved, while the other one has
// moved something too.
func doubtful(doubtM, doubtT bool, pm, pt []int) bool {
	moved := func(p []int) bool {
		for j := 1; j < len(p); j++ {
			if p[j] != j {
				return true
			}
		}
		return false
	}
	return doubtM && (doubtT || moved(pt)) || doubtT && moved(pm)
}

// back gives a tree of the common ground places of its own: a row that one side took away,
// and in which nothing is left, is none.
func back(sheets map[string]*grounds, merged *element.Element) (*element.Element, error) {
	merged = unwrapped(merged)
	gone := map[string]*[2][]int{}
	for name, g := range sheets {
		var rows, cols []int
		if s := sheetOf(merged, name); s != nil {
			for _, e := range s.Children {
				if c, r, ok := place(e.Key); ok && e.Type == "cell" {
					rows, cols = append(rows, r), append(cols, c)
				}
			}
		}
		left := func(gone, used []int) []int {
			slices.Sort(used)
			return slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(gone))), func(n int) bool {
				_, there := slices.BinarySearch(used, n)
				return there
			})
		}
		gone[name] = &[2][]int{left(g.rows.gone, rows), left(g.cols.gone, cols)}
	}
	settle := func(gone []int, n, edge int) (int, bool) {
		at, is := slices.BinarySearch(gone, n)
		if is && edge == 0 {
			return 0, false
		}
		if is { // the next one that is there
			for is {
				n -= edge
				at, is = slices.BinarySearch(gone, n)
			}
		}
		return n - at, n > 0
	}
	return (&mover{sheets: sheets, gone: gone, settle: settle}).tree(merged)
}

// mover gives rows and columns of a tree other places.
type mover struct {
	sheets map[string]*grounds
	// to gives the place of a row or column on its ground; edge is 1 for the first one of a
	// range, -1 for the last, and 0 for one alone.
	to func(g ground, n, edge int) (int, bool)
	// gone has, when it is set, the rows and columns of each sheet that are none, and settle
	// does what to does.
	gone   map[string]*[2][]int
	settle func(gone []int, n, edge int) (int, bool)
	// lane gives, when it is set, the lane that rows are moved by.
	lane func(ground) lane
}

func (m *mover) row(sheet string, n, edge int) (int, bool) {
	g := m.sheets[sheet]
	switch {
	case g == nil || n == 0:
		return n, true
	case m.gone != nil:
		return m.settle(m.gone[sheet][0], n, -edge)
	}
	return m.to(g.rows, n, edge)
}

func (m *mover) col(sheet string, n, edge int) (int, bool) {
	g := m.sheets[sheet]
	switch {
	case g == nil || n == 0:
		return n, true
	case m.gone != nil:
		return m.settle(m.gone[sheet][1], n, -edge)
	}
	return m.to(g.cols, n, edge)
}

// ref moves a reference that stands in a sheet.
func (m *mover) ref(home string, r ref) (ref, error) {
	sheet := r.sheet
	if sheet == "" {
		sheet = home
	}
	if strings.Contains(sheet, ":") {
		return r, fmt.Errorf("a formula refers to the sheets %s", sheet)
	}
	out := ref{r.sheet, slices.Clone(r.ends)}
	for i := range out.ends {
		edge := 0
		if len(out.ends) == 2 {
			edge = []int{1, -1}[i]
		}
		e := &out.ends[i]
		row, ok1 := m.row(sheet, e.row, edge)
		col, ok2 := m.col(sheet, e.col, edge)
		if !ok1 || !ok2 {
			return r, fmt.Errorf("a formula refers to %s, which was taken away", r)
		}
		e.row, e.col = row, col
	}
	if g := m.sheets[sheet]; g != nil && m.lane != nil && len(out.ends) == 2 && r.ends[0].row > 0 && r.ends[0].row <= r.ends[1].row {
		var whole bool
		if out.ends[0].row, out.ends[1].row, whole = m.lane(g.rows).span(r.ends[0].row, r.ends[1].row); !whole {
			return r, fmt.Errorf("a formula refers to %s, which does not stand together any more", r)
		}
	}
	if len(out.ends) == 2 && (out.ends[0].row > out.ends[1].row || out.ends[0].col > out.ends[1].col) && r.ends[0].row <= r.ends[1].row &&
		r.ends[0].col <= r.ends[1].col {
		return r, fmt.Errorf("a formula refers to %s, which was taken away", r)
	}
	return out, nil
}

func (m *mover) formula(home, text string) (string, error) {
	words, more, marked := strings.Cut(text, sharedMark)
	if marked && m.sheets[home] != nil {
		return "", errors.New("a formula that several cells share can't be moved")
	}
	out, err := mapRefs(words, func(r ref) (ref, error) { return m.ref(home, r) })
	if marked {
		out += sharedMark + more
	}
	return out, err
}

// list moves references that stand beside each other, as in sqref.
func (m *mover) list(home, text string) (string, error) {
	fields := strings.Fields(text)
	for i, f := range fields {
		r, n := reference(f)
		if n != len(f) {
			return text, nil // it is something else
		}
		said, err := m.ref(home, r)
		if err != nil {
			return "", err
		}
		fields[i] = said.String()
	}
	return strings.Join(fields, " "), nil
}

// tree moves what a workbook has.
func (m *mover) tree(root *element.Element) (*element.Element, error) {
	out := *root
	out.Children = make([]*element.Element, len(root.Children))
	homes := homesOf(root)
	for i, c := range root.Children {
		var err error
		switch {
		case c.Type == "sheet":
			out.Children[i], err = m.sheet(c)
		case c.Type == "part":
			out.Children[i], err = m.part(homes[c.Key], c.Key, c)
		default:
			out.Children[i] = c
		}
		if err != nil {
			return nil, err
		}
	}
	return &out, nil
}

// homesOf gives the sheets that parts belong to, by the relations of each.
func homesOf(root *element.Element) map[string]string {
	out := map[string]string{}
	var look func(sheet string, e *element.Element)
	look = func(sheet string, e *element.Element) {
		if e.Type == "Relationship" {
			out[linked.Target("xl/worksheets/sheet.xml", e.Prop("Target").Text())] = sheet
		}
		for _, c := range e.Children {
			look(sheet, c)
		}
	}
	for _, s := range root.Children {
		if s.Type != "sheet" {
			continue
		}
		for _, p := range s.Children {
			if p.Type == "part" {
				look(s.Key, p)
			}
		}
	}
	return out
}

func (m *mover) sheet(s *element.Element) (*element.Element, error) {
	out := *s
	out.Children = nil
	for _, e := range s.Children {
		c := *e
		switch e.Type {
		case "row":
			n, err := strconv.Atoi(e.Key)
			at, ok := m.row(s.Key, n, 0)
			if err != nil || !ok {
				continue // what is said of a row that was taken away
			}
			c.Key = strconv.Itoa(at)
		case "cell":
			col, row, ok := place(e.Key)
			if !ok {
				return nil, fmt.Errorf("%s is no cell", e.Key)
			}
			row, ok1 := m.row(s.Key, row, 0)
			col, ok2 := m.col(s.Key, col, 0)
			if !ok1 || !ok2 {
				return nil, fmt.Errorf("the cell %s was taken away", e.Key)
			}
			c.Key = columnName(col) + strconv.Itoa(row)
			if f := e.Prop(formulaProperty); !f.IsAbsent() {
				said, err := m.formula(s.Key, f.Text())
				if err != nil {
					return nil, err
				}
				c.Set(formulaProperty, element.TextValue(said))
			}
		default:
			p, err := m.part(s.Key, e.Key, e)
			if err != nil {
				return nil, err
			}
			c = *p
		}
		out.Children = append(out.Children, &c)
	}
	return &out, nil
}

// references, by name, of attributes that are lists of cells, and of elements whose text is
// a formula.
var (
	cellLists = map[string]bool{"ref": true, "sqref": true, "activeCell": true, "topLeftCell": true}
	formulas  = map[string]bool{"f": true, "formula": true, "formula1": true, "formula2": true, "definedName": true, "sqref": true,
		"calculatedColumnFormula": true, "totalsRowFormula": true}
)

// unmoved are parts that speak of cells in ways that can't be followed.
var unmoved = []string{"pivotTable", "pivotCache", "vmlDrawing", "externalLink", "queryTable", "slicer", "timeline"}

func (m *mover) part(home, name string, p *element.Element) (*element.Element, error) {
	for _, u := range unmoved {
		if strings.Contains(name, u) && (m.sheets[home] != nil || home == "") {
			return nil, fmt.Errorf("%s speaks of cells that have moved, in a way that can't be followed", name)
		}
	}
	return m.inside(home, "", p)
}

// inside moves the references in an element of a part.
func (m *mover) inside(home, above string, e *element.Element) (*element.Element, error) {
	out := *e
	local := e.Type[strings.IndexByte(e.Type, ':')+1:]
	change := func(name, to string) {
		was := out.Prop(name).Text()
		if was == to {
			return
		}
		out.Set(name, element.TextValue(to))
		if out.Key == was {
			out.Key = to
		}
	}
	for _, p := range e.Props {
		if cellLists[p.Name] {
			said, err := m.list(home, p.Value.Text())
			if err != nil {
				return nil, err
			}
			change(p.Name, said)
		}
	}
	text := e.Prop("text")
	switch {
	case formulas[local] && text.Sort() == element.Text:
		said, err := m.formula(home, text.Text())
		if err != nil {
			return nil, err
		}
		change("text", said)
	case local == "hyperlink" && !e.Prop("location").IsAbsent():
		if said, err := m.formula(home, e.Prop("location").Text()); err == nil {
			change("location", said)
		}
	case local == "brk" && above == "rowBreaks":
		m.number(&out, "id", func(n int) (int, bool) { return m.row(home, n, 0) }, change)
	case local == "brk" && above == "colBreaks":
		m.number(&out, "id", func(n int) (int, bool) { return m.col(home, n, 0) }, change)
	case local == "col" && above == "cols":
		m.number(&out, "min", func(n int) (int, bool) { return m.col(home, n, 1) }, change)
		m.number(&out, "max", func(n int) (int, bool) { return m.col(home, n, -1) }, change)
	case (local == "row" || local == "col") && (above == "from" || above == "to"): // of a drawing, from 0
		m.number(&out, "text", func(n int) (int, bool) {
			if local == "row" {
				to, ok := m.row(home, n+1, -1)
				return to - 1, ok
			}
			to, ok := m.col(home, n+1, -1)
			return to - 1, ok
		}, change)
	}
	out.Children = make([]*element.Element, len(e.Children))
	for i, c := range e.Children {
		k, err := m.inside(home, local, c)
		if err != nil {
			return nil, err
		}
		out.Children[i] = k
	}
	return &out, nil
}

func (m *mover) number(e *element.Element, name string, to func(int) (int, bool), change func(name, to string)) {
	n, err := strconv.Atoi(e.Prop(name).Text())
	if err != nil {
		return
	}
	if at, ok := to(n); ok && at >= 0 {
		change(name, strconv.Itoa(at))
	}
}

// shown tells a conflict of the common ground in the places of mine; what mine does not have
// is told as it was, or as theirs has it.
func shown(sheets map[string]*grounds, c element.Conflict) element.Conflict {
	if len(c.Address.Steps) < 2 || c.Address.Steps[0].Type != "sheet" {
		return c
	}
	home := c.Address.Steps[0].Key
	g := sheets[home]
	c.Address.Steps = slices.Clone(c.Address.Steps)
	for i, step := range c.Address.Steps {
		if g != nil && i > 0 {
			c.Address.Steps[i].Key = g.told(step)
		}
	}
	for side, l := range map[*element.Side]func(ground) lane{&c.Base: ofBase, &c.Mine: ofMine, &c.Theirs: ofTheirs} {
		m := &mover{sheets: sheets, to: func(g ground, n, _ int) (int, bool) { return l(g).own(n) }}
		if c.Address.Property == formulaProperty {
			if said, err := m.formula(home, side.Value.Text()); err == nil && side.Value.Sort() == element.Text {
				side.Value = element.TextValue(said)
			}
		}
	}
	return c
}

// taken gives a choice of a formula, which speaks of the places that mine has.
func taken(sheets map[string]*grounds, c element.Conflict, choice element.Choice) element.Choice {
	if c.Address.Property != formulaProperty || len(c.Address.Steps) == 0 || choice.Value.Sort() != element.Text {
		return choice
	}
	m := &mover{sheets: sheets, to: func(g ground, n, _ int) (int, bool) { return g.mine.common(n), true }}
	if said, err := m.formula(c.Address.Steps[0].Key, choice.Value.Text()); err == nil {
		choice.Value = element.TextValue(said)
	}
	return choice
}

// told gives the key of a cell, row or line as mine has it.
func (g *grounds) told(step element.Step) string {
	for _, v := range []struct {
		lane func(ground) lane
		mark string
	}{{ofMine, ""}, {ofBase, " before"}, {ofTheirs, " of theirs"}} {
		said, ok := "", false
		switch {
		case step.Type == "row":
			said, ok = ownRow(v.lane(g.rows), step.Key)
		case step.Type == "cell":
			col, row, _ := place(step.Key)
			at, ok1 := v.lane(g.rows).own(row)
			to, ok2 := v.lane(g.cols).own(col)
			said, ok = columnName(to)+strconv.Itoa(at), ok1 && ok2
		case step.Type == lineType && strings.HasPrefix(step.Key, "row "):
			said, ok = ownRow(v.lane(g.rows), step.Key[len("row "):])
			said = "row " + said
		case step.Type == lineType:
			to, there := v.lane(g.cols).own(column(strings.TrimPrefix(step.Key, "column ")))
			said, ok = "column "+columnName(to), there
		}
		if ok {
			return said + v.mark
		}
	}
	return step.Key
}

func ownRow(l lane, key string) (string, bool) {
	n, _ := strconv.Atoi(key)
	at, ok := l.own(n)
	return strconv.Itoa(at), ok
}
