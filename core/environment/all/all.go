// Package all is the list of the sorts of targets that the program reaches.
package all

import (
	"oakenchest/core/environment"
	"oakenchest/core/environment/folder"
	"oakenchest/core/environment/mariadb"
	"oakenchest/core/environment/postgres"
	"oakenchest/core/environment/sqlite"
)

func init() {
	environment.Register(sqlite.Sort, postgres.Sort, mariadb.Sort, folder.Sort)
}
