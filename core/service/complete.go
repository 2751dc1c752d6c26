package service

import (
	"context"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/state"
)

// mostOffered bounds what is offered to complete a word.
const mostOffered = 500

// Elements lists the addresses of elements that begin as a text does, PATH::…, one step further than it: in the file at
// the path, as a state has it. Properties are offered behind a dot. It gives none where nothing can be read.
func Elements(ctx context.Context, r *state.Reader, s state.State, text string) []string {
	path, inside, found := strings.Cut(text, "::")
	if !found {
		return nil
	}
	begin, _ := cutStep(inside)
	above, err := element.ParseAddress(path + "::" + strings.TrimSuffix(begin, "/"))
	if begin == "" {
		above, err = element.Address{Path: path}, nil
	}
	if err != nil {
		return nil
	}
	art, err := r.Read(ctx, s, path)
	if err != nil {
		return nil
	}
	parent := art.Reading.Root.Find(above.Steps)
	if parent == nil {
		return nil
	}
	var out []string
	offer := func(a element.Address) {
		if text := a.String(); strings.HasPrefix(text, path+"::"+inside) && len(out) < mostOffered {
			out = append(out, text)
		}
	}
	for i, step := range parent.Steps() {
		at := above.Below(step)
		offer(at)
		if strings.HasPrefix(path+"::"+inside, at.String()+".") {
			for _, p := range parent.Children[i].Props {
				offer(at.Of(p.Name))
			}
		}
	}
	return out
}

// cutStep parts what stands behind :: at the last / that is in no quotes.
func cutStep(text string) (begin, last string) {
	quoted, at := false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && quoted:
			i++
		case c == '"':
			quoted = !quoted
		case c == '/' && !quoted:
			at = i + 1
		}
	}
	return text[:at], text[at:]
}
