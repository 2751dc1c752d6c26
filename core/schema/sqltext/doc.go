// Package sqltext takes SQL text apart: into tokens, statements and names, as each
// engine's own scanner would. It knows no statement's meaning.
//
// A Dialect is a value and safe to share. Text that is not UTF-8, and strings,
// names or comments that are never closed, are refused with their line.
package sqltext
