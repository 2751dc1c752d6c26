//go:build !unix

package local

// Owned reports whether the chest's folder belongs to whoever runs the program; on this system
// that is not known.
func (f *Folder) Owned() bool { return false }
