package scene

import (
	"errors"
	"fmt"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/jsontree"
)

// hierarchy gives each node its list of children, from their parents.
func (w *sceneWriter) hierarchy() error {
	slots := w.slots["nodes"]
	children := make([]map[int]bool, len(slots))
	parent := make([]int, len(slots))
	for i := range slots {
		children[i], parent[i] = map[int]bool{}, -1
	}
	for i, s := range slots {
		v := s.want.Prop("parent")
		if v.IsAbsent() {
			continue
		}
		p, ok := w.index["nodes"][v.Text()]
		if !ok {
			return fmt.Errorf("node %q hangs on %q, which is not there", s.want.Key, v.Text())
		}
		children[p][i], parent[i] = true, p
	}
	was := w.f.list("nodes")
	for i, s := range slots {
		for steps, at := 0, i; at >= 0; steps, at = steps+1, parent[at] {
			if steps > len(slots) {
				return fmt.Errorf("node %q hangs below itself", s.want.Key)
			}
		}
		var old *jsondoc.Node
		if s.old >= 0 {
			old = was[s.old].Get("children")
		}
		list := w.inOldOrder(old, children[i])
		if list != nil && len(list.Items) == 0 {
			list = nil
		}
		if !list.Equal(s.node.Get("children")) {
			s.node.Set("children", list)
		}
	}
	return nil
}

// topLevel puts the collections and everything else of the root in its place.
func (w *sceneWriter) topLevel(want *element.Element) error {
	for _, c := range collections {
		var list *jsondoc.Node
		if slots := w.slots[c.list]; len(slots) > 0 {
			list = jsondoc.Arr()
			for _, s := range slots {
				list.Append(s.node)
			}
		}
		if c.list != lightList {
			w.doc.Set(c.list, list)
			continue
		}
		w.lights(list)
	}
	rest := *want
	rest.Props = slices.Clone(want.Props)
	rest.Children = nil
	for _, k := range want.Children {
		switch {
		case k.Type == "asset":
			asset, err := jsontree.Object(k)
			if err != nil {
				return err
			}
			w.doc.Set("asset", asset)
		case listOf(k.Type) == "":
			rest.Children = append(rest.Children, k)
		}
	}
	if v := take(&rest, "default scene"); !v.IsAbsent() {
		i, err := w.at("scenes", v)
		if err != nil {
			return errors.New("the default scene is not there")
		}
		w.doc.Set("scene", i)
	} else {
		w.doc.Set("scene", nil)
	}
	return w.others(&rest)
}

func (w *sceneWriter) lights(list *jsondoc.Node) {
	ext := w.doc.Get("extensions")
	if list == nil {
		w.doc.Set("extensions", without(ext, lightExtension))
		return
	}
	if ext == nil {
		ext = jsondoc.Obj()
		w.doc.Set("extensions", ext)
	}
	if ext.Get(lightExtension) == nil {
		ext.Set(lightExtension, jsondoc.Obj())
	}
	ext.Get(lightExtension).Set("lights", list)
}

// others puts back the members that are no collection; extensions are joined
// with that of the lights.
func (w *sceneWriter) others(rest *element.Element) error {
	obj, err := jsontree.Object(rest)
	if err != nil {
		return err
	}
	for _, it := range w.doc.Clone().Items {
		if !slices.Contains(elsewhere, it.Key) && !isCollection(it.Key) && obj.Get(it.Key) == nil {
			w.doc.Set(it.Key, nil)
		}
	}
	lights := w.doc.Get("extensions").Get(lightExtension)
	for _, it := range obj.Items {
		w.doc.Set(it.Key, it.Value)
	}
	if obj.Get("extensions") == nil {
		w.doc.Set("extensions", nil)
	}
	if lights != nil {
		if w.doc.Get("extensions") == nil {
			w.doc.Set("extensions", jsondoc.Obj())
		}
		w.doc.Get("extensions").Set(lightExtension, lights)
	}
	return nil
}

func isCollection(list string) bool {
	for _, c := range collections {
		if c.list == list {
			return true
		}
	}
	return false
}
