package board

import (
	"io"
	"regexp"
	"strings"

	"oakenchest/core/pipeline"
)

// plainly gives what the classes of the picture look like, as attributes (SVG 1.1, "Styling properties"): many programs
// that show pictures read no style sheet, or no variables in one.
var plainly = map[string]string{
	"oak":   `font-family="DejaVu Sans, Segoe UI, sans-serif" font-size="11"`,
	"paper": `fill="#f7f5f1"`, "band": `fill="#eeeae1"`, "shared": `fill="#e3ecec"`, "box": `fill="#ffffff" stroke="#cfc9ba"`,
	"text": `fill="#24221e"`, "soft": `fill="#6d675d"`, "name": `fill="#24221e" font-weight="bold" font-size="13"`,
	"lane": `fill="#24221e" font-weight="bold" font-size="13"`, "head": `fill="#6d675d" font-size="11"`,
	"move": `fill="none" stroke="#b9b3a4" stroke-width="1.5"`, "busy": `fill="none" stroke="#0b6070" stroke-width="2"`,
	"tip": `fill="#b9b3a4"`, "busytip": `fill="#0b6070"`, "good": `fill="#3c7a52"`, "warm": `fill="#a8660f"`, "bad": `fill="#ad3730"`,
	"cool": `fill="#0b6070"`, "bubble": `fill="#0b6070"`, "count": `fill="#ffffff" font-weight="bold" font-size="10"`,
}

var (
	styleSheet = regexp.MustCompile(`(?s)<style>.*?</style>`)
	classes    = regexp.MustCompile(` class="([^"]*)"`)
	bareText   = regexp.MustCompile(`<text ([^>]*)>`)
)

// plain gives a picture with plain colours in place of classes.
func plain(picture string) string {
	picture = styleSheet.ReplaceAllString(picture, "")
	picture = bareText.ReplaceAllStringFunc(picture, func(tag string) string {
		if strings.Contains(tag, ` class="`) {
			return tag
		}
		return strings.TrimSuffix(tag, ">") + ` class="text">`
	})
	return classes.ReplaceAllStringFunc(picture, func(attribute string) string {
		named := strings.Fields(classes.FindStringSubmatch(attribute)[1])
		if len(named) == 0 {
			named = []string{"text"}
		}
		set := map[string]string{}
		var order []string
		for _, class := range named { // what a later class says counts
			for part := range strings.SplitSeq(plainly[class], `" `) {
				name, value, ok := strings.Cut(strings.TrimSuffix(part, `"`), `="`)
				if !ok {
					continue
				}
				if _, there := set[name]; !there {
					order = append(order, name)
				}
				set[name] = value
			}
		}
		out := ""
		for _, name := range order {
			out += " " + name + `="` + set[name] + `"`
		}
		return out
	})
}

// Plain draws the landscape as a picture for every program that shows pictures.
func Plain(w io.Writer, o *pipeline.Overview) error {
	var b strings.Builder
	if err := SVG(&b, o); err != nil {
		return err
	}
	_, err := io.WriteString(w, plain(b.String()))
	return err
}
