package sqlfolder

import (
	"bytes"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/postgres"
	"oakenchest/core/schema/sqltext"
)

var _, _, _ kind.Remarker = Kind{}, Postgres{}, MariaDB{}

// Remarks lists comments.
func (Kind) Remarks(data []byte) []kind.Remark { return comments(&sqltext.Dialect{Quote: '"'}, data) }

// Remarks lists comments.
func (Postgres) Remarks(data []byte) []kind.Remark { return comments(postgres.Dialect, data) }

// Remarks lists comments.
func (MariaDB) Remarks(data []byte) []kind.Remark { return comments(mariadb.Dialect, data) }

var _, _, _ kind.Ruled = Kind{}, Postgres{}, MariaDB{}

var _, _ kind.Unproven = Postgres{}, MariaDB{}

// Engine is the one that these schemas are for.
func (Postgres) Engine() string { return "PostgreSQL" }

// Engine is the one that these schemas are for.
func (MariaDB) Engine() string { return "MariaDB" }

// Rules say that SQL names things by words, and that indexes share one list of names.
func (Kind) Rules() element.Rules { return element.Rules{Words: true, Unique: []string{"index"}} }

// Rules are those of a schema, but that each table names its indexes itself.
func (MariaDB) Rules() element.Rules { return element.Rules{Words: true} }

func comments(d *sqltext.Dialect, data []byte) []kind.Remark {
	tokens, err := d.Scan(string(data))
	if err != nil {
		return nil // a file of rows, or one that was said to be broken elsewhere
	}
	var out []kind.Remark
	last, above := "", 0 // what was read last, and where those begin that wait for something
	for i, t := range tokens {
		if t.Sort != sqltext.Comment {
			for ; above < len(out); above++ {
				out[above].Of = begun(d, tokens[i:])
			}
			if t.Sort == sqltext.Word || t.Sort == sqltext.Quoted {
				last = t.Text
			}
			continue
		}
		out = append(out, kind.Remark{Text: strings.ReplaceAll(strings.TrimRight(t.Text, "\r"), "\r\n", "\n")})
		if behind(data, t.From) { // on the line of what it is about
			out[len(out)-1].Of = "behind " + last
			above = len(out)
		}
	}
	return out
}

// begun tells what begins with some tokens: a statement with what it is about, else the
// first of them.
func begun(d *sqltext.Dialect, tokens []sqltext.Token) string {
	if !tokens[0].Is("create") && !tokens[0].Is("alter") && !tokens[0].Is("comment") {
		return d.NameOf(tokens[0])
	}
	var words []string
	for _, t := range sqltext.Meaning(tokens) {
		if t.Is("(") || t.Is("as") || t.Is("is") || len(words) == longest {
			break
		}
		words = append(words, strings.ToLower(d.NameOf(t)))
	}
	return strings.Join(words, " ")
}

// longest bounds the words that a statement is told by.
const longest = 8

// behind reports whether something stands before a byte on its line.
func behind(data []byte, at int) bool {
	line := data[bytes.LastIndexByte(data[:at], '\n')+1 : at]
	return len(bytes.TrimSpace(line)) > 0
}
