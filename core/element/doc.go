// Package element holds the element tree: the one structure that comparison,
// merging, locks on a part, search and reports work on, whatever the format of
// the bytes behind it.
//
// An Element has a type, a key, properties and children. A child list is
// either ordered or a set, and says so. Keys are identities; siblings without
// a key are matched by likeness, never by position alone.
//
//   - Compare finds the Delta from one tree to another, and Delta.Changes lists
//     it as addressed changes; Apply carries a Delta out.
//   - Merge combines two descendants of one base. Nothing is ever chosen
//     silently: what both sides changed differently is a Conflict with an
//     address and three sides.
//   - ParseAddress reads `PATH::STEP/STEP.property`, and Address.String writes it.
//
// Everything here is a pure function of its arguments: no input or output, no
// clock, no shared state. Trees are treated as immutable once they are
// compared; results may share subtrees with the arguments.
package element
