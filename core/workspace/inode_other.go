//go:build !unix

package workspace

import "io/fs"

func inodeOf(fs.FileInfo) uint64 { return 0 }
