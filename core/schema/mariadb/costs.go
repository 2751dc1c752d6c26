package mariadb

import (
	"strings"

	"oakenchest/core/element"
)

// widths are the most bytes that a letter takes, by character set.
var widths = map[string]int{"utf8mb4": 4, "utf8mb3": 3, "utf8": 3, "latin1": 1, "ascii": 1, "binary": 1, "latin2": 1, "cp1250": 1,
	"cp1251": 1, "cp1252": 1, "ucs2": 2, "utf16": 4, "utf32": 4}

// cost says what it takes to give a column another definition.
func (a *alteration) cost(l, c *element.Element) Effect {
	differs := func(names ...string) bool {
		for _, n := range names {
			if textOf(l, n) != textOf(c, n) {
				return true
			}
		}
		return false
	}
	flags := has(l, "not null") != has(c, "not null") || !has(l, "auto increment") && has(c, "auto increment") ||
		has(l, "stored") != has(c, "stored")
	if flags || differs("generated") || typeOf(a.l, l).charset != typeOf(a.w, c).charset || differs("type") && !a.grows(l, c) {
		return Rewrites
	}
	if !differs("collate") {
		return Instant
	}
	effect := Instant // another order of texts concerns indexes alone
	for _, k := range kids(a.w, "index") {
		parts, _ := keyParts(textOf(k, "definition"))
		for _, x := range parts {
			switch {
			case x.name == c.Key && k.Key == "primary":
				return Rewrites
			case x.name == c.Key:
				effect = Scans
			}
		}
	}
	return effect
}

// grows says that a column gets a type that holds more and leaves the rows as they are on disk
// (MariaDB, "Instant ADD COLUMN for InnoDB", "ALTER TABLE": a longer varchar whose length takes as
// many bytes to note, values behind those of an enum or a set).
func (a *alteration) grows(l, c *element.Element) bool {
	if e := textOf(a.w, "engine"); e != "" && !strings.EqualFold(e, "innodb") {
		return false
	}
	from, to := typeOf(a.l, l), typeOf(a.w, c)
	if from.name != to.name || from.unsigned != to.unsigned || from.charset != to.charset || has(l, "generated") || has(c, "generated") {
		return false
	}
	switch from.name {
	case "varchar", "varbinary":
		width := 1
		if from.name == "varchar" {
			width = widths[from.charset]
		}
		was, is := from.arg(0, 0)*width, to.arg(0, 0)*width
		return width > 0 && is >= was && (was > 255) == (is > 255)
	case "enum", "set":
		if !inOrder(from.args, to.args) {
			return false
		}
		if from.name == "set" {
			return (len(from.args)+7)/8 == (len(to.args)+7)/8
		}
		return len(to.args) < 256 || len(from.args) > 255
	}
	return false
}

// indexed says that an index of the wanted table has a column.
func (a *alteration) indexed(c *element.Element) bool {
	for _, k := range kids(a.w, "index") {
		parts, _ := keyParts(textOf(k, "definition"))
		for _, x := range parts {
			if x.name == c.Key {
				return true
			}
		}
	}
	return false
}
