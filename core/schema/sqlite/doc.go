// Package sqlite knows the schemas of SQLite databases: it reads them out of the
// engine's catalog as elements, writes elements as SQL, and computes the
// statements that lead from one schema to another.
//
// # Elements
//
//	schema
//	  table:NAME    "strict", "without rowid"; a virtual table has "module"
//	    column:NAME      type, not null, default, primary key, unique, check, collate, references, generated
//	    constraint:NAME  definition; the definition is the key of one without a name
//	    index:NAME       definition
//	    trigger:NAME     definition
//	  view:NAME     definition
//	    trigger:NAME
//
// Children are sets: the order of columns is not compared. Definitions are in
// one normal form, so that white space, comments and the case of key words make
// no difference.
//
// The engine's own tables, and the shadow tables of virtual ones, are left out.
package sqlite
