package element

// Keep says which side of a conflict stands.
type Keep string

// The ways to settle a conflict.
const (
	KeepMine   Keep = "mine"
	KeepTheirs Keep = "theirs"
	KeepBoth   Keep = "both"
	KeepBase   Keep = "base"
	KeepValue  Keep = "value"
)

// Choice settles one conflict. Value is used with KeepValue alone.
type Choice struct {
	Keep  Keep
	Value Value
}

// Side is what one of the three states has at a conflict's address: a value,
// an element, or, when both are empty, nothing.
type Side struct {
	Value   Value
	Element *Element
}

// String writes the side for people.
func (s Side) String() string {
	switch {
	case s.Element != nil:
		if text := s.Element.Summary(); text != "" {
			return text
		}
		return s.Element.Type
	case s.Value.IsAbsent():
		return "nothing"
	default:
		return s.Value.String()
	}
}

// Conflict is one address at which mine and theirs can't both stand.
type Conflict struct {
	Address            Address
	Base, Mine, Theirs Side
	// Allows lists the choices that can settle it.
	Allows []Keep
}

// Settle decides a conflict; false leaves it open. Nil leaves all open.
type Settle func(Conflict) (Choice, bool)

// Names, in conflict addresses, of what is not a property.
const (
	// NameProperty stands for the key of an element that both sides renamed.
	NameProperty = "(name)"
	// OrderProperty stands for the order of children that both sides changed.
	OrderProperty = "(order)"
	// InsertedProperty stands for what both sides put in at one place of a list.
	InsertedProperty = "(inserted)"
	// PlaceProperty stands for where something is that a side took to another parent.
	PlaceProperty = "(place)"
	// ReadingProperty stands for an outcome that can't be read, although both sides can.
	ReadingProperty = "(reading)"
	// WritingProperty stands for what both sides wrote differently at one place outside of
	// elements: remarks, spaces, quotes.
	WritingProperty = "(writing)"
)

var (
	valueChoices   = []Keep{KeepMine, KeepTheirs, KeepBase, KeepValue}
	elementChoices = []Keep{KeepMine, KeepTheirs, KeepBase}
	blockChoices   = []Keep{KeepMine, KeepTheirs, KeepBoth, KeepBase}
	orderChoices   = []Keep{KeepMine, KeepTheirs}
)
