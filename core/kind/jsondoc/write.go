package jsondoc

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
)

// Bytes writes the document.
func (d *Doc) Bytes() []byte {
	w := &writer{unit: d.unit}
	w.buf.WriteString(d.lead)
	w.node(d.Root, "")
	w.buf.WriteString(d.trail)
	return w.buf.Bytes()
}

// Source gives the text of one node of the document.
func (d *Doc) Source(n *Node) []byte {
	w := &writer{unit: d.unit}
	w.node(n, "")
	return w.buf.Bytes()
}

// Format writes a node that was made: with indentation by unit, or compact when
// unit is empty. Arrays of scalars stay on one line.
func Format(n *Node, unit string) []byte {
	w := &writer{unit: unit}
	w.node(n, "\n")
	if unit != "" {
		w.buf.WriteByte('\n')
	}
	return w.buf.Bytes()
}

type writer struct {
	buf  bytes.Buffer
	unit string
}

func (w *writer) node(n *Node, indent string) {
	open, end := byte('['), byte(']')
	switch n.Kind {
	case Object:
		open, end = '{', '}'
	case Array:
	default:
		w.buf.WriteString(n.literal())
		return
	}
	w.buf.WriteByte(open)
	fresh := len(n.Items) > 0 && !n.Items[0].placed && n.tail == ""
	inner := ""
	if w.unit != "" && !n.flat() {
		if indent == "" {
			indent = "\n"
		}
		inner = indent + w.unit
	}
	for i, it := range n.Items {
		if i > 0 {
			w.buf.WriteByte(',')
		}
		lead, mid := it.lead, it.mid
		if !it.placed {
			lead = inner
			if i > 0 && inner == "" && w.unit != "" {
				lead = " "
			}
			if mid = ":"; w.unit != "" {
				mid = ": "
			}
		}
		w.buf.WriteString(lead)
		if n.Kind == Object {
			if it.keyRaw != "" {
				w.buf.WriteString(it.keyRaw)
			} else {
				w.buf.WriteString(quote(it.Key))
			}
			w.buf.WriteString(mid)
		}
		next := inner
		if j := strings.LastIndexByte(lead, '\n'); j >= 0 {
			next = lead[j:]
		}
		w.node(it.Value, next)
		w.buf.WriteString(it.trail)
	}
	if fresh && inner != "" {
		w.buf.WriteString(indent)
	}
	w.buf.WriteString(n.tail)
	w.buf.WriteByte(end)
}

// flat says that an array holds scalars alone.
func (n *Node) flat() bool {
	for _, it := range n.Items {
		if n.Kind == Object || it.Value.Kind == Object || it.Value.Kind == Array {
			return false
		}
	}
	return true
}

func (n *Node) literal() string {
	switch {
	case n.raw != "":
		return n.raw
	case n.Kind == Null:
		return "null"
	case n.Kind == String:
		return quote(n.Text)
	default:
		return n.Text
	}
}

func quote(s string) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // a string always encodes
	return strings.TrimSuffix(b.String(), "\n")
}

// Become turns n into want. What is equal keeps its bytes; members that stay
// keep their order; new ones come behind the one that they follow, laid out like their
// neighbours.
func (n *Node) Become(want *Node) {
	switch {
	case n.Equal(want):
	case n.Kind == Object && want.Kind == Object:
		n.becomeObject(want)
	case n.Kind == Array && want.Kind == Array:
		n.becomeArray(want)
	default:
		*n = *want.Clone()
	}
}

func (n *Node) becomeObject(want *Node) {
	var kept []Item
	for _, it := range n.Items {
		if w := want.Get(it.Key); w != nil {
			it.Value.Become(w)
			kept = append(kept, it)
		}
	}
	sample := n.sample()
	for i, it := range want.Items {
		if n.Get(it.Key) != nil {
			continue
		}
		at := len(kept)
		if i > 0 { // behind the member that it follows
			if before := slices.IndexFunc(kept, func(x Item) bool { return x.Key == want.Items[i-1].Key }); before >= 0 {
				at = before + 1
			}
		}
		fresh := Item{Key: it.Key, Value: it.Value.Clone(), lead: sample.lead, mid: sample.mid, placed: sample.placed}
		if at == len(kept) && at > 0 { // what stands before the end stays there
			fresh.trail, kept[at-1].trail = kept[at-1].trail, ""
		}
		kept = slices.Insert(kept, at, fresh)
	}
	n.Items = kept
}

// becomeArray keeps equal values at both ends and turns those between into
// their counterparts, one by one.
func (n *Node) becomeArray(want *Node) {
	head, tail := 0, 0
	a, b := n.Items, want.Items
	for head < len(a) && head < len(b) && a[head].Value.Equal(b[head].Value) {
		head++
	}
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail].Value.Equal(b[len(b)-1-tail].Value) {
		tail++
	}
	out := append([]Item{}, a[:head]...)
	sample := n.sample()
	for k, it := range b[head : len(b)-tail] {
		if head+k < len(a)-tail {
			old := a[head+k]
			old.Value.Become(it.Value)
			out = append(out, old)
			continue
		}
		out = append(out, Item{Value: it.Value.Clone(), lead: sample.lead, placed: sample.placed})
	}
	n.Items = append(out, a[len(a)-tail:]...)
}

// sample gives the layout for a new item: that of the last one.
func (n *Node) sample() Item {
	if len(n.Items) == 0 {
		return Item{}
	}
	return n.Items[len(n.Items)-1]
}
