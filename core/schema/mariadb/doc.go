// Package mariadb knows the schemas of MariaDB and MySQL databases: it reads them with
// the engine's own SHOW CREATE statements as elements, writes elements as declarative
// SQL and reads that back, lets a scratch database judge what a folder declares, and
// computes and carries out the steps from one schema to another.
//
// # Elements
//
//	database
//	  table:NAME       engine, charset, collate, comment, counting from, row format, partition by
//	    column:NAME      type, charset, collate, not null, default, auto increment, generated, on update, invisible, check, comment
//	    index:NAME       definition; the primary key is index:primary
//	    constraint:NAME  definition: foreign keys and checks
//	    trigger:NAME     definition, sql mode
//	  view:NAME        definition, algorithm, security, check option
//	  sequence:NAME    definition
//	  function:NAME, procedure:NAME, event:NAME   definition, sql mode
//
// Children are sets. Who defined a view or routine is its owner. The engine commits
// every statement by itself: a deployment that stops in the middle leaves what was done
// until then, and the next one goes on from there.
//
// A connection is used by one goroutine at a time.
package mariadb
