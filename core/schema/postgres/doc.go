// Package postgres knows the schemas of PostgreSQL databases, 15 and newer: it reads
// them out of the catalog as elements, writes elements as declarative SQL and reads
// that back, lets a scratch database judge what a folder declares, and computes and
// carries out the steps from one schema to another.
//
// # Elements
//
//	database
//	  extension:NAME, server:NAME, wrapper:NAME, event-trigger:NAME, publication:NAME, cast:SOURCE as TARGET, ...
//	  schema:NAME
//	    table:NAME       unlogged, partition by, partition of, bound, inherits, with, row security, ...
//	      column:NAME      type, collate, default, not null, generated, identity, storage, sequence, ...
//	      constraint:NAME  definition
//	      index:NAME       definition, attached to
//	      trigger:NAME, rule:NAME, policy:NAME, statistics:NAME
//	    view:NAME        definition; materialized ones have indexes
//	    sequence:NAME    as, start, increment, ...
//	    type:NAME        sort (enum, composite, domain, range, base) with value:, attribute: and constraint: children
//	    function:NAME(TYPES), procedure:NAME(TYPES), aggregate:NAME(TYPES), operator:NAME(LEFT, RIGHT)
//	    collation:NAME, text-search-configuration:NAME, operator-class:NAME using METHOD, ...
//
// Children are sets: the order of columns is not compared, because the engine can't
// change it; the values of an enum are ordered. Every element may have a comment, an
// owner and grants. What belongs to an extension is left out.
//
// A connection is used by one goroutine at a time.
package postgres
