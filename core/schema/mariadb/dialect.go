package mariadb

import (
	"strings"

	"oakenchest/core/schema/shape"
	"oakenchest/core/schema/sqltext"
)

// The words that can't be bare names: those that MariaDB 10.11 refuses as the name of a
// table, and the reserved words of MySQL 8.
var reserved = sqltext.Words(`accessible add all alter analyze and as asc asensitive before between bigint binary blob both by call cascade case change char character check
	collate column condition constraint continue convert create cross cube cume_dist current_date current_role current_time current_timestamp current_user cursor database databases
	day_hour day_microsecond day_minute day_second dec decimal declare default delayed delete delete_domain_id dense_rank desc describe deterministic distinct distinctrow div
	do_domain_ids double drop dual each else elseif empty enclosed escaped except exists exit explain false fetch first_value float float4 float8 for force foreign from fulltext
	function generated get grant group grouping groups having high_priority hour_microsecond hour_minute hour_second if ignore ignore_domain_ids in index infile inner inout insensitive
	insert int int1 int2 int3 int4 int8 integer intersect interval into io_after_gtids io_before_gtids is iterate join json_table key keys kill lag last_value lateral lead leading
	leave left like limit linear lines load localtime localtimestamp lock long longblob longtext loop low_priority master_bind master_demote_to_replica master_demote_to_slave
	master_ssl_verify_server_cert match maxvalue mediumblob mediumint mediumtext middleint minute_microsecond minute_second mod modifies natural no_write_to_binlog not nth_value ntile
	null numeric of offset on optimize optimizer_costs option optionally or order out outer outfile over page_checksum parse_vcol_expr partition percent_rank portion precision primary
	procedure purge range rank read read_write reads real recursive ref_system_id references regexp release rename repeat replace require resignal restrict return returning revoke right
	rlike row row_number rows schema schemas second_microsecond select sensitive separator set show signal smallint spatial specific sql sql_big_result sql_calc_found_rows
	sql_small_result sqlexception sqlstate sqlwarning ssl starting stats_auto_recalc stats_persistent stats_sample_pages stored straight_join system table terminated then tinyblob
	tinyint tinytext to trailing trigger true undo union unique unlock unsigned update usage use using utc_date utc_time utc_timestamp values varbinary varchar varcharacter varying
	virtual when where window with without write xor year_month zerofill`)

// keywords are written in small letters besides the reserved ones.
var keywords = func() map[string]bool {
	m := sqltext.Words(`action after algorithm auto_increment bit bool boolean btree cascaded charset checksum comment compact completion compressed compression current data date datetime
		delay_key_write delimiter disable do dynamic enable end ends engine enum every event fixed geometry geometrycollection hash history increment inet4 inet6 invisible invoker
		definer json key_block_size less linestring list local max_rows maxvalue merge min_rows minvalue multilinestring multipoint multipolygon nextval no nocache nocycle cycle cache start
		once only pack_keys period partitions percent persistent point polygon preserve redundant row_format schedule security sequence simple slave soft starts subpartition subpartitions
		system system_time temptable text than time timestamp transactional type undefined uuid value versioning view visible year returns language contains begin at day hour minute second month week quarter`)
	for w := range reserved {
		m[w] = true
	}
	return m
}()

// Dialect is how MariaDB writes SQL (its documentation, "Language Structure").
var Dialect = &sqltext.Dialect{Quote: '`', Backslash: true, Hash: true, DoubleString: true, Delimiter: true, Bare: true, Reserved: reserved,
	Keywords: keywords}

func ident(name string) string { return Dialect.Name(name) }

func literal(s string) string { return Dialect.String(s) }

func flat(ts []sqltext.Token) string { return Dialect.Flat(ts) }

// engineFlat is flat for text that the engine wrote, where every bare word is its own.
func engineFlat(ts []sqltext.Token) string {
	small := make([]sqltext.Token, len(ts))
	for i, t := range ts {
		if t.Sort == sqltext.Word {
			t.Text = strings.ToLower(t.Text)
		}
		small[i] = t
	}
	return Dialect.Flat(small)
}

// The acts on elements have short names here.
var (
	kid     = shape.Kid
	kids    = shape.Kids
	setText = shape.SetText
	setTrue = shape.SetTrue
	has     = shape.Has
	textOf  = shape.Text
	clip    = shape.Clip
)
