package environment

import (
	"context"
	"time"

	"oakenchest/core/element"
)

// Logger is a Driver of a target that can keep a log of who changes what in it.
type Logger interface {
	Driver
	// Prepare sets the log up; done says that it was there already.
	Prepare(ctx context.Context) (done bool, err error)
	// Unprepare takes the log away; done says that there was none.
	Unprepare(ctx context.Context) (done bool, err error)
	// Authors gives the last change of each thing, the newest first, and the login that
	// the driver itself has; nothing when there is no log.
	Authors(ctx context.Context) (list []Author, self string, err error)
}

// Author is who changed a thing last, and when.
type Author struct {
	Login, Program, Command string
	At                      time.Time
	// Names are those of the things, as the engine has them.
	Names []string
	// Changed says that the change was one of an object; schema is where that stands.
	Changed func(schema string, e *element.Element) bool `json:"-"`
}
