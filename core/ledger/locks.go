package ledger

import (
	"strings"
	"time"
)

// Lock reserves what an address names for one person in one workspace.
type Lock struct {
	// Address is a path, a pattern of paths, or the address of an element.
	Address   string
	Holder    string
	Workspace string
	Since     time.Time
	Reason    string
	// Ends is when others may take it over; zero for no such time.
	Ends time.Time
	// Pattern says that the address is a pattern, Folder that it is a folder.
	Pattern, Folder bool
}

// Above gives an address and everything that it lies in.
func Above(address string) []string {
	out := []string{".", address}
	path, _, object := strings.Cut(address, "::")
	if object {
		out = append(out, path)
	}
	for i := range path {
		if path[i] == '/' {
			out = append(out, path[:i])
		}
	}
	for i := len(path) + 2; i < len(address); i++ {
		if address[i] == '/' || address[i] == '.' {
			out = append(out, address[:i])
		}
	}
	return out
}

// Below gives what may follow an address in those of things inside of it.
func Below(address string) []string {
	if strings.Contains(address, "::") {
		return []string{"/", "."}
	}
	return []string{"/", "::"}
}
