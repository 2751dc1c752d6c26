package manifest

import (
	"errors"
	"fmt"
	"strings"
)

// Mask says that values of a column are not taken along when an environment is refreshed from a later one.
type Mask struct {
	// Column is TABLE.COLUMN, or SCHEMA.TABLE.COLUMN.
	Column string `toml:"column"`
	// With is one of MaskNull, MaskValue, MaskHash and MaskShuffle; Value the text of MaskValue.
	With  string `toml:"with"`
	Value string `toml:"value"`
}

// How values are masked.
const (
	MaskNull    = "null"    // there is none
	MaskValue   = "value"   // each is the same
	MaskHash    = "hash"    // equal ones stay equal, and say nothing
	MaskShuffle = "shuffle" // they are those of other rows
)

// Table and Name are the table, as the mask names it, and the column.
func (m Mask) Table() string { return m.Column[:strings.LastIndexByte(m.Column, '.')] }

// Name is that of the column.
func (m Mask) Name() string { return m.Column[strings.LastIndexByte(m.Column, '.')+1:] }

func (m Mask) check() error {
	i := strings.LastIndexByte(m.Column, '.')
	switch {
	case i <= 0 || i == len(m.Column)-1:
		return errors.New("a mask names its column as TABLE.COLUMN")
	case m.With != MaskNull && m.With != MaskValue && m.With != MaskHash && m.With != MaskShuffle:
		return fmt.Errorf("the mask of %s is made with %q, which is none of %s, %s, %s, %s", m.Column, m.With, MaskNull,
			MaskValue, MaskHash,
			MaskShuffle)
	case m.Value != "" && m.With != MaskValue:
		return fmt.Errorf("the mask of %s has a value, and is made with %s", m.Column, m.With)
	}
	return nil
}
