package mariadb

import (
	"context"
	"database/sql"
	"regexp"
	"strings"

	"oakenchest/core/element"
)

// grantForm takes a line of SHOW GRANTS apart: the rights, the database and what of it.
var grantForm = regexp.MustCompile("^GRANT (.+) ON (?:TABLE |FUNCTION |PROCEDURE )?(\\*|`(?:[^`]|``)*`)\\.(\\*|`(?:[^`]|``)*`) TO ")

// rights are what a user may do in a whole database.
type rights map[string]bool

// rightsIn reads the rights of the user, and of the roles that are active, in the database that
// q is connected to.
func rightsIn(ctx context.Context, q Querier) (rights, error) {
	name, err := column(ctx, q, "select database()")
	if err != nil || len(name) == 0 {
		return nil, err
	}
	out := rights{}
	err = answers(ctx, q, "show grants", func(_ int, row []sql.RawBytes) error {
		m := grantForm.FindStringSubmatch(string(row[0]))
		if m == nil || m[3] != "*" || m[2] != "*" && !likeName(strings.ReplaceAll(strings.Trim(m[2], "`"), "``", "`"), name[0]) {
			return nil
		}
		for _, r := range strings.Split(m[1], ",") {
			out[strings.TrimSpace(r)] = true
		}
		return nil
	})
	return out, err
}

// likeName reports whether a pattern of a grant, with % and _, fits a name.
func likeName(pattern, name string) bool {
	var form strings.Builder
	form.WriteString("(?is)^")
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case c == '\\' && i+1 < len(pattern):
			i++
			form.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		case c == '%':
			form.WriteString(".*")
		case c == '_':
			form.WriteString(".")
		default:
			form.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		}
	}
	re, err := regexp.Compile(form.String() + "$")
	return err == nil && re.MatchString(name)
}

func (r rights) any(names ...string) bool {
	for _, n := range append(names, "ALL PRIVILEGES", "ALL") {
		if r[n] {
			return true
		}
	}
	return false
}

// unseen gives the sorts of objects that somebody with these rights does not see all of, each
// with the right that lets them.
func (r rights) unseen() map[string]string {
	out := map[string]string{}
	if !r.any("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX", "REFERENCES") {
		for _, typ := range []string{"table", "view", "sequence"} {
			out[typ] = "SELECT"
		}
	}
	if !r.any("TRIGGER") {
		out["trigger"] = "TRIGGER"
	}
	if !r.any("EVENT") {
		out["event"] = "EVENT"
	}
	if !r.any("EXECUTE", "ALTER ROUTINE", "CREATE ROUTINE") {
		out["function"], out["procedure"] = "EXECUTE", "EXECUTE"
	}
	return out
}

// Keep adds to what a login has read of a database the objects of another tree that it may not
// see, as they are there, and lists them; nothing can be said of these.
func (c *Catalog) Keep(tree, told *element.Element) (*element.Element, []string) {
	out := *tree
	out.Children = append([]*element.Element{}, tree.Children...)
	var kept []string
	has := map[string]int{}
	for i, e := range out.Children {
		has[e.Type+" "+e.Key] = i + 1
	}
	for _, e := range told.Children {
		at := has[e.Type+" "+e.Key]
		right, hidden := c.Unseen[e.Type]
		if !hidden {
			right, hidden = c.Unseen[e.Type+" "+e.Key]
		}
		switch {
		case at == 0 && hidden:
			out.Children = append(out.Children, e)
			kept = append(kept, "the "+e.Type+" "+e.Key+" (right: "+right+")")
		case at > 0 && e.Type == "table" && c.Unseen["trigger"] != "":
			var more []string
			out.Children[at-1], more = keepTriggers(out.Children[at-1], e)
			for _, key := range more {
				kept = append(kept, "the trigger "+key+" (right: "+c.Unseen["trigger"]+")")
			}
		}
	}
	return &out, kept
}

func keepTriggers(table, told *element.Element) (*element.Element, []string) {
	var keys []string
	out := *table
	out.Children = append([]*element.Element{}, table.Children...)
	for _, e := range kids(told, "trigger") {
		if !hasKid(table, e) {
			out.Children = append(out.Children, e)
			keys = append(keys, e.Key)
		}
	}
	return &out, keys
}

func hasKid(of, e *element.Element) bool {
	for _, k := range of.Children {
		if k.Type == e.Type && k.Key == e.Key {
			return true
		}
	}
	return false
}
