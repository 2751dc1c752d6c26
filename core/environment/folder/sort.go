// Package folder reaches plain folders, without history: files are copied whole.
package folder

import (
	"oakenchest/core/environment"
	"oakenchest/core/manifest"
)

// Sort is what there is to know of such targets.
var Sort = environment.Sort{Scheme: "folder", About: "a plain folder, without history: folder:PATH", Open: open,
	Disk: &manifest.Disk{Folder: true}}
