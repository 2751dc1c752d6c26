package mariadb

import (
	"fmt"
	"regexp"
	"strings"

	"golang.org/x/text/encoding/charmap"

	"oakenchest/core/schema/sqltext"
)

// Views, routines, triggers and events remember the character set and the collation of the session
// that made them (MariaDB, "SHOW CREATE VIEW"): the first says how their text was read, the second
// how they compare texts. A file says them before the object, where they are not the usual ones:
//
//	set character_set_client = latin1, collation_connection = latin1_swedish_ci;

const usualCharset, usualCollation = "utf8mb4", "utf8mb4_general_ci"

// sessionOf writes a session's character set and collation; empty for the usual ones.
func sessionOf(charset, collation string) string {
	if charset == usualCharset && collation == usualCollation || charset == "" {
		return ""
	}
	return charset + " " + collation
}

// SetSession gives the statement for a session; the usual one for an empty.
func SetSession(session string) string {
	charset, collation, ok := strings.Cut(session, " ")
	if !ok {
		charset, collation = usualCharset, usualCollation
	}
	return "set character_set_client = " + charset + ", collation_connection = " + collation
}

var plainName = regexp.MustCompile(`^[A-Za-z0-9_]+$`)

// sessionSaid reads such a statement; c stays where it is when it is another.
func sessionSaid(c *sqltext.Cursor) (session string, ok bool) {
	at := c.At
	if c.Skip("set", "character_set_client", "=") {
		charset := Dialect.Unquote(c.Next().Text)
		if c.Skip(",", "collation_connection", "=") {
			collation := Dialect.Unquote(c.Next().Text)
			if !c.More() && plainName.MatchString(charset) && plainName.MatchString(collation) {
				return sessionOf(charset, collation), true
			}
		}
	}
	c.At = at
	return "", false
}

// inCharset gives a statement in the bytes of a session's character set.
func inCharset(session, sql string) (string, error) {
	charset, _, _ := strings.Cut(session, " ")
	if strings.HasPrefix(charset, "utf8") || isASCII(sql) {
		return sql, nil
	}
	if charset == "latin1" { // the engine means Windows' code page 1252
		out, err := charmap.Windows1252.NewEncoder().String(sql)
		if err != nil {
			return "", fmt.Errorf("it is made in the character set latin1, which has not all of its letters")
		}
		return out, nil
	}
	return "", fmt.Errorf("it is made in the character set %s, in which only plain letters can be written here: make it in utf8mb4",
		charset)
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}
