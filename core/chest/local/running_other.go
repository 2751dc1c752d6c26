//go:build !unix

package local

// running can't be told here: only the age of its lease does.
func running(int) bool { return true }
