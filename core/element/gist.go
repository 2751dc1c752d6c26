package element

import "strconv"

// Counted writes a number with its noun, as gists do: 1 column, 4 columns.
func Counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return strconv.Itoa(n) + " " + noun + "s"
}
