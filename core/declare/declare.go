// Package declare changes oaken.toml for commands, by the kind that reads and writes settings: what a change is not
// about stays as people wrote it, with comments, order and spaces.
package declare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/settings"
	"oakenchest/core/manifest"
)

// edit gives the file after a change of its tree.
func edit(data []byte, change func(root *element.Element) error) ([]byte, error) {
	toml := settings.TOML()
	src := kind.FileSource{Name: manifest.Name, Data: data}
	r, err := toml.Read(src)
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", manifest.Name, err)
	}
	want := r.Root.Clone()
	if err := change(want); err != nil {
		return nil, err
	}
	files, err := toml.Write(src, want, nil)
	if err != nil {
		return nil, fmt.Errorf("%s is laid out otherwise than this can be written into: %w", manifest.Name, err)
	}
	if out, changed := files[manifest.Name]; changed {
		return out, nil
	}
	return data, nil
}

// Environment declares an environment with one target.
func Environment(data []byte, e manifest.Environment) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		add(root, "environment", text("name", e.Name), text("target", e.Target), text("into", e.Into), text("tier", string(e.Tier)),
			text("runs", string(e.Runs)),
			text("lane", e.Lane), text("branch", e.Branch), list("gates", e.Gates))
		return nil
	})
}

// Artifact declares an artifact.
func Artifact(data []byte, a manifest.Artifact) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		add(root, "artifact", text("path", a.Path), text("kind", a.Kind))
		return nil
	})
}

// Lane declares a lane of the pipeline.
func Lane(data []byte, l manifest.Lane) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		add(root, "pipeline.lane", text("name", l.Name), text("branch", l.Branch), list("developers", l.Developers), text("about", l.About))
		return nil
	})
}

// Move declares a way from one environment to another.
func Move(data []byte, m manifest.Move) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		add(root, "pipeline.move", text("from", m.From), text("to", m.To), list("gates", m.Gates), text("about", m.About))
		return nil
	})
}

// Gate declares a gate.
func Gate(data []byte, g manifest.Gate) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		add(root, "pipeline.gate", text("name", g.Name), list("command", g.Command), text("within", g.Within),
			number("approvals", g.Approvals),
			list("by", g.By), text("needs", g.Needs), text("rest", g.Rest))
		return nil
	})
}

// RemoveEnvironment takes the declaration of an environment out, with what it says of its targets.
func RemoveEnvironment(data []byte, name string) ([]byte, error) {
	return edit(data, func(root *element.Element) error {
		all := child(root, "environment")
		if all != nil {
			kept := slices.DeleteFunc(slices.Clone(all.Children), func(e *element.Element) bool { return e.Prop("name").Text() == name })
			if len(kept) < len(all.Children) {
				all.Children = kept
				if len(kept) == 0 {
					root.Children = slices.DeleteFunc(slices.Clone(root.Children), func(e *element.Element) bool { return e == all })
				}
				return nil
			}
		}
		return fmt.Errorf("%s has no environment %s", manifest.Name, name)
	})
}

// naming lists where the file speaks of environments: the path of a list of tables, and the keys.
var naming = []struct {
	list string
	keys []string
}{
	{"environment", []string{"name"}},
	{"pipeline.move", []string{"from", "to"}},
	{"pipeline.freeze", []string{"environments"}},
	{"pipeline.window", []string{"environments"}},
}

// RenameEnvironment gives an environment another name, wherever the file speaks of it.
func RenameEnvironment(data []byte, from, to string) ([]byte, error) {
	out, err := edit(data, func(root *element.Element) error {
		for _, n := range naming {
			all := root
			for name := range strings.SplitSeq(n.list, ".") {
				if all != nil {
					all = child(all, name)
				}
			}
			if all == nil {
				continue
			}
			for _, item := range all.Children {
				item.Former = item.Key
				for _, key := range n.keys {
					respell(item, key, from, to)
				}
			}
			kind.KeyItems(all.Children)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	m, err := manifest.Parse(out)
	if err != nil {
		return nil, err
	}
	_, err = m.Environment(to)
	return out, err
}

// respell writes one name in place of another in a property, or in a list that it is.
func respell(e *element.Element, key, from, to string) {
	i := slices.IndexFunc(e.Props, func(p element.Prop) bool { return p.Name == key })
	if i < 0 {
		return
	}
	one := func(v element.Value) element.Value {
		if v.Sort() == element.Text && v.Text() == from {
			return element.TextValue(to)
		}
		return v
	}
	v := e.Props[i].Value
	if v.Sort() != element.List {
		e.Props[i].Value = one(v)
		return
	}
	items := slices.Clone(v.Items())
	for k := range items {
		items[k] = one(items[k])
	}
	e.Props[i].Value = element.ListValue(items...)
}

func child(e *element.Element, key string) *element.Element {
	i := slices.IndexFunc(e.Children, func(c *element.Element) bool { return c.Key == key })
	if i < 0 {
		return nil
	}
	return e.Children[i]
}

// text is a key with a text, list one with several, number one with a number; where there is nothing to say there is no
// key.
func text(key, s string) element.Prop {
	if s == "" {
		return element.Prop{}
	}
	return element.Prop{Name: key, Value: element.TextValue(s)}
}

func list(key string, texts []string) element.Prop {
	if len(texts) == 0 {
		return element.Prop{}
	}
	values := make([]element.Value, len(texts))
	for i, s := range texts {
		values[i] = element.TextValue(s)
	}
	return element.Prop{Name: key, Value: element.ListValue(values...)}
}

func number(key string, n int) element.Prop {
	if n == 0 {
		return element.Prop{}
	}
	return element.Prop{Name: key, Value: element.NumberValue(strconv.Itoa(n))}
}

// add puts one more table at the end of a list of tables.
func add(root *element.Element, path string, entries ...element.Prop) {
	at := root
	names := strings.Split(path, ".")
	for i, name := range names {
		c := child(at, name)
		if c == nil {
			c = &element.Element{Type: "object", Key: name, Firm: true}
			if i == len(names)-1 {
				c = &element.Element{Type: "list", Key: name, Ordered: true, Firm: true}
			}
			at.Add(c)
		}
		at = c
	}
	item := &element.Element{Type: "item", Firm: true}
	for _, p := range entries {
		if p.Name != "" {
			item.Props = append(item.Props, p)
		}
	}
	at.Add(item)
	kind.KeyItems(at.Children)
}
