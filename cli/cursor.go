package cli

// cursor is where one stands in a list on the terminal, and the first line shown of it.
type cursor struct{ at, top int }

// move follows a key through a list of n lines, of which room fit; false says that the key
// means something else.
func (c *cursor) move(key string, n, room int) bool {
	switch key {
	case "up":
		c.at = max(c.at-1, 0)
	case "down":
		c.at = min(c.at+1, n-1)
	case "pgup":
		c.at = max(c.at-room, 0)
	case "pgdown":
		c.at = min(c.at+room, n-1)
	case "home":
		c.at = 0
	case "end":
		c.at = n - 1
	default:
		return false
	}
	c.scroll(room)
	return true
}

// scroll brings the line where one stands into view.
func (c *cursor) scroll(room int) {
	c.top = min(c.top, c.at)
	c.top = max(c.top, c.at-room+1)
}
