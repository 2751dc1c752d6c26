package postgres

import (
	"regexp"
	"strconv"
	"strings"
)

var modifiedType = regexp.MustCompile(`^([a-z ]+?)\s*\(([0-9]+)(?:,\s*([0-9]+))?\)(.*)$`)

// sized is a type with its size taken apart; -1 stands for none.
func sized(typ string) (name string, size, scale int) {
	m := modifiedType.FindStringSubmatch(typ)
	if m == nil {
		return typ, -1, -1
	}
	size, _ = strconv.Atoi(m[2])
	scale = 0
	if m[3] != "" {
		scale, _ = strconv.Atoi(m[3])
	}
	return strings.TrimSpace(m[1] + m[4]), size, scale
}

// keepsRows says that a change of type leaves the rows as they are on disk: the engine only
// notes it (PostgreSQL, "ALTER TABLE", Notes, and the planner support functions of the casts of
// varchar, numeric, varbit and the times).
func keepsRows(from, to string) bool {
	a, had, scale := sized(from)
	b, has, next := sized(to)
	wider := has < 0 || had >= 0 && has >= had
	switch {
	case a == "character varying" && (b == "character varying" || b == "text") && (b == "text" || wider):
		return true
	case (a == "text" || a == "xml") && b == "character varying" && has < 0, a == "xml" && b == "text":
		return true
	case a == b && (a == "bit varying" || strings.HasPrefix(a, "timestamp") || strings.HasPrefix(a, "time ")):
		return wider
	case a == b && a == "numeric":
		return has < 0 || had >= 0 && has >= had && scale == next
	}
	return from == to
}
