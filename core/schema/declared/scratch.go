package declared

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

// scratchPrefix begins the names of scratch databases.
const scratchPrefix = "oaken_scratch_"

// abandoned is the age after which a scratch database that nobody is connected to is taken for
// one that a killed process left: whoever makes one connects to it at once.
const abandoned = time.Minute

// ScratchName makes a name for a scratch database: when it was made, and a number by
// chance.
func ScratchName(now time.Time) string {
	return fmt.Sprintf("%s%x_%08x", scratchPrefix, now.Unix(), rand.Uint32())
}

// Abandoned says that a database is a scratch database of such an age that somebody is connected
// to it, unless it was left behind.
func Abandoned(name string, now time.Time) bool {
	rest, ok := strings.CutPrefix(name, scratchPrefix)
	made, _, parted := strings.Cut(rest, "_")
	at, err := strconv.ParseInt(made, 16, 64)
	return ok && parted && err == nil && now.Sub(time.Unix(at, 0)) > abandoned
}
