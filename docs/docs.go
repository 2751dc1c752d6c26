// Package docs holds the pages that the program shows by itself: the topics of oaken help.
package docs

import (
	"embed"
	"strings"
)

//go:embed topics/*.md
var topics embed.FS

// Topic is a page that the program shows.
type Topic struct{ Name, Title, Text string }

// order is the order of the topics.
var order = []string{"start", "states", "addresses", "locks", "databases", "pipeline", "trouble", "exit"}

// Topics lists the pages, in order.
func Topics() []Topic {
	var out []Topic
	for _, name := range order {
		data, err := topics.ReadFile("topics/" + name + ".md")
		if err != nil {
			panic(err) // it is built in
		}
		title, text, _ := strings.Cut(strings.TrimPrefix(string(data), "# "), "\n")
		out = append(out, Topic{name, title, strings.TrimSpace(text)})
	}
	return out
}
