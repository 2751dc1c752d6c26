// Package all states which kinds are in the program.
package all

import (
	"oakenchest/core/kind"
	"oakenchest/core/kind/charset"
	"oakenchest/core/kind/document"
	"oakenchest/core/kind/jsontree"
	"oakenchest/core/kind/model"
	"oakenchest/core/kind/opaque"
	"oakenchest/core/kind/pack"
	"oakenchest/core/kind/picture"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/kind/scene"
	"oakenchest/core/kind/settings"
	"oakenchest/core/kind/sound"
	"oakenchest/core/kind/sqlfolder"
	"oakenchest/core/kind/sqlitefile"
	"oakenchest/core/kind/table"
	"oakenchest/core/kind/text"
	"oakenchest/core/kind/workbook"
	"oakenchest/core/kind/xmltree"
	"oakenchest/core/kind/yamltree"
)

// Table gives every kind, the most particular first.
func Table() *kind.Table {
	return recipe.Over(kind.NewTable(
		scene.Kind{},
		workbook.Kind{},
		document.Kind{},
		pack.Kind{},
		pack.Tar{},
		pack.Gzip{},
		sqlfolder.Kind{},
		sqlfolder.Postgres{},
		sqlfolder.MariaDB{},
		sqlitefile.Kind{},
		picture.Kind{},
		sound.Kind{},
		model.Kind{},
		xmltree.Kind{},
		jsontree.Kind{},
		yamltree.Kind{},
		settings.TOML(),
		settings.INI(),
		table.Kind{},
		text.Kind{},
		opaque.Kind{},
	).Transcoded(kind.Transcoder{Head: charset.Head, Of: charset.Of}), nil)
}
