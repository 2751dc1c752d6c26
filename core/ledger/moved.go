package ledger

// MovedError says that the records were brought to another place.
type MovedError struct {
	// Place is where they went, as Leave was told.
	Place string
}

// Error says where they are.
func (e *MovedError) Error() string { return "the records are in " + e.Place + " now" }
