//go:build !unix

package disk

import "os"

const umask = os.FileMode(0)
