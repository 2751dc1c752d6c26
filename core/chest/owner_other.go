//go:build !unix

package chest

// Owned reports whether the chest's folder belongs to whoever runs the program; on this system
// that is not known.
func (c *Chest) Owned() bool { return false }
