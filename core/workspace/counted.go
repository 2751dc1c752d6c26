package workspace

import "fmt"

func isAre(n int) string {
	if n == 1 {
		return "1 file was"
	}
	return fmt.Sprintf("%d files were", n)
}
