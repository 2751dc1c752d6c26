//go:build !unix

package workspace

import (
	"os"
)

const umask = os.FileMode(0)
