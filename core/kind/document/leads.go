package document

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var _ kind.Aligner = Kind{}

// Align leaves the versions of a deck as they are, and looks at the merge: a reference that
// one side has must not come to a slide that took the title of the one that is meant.
func (Kind) Align(b, m, t *element.Element) (*kind.Alignment, error) {
	mine, theirs := leads(m), leads(t)
	if len(mine)+len(theirs) == 0 {
		return nil, nil
	}
	return &kind.Alignment{
		Base: b, Mine: m, Theirs: t,
		Back: func(merged *element.Element) (*element.Element, error) {
			for word := range leads(merged) {
				is := textsOf(merged, word)
				if !(mine[word] && kin(is, textsOf(m, word)) || theirs[word] && kin(is, textsOf(t, word))) {
					return nil, fmt.Errorf("a reference leads to the %s, which is another one on the other side", word)
				}
			}
			return merged, nil
		},
		Show: func(c element.Conflict) element.Conflict { return c },
		Take: func(_ element.Conflict, choice element.Choice) element.Choice { return choice },
	}, nil
}

// leads gives the words for slides to which something in a deck refers.
func leads(root *element.Element) map[string]bool {
	out := map[string]bool{}
	var look func(e *element.Element)
	look = func(e *element.Element) {
		for _, name := range []string{"Target", "id"} {
			if word := e.Prop(name).Text(); strings.HasPrefix(word, toSlide) {
				out[word] = true
			}
		}
		for _, c := range e.Children {
			look(c)
		}
	}
	look(root)
	return out
}

// textsOf gives the texts of the slide that a word is for.
func textsOf(root *element.Element, word string) map[string]bool {
	out := map[string]bool{}
	holder := holderOf(root, slidesType)
	if holder == nil {
		return out
	}
	titles := own(holder.Children)
	for i, s := range holder.Children {
		said := toSlide + "that says " + words(entitled(s, titles[i]))
		if word == toSlide+titles[i] || word == said {
			gatherTexts(s, out)
		}
	}
	return out
}

func gatherTexts(e *element.Element, into map[string]bool) {
	if text := e.Prop(textProperty).Text(); text != "" {
		into[text] = true
	}
	for _, c := range e.Children {
		gatherTexts(c, into)
	}
}

// kin reports whether two slides say something in common, or nothing at all.
func kin(a, b map[string]bool) bool {
	for text := range a {
		if b[text] {
			return true
		}
	}
	return len(a)+len(b) == 0
}
