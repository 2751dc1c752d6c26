package environment

import (
	"context"
	"errors"
	"io/fs"
	"os"
)

// createFile is for targets that a deployment makes: only the undoing is needed.
func createFile(h Host, rest string) (func(context.Context) error, error) {
	file := h.File(rest)
	if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
		return Nothing, nil
	}
	return func(context.Context) error { return os.RemoveAll(file) }, nil
}

// Nothing undoes nothing.
func Nothing(context.Context) error { return nil }
