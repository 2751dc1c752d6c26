package mariadb

import (
	"context"
	"fmt"
	"strings"
)

// otherState is what a script says that is run on another state than it was written for.
const otherState = "the database is not as it was when this script was written; write it anew"

// stateOf sums up what a plan changes, in the engine's own words, in whatever order.
var stateOf = "select concat(count(*), '/', hex(coalesce(bit_xor(cast(conv(left(md5(x), 16), 16, 10) as unsigned)), 0))) from (" +
	strings.Join([]string{
		"select concat_ws('|', 'column', table_name, ordinal_position, column_name, column_type, is_nullable, column_default, extra, " +
			"collation_name, generation_expression) as x from information_schema.columns where table_schema = database() and " +
			"table_name <> '" + journalTable + "'",
		"select concat_ws('|', 'index', table_name, index_name, seq_in_index, column_name, sub_part, non_unique) from " +
			"information_schema.statistics where table_schema = database() and table_name <> '" + journalTable + "'",
		"select concat_ws('|', 'key', table_name, constraint_name, column_name, ordinal_position, referenced_table_name, " +
			"referenced_column_name) from information_schema.key_column_usage where table_schema = database() and table_name <> '" +
			journalTable + "'",
		"select concat_ws('|', 'check', table_name, constraint_name, check_clause) from information_schema.check_constraints where " +
			"constraint_schema = database()",
		"select concat_ws('|', 'view', table_name, view_definition) from information_schema.views where table_schema = database()",
		"select concat_ws('|', 'routine', routine_type, routine_name, routine_definition) from information_schema.routines where " +
			"routine_schema = database()",
		"select concat_ws('|', 'trigger', trigger_name, event_object_table, action_statement) from information_schema.triggers where " +
			"trigger_schema = database()",
	}, "\n  union all ") + ") s"

// StartsFrom gives the statement by which a script makes sure that it begins with the state that
// the database has now.
func StartsFrom(ctx context.Context, q Querier) (string, error) {
	sums, err := column(ctx, q, stateOf)
	if err != nil || len(sums) != 1 {
		return "", EngineError(firstOf(err, fmt.Errorf("%d sums", len(sums))))
	}
	return "begin not atomic\n  if (" + stateOf + ") <> " + literal(sums[0]) + " then signal sqlstate '45000' set message_text = " +
		literal(otherState) + "; end if;\nend", nil
}
