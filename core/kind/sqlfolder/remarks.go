package sqlfolder

import (
	"oakenchest/core/kind"
	"oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/postgres"
	"oakenchest/core/schema/sqltext"
)

var _, _, _ kind.Remarker = Kind{}, Postgres{}, MariaDB{}

// Remarks lists comments.
func (Kind) Remarks(data []byte) []string { return comments(&sqltext.Dialect{Quote: '"'}, data) }

// Remarks lists comments.
func (Postgres) Remarks(data []byte) []string { return comments(postgres.Dialect, data) }

// Remarks lists comments.
func (MariaDB) Remarks(data []byte) []string { return comments(mariadb.Dialect, data) }

func comments(d *sqltext.Dialect, data []byte) []string {
	tokens, err := d.Scan(string(data))
	if err != nil {
		return nil // a file of rows, or one that was said to be broken elsewhere
	}
	var out []string
	for _, t := range tokens {
		if t.Sort == sqltext.Comment {
			out = append(out, t.Text)
		}
	}
	return out
}
