package mariadb

import (
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/declared"
)

// columnText writes a column without its name.
func columnText(col *element.Element) string {
	parts := []string{textOf(col, "type")}
	add := func(words, name string) {
		if v := textOf(col, name); v != "" {
			parts = append(parts, strings.TrimPrefix(words+" ", " ")+v)
		}
	}
	flag := func(words, name string) {
		if has(col, name) {
			parts = append(parts, words)
		}
	}
	flag("compressed", "compression")
	add("character set", "charset")
	add("collate", "collate")
	if v := textOf(col, "generated"); v != "" {
		parts = append(parts, "generated always as "+v)
		if !strings.HasPrefix(v, "row ") {
			if has(col, "stored") {
				parts = append(parts, "stored")
			} else {
				parts = append(parts, "virtual")
			}
		}
	}
	flag("not null", "not null")
	flag("null", "null")
	flag("invisible", "invisible")
	flag("without system versioning", "without versioning")
	add("default", "default")
	add("on update", "on update")
	flag("auto_increment", "auto increment")
	if v := textOf(col, "comment"); v != "" {
		parts = append(parts, "comment "+literal(v))
	}
	add("check", "check")
	return strings.Join(parts, " ")
}

func columnSQL(col *element.Element) string {
	return strings.TrimRight(ident(col.Key)+" "+columnText(col), " ")
}

func constraintSQL(c *element.Element) string {
	def := textOf(c, "definition")
	if c.Key == def {
		return def
	}
	return "constraint " + ident(c.Key) + " " + def
}

func foreign(c *element.Element) bool {
	return strings.HasPrefix(textOf(c, "definition"), "foreign key")
}

// tableSQL writes CREATE TABLE; without its foreign keys when bare is set.
func tableSQL(e *element.Element, bare bool) string {
	var lines []string
	for _, c := range kids(e, "column") {
		lines = append(lines, "  "+columnSQL(c))
	}
	for _, k := range kids(e, "index") {
		lines = append(lines, "  "+textOf(k, "definition"))
	}
	for _, k := range kids(e, "constraint") {
		if !bare || !foreign(k) {
			lines = append(lines, "  "+constraintSQL(k))
		}
	}
	text := "create table " + ident(e.Key) + " (\n" + strings.Join(lines, ",\n") + "\n)"
	if o := optionsSQL(e); o != "" {
		text += " " + o
	}
	if v := textOf(e, "partition by"); v != "" {
		text += "\npartition by " + v
	}
	return text
}

// optionsSQL writes the options of a table.
func optionsSQL(e *element.Element) string {
	var out []string
	for _, p := range [][2]string{{"engine", "engine"}, {"auto_increment", "counting from"}, {"charset", "charset"}, {"collate", "collate"},
		{"row_format", "row format"}, {"key_block_size", "key block size"}} {
		if v := textOf(e, p[1]); v != "" {
			out = append(out, p[0]+"="+v)
		}
	}
	if v := textOf(e, "options of the engine"); v != "" {
		out = append(out, v)
	}
	if v := textOf(e, "comment"); v != "" {
		out = append(out, "comment="+literal(v))
	}
	if has(e, "versioned") {
		out = append(out, "with system versioning")
	}
	return strings.Join(out, " ")
}

func definer(e *element.Element) string {
	v := textOf(e, "owner")
	if v == "" {
		return ""
	}
	user, host, ok := strings.Cut(v, "@")
	text := "definer=`" + strings.ReplaceAll(user, "`", "``") + "`"
	if ok {
		text += "@`" + strings.ReplaceAll(host, "`", "``") + "`"
	}
	return text + " "
}

// createSQL writes what makes an object; or puts words after "create".
func createSQL(e *element.Element, or string) string {
	switch e.Type {
	case "table":
		return tableSQL(e, false)
	case "view":
		text := "create " + or
		if v := textOf(e, "algorithm"); v != "" {
			text += "algorithm=" + v + " "
		}
		text += definer(e)
		if v := textOf(e, "security"); v != "" {
			text += "sql security " + v + " "
		}
		text += "view " + ident(e.Key)
		if v := textOf(e, "names"); v != "" {
			text += " (" + v + ")"
		}
		text += " as\n" + textOf(e, "definition")
		if v := textOf(e, "check option"); v != "" {
			text += "\nwith " + v + " check option"
		}
		return text
	case "sequence":
		return strings.TrimRight("create "+or+"sequence "+ident(e.Key)+" "+textOf(e, "definition"), " ")
	case "event":
		text := "create " + or + definer(e) + "event " + ident(e.Key) + "\n" + textOf(e, "schedule")
		if v := textOf(e, "comment"); v != "" {
			text += "\ncomment " + literal(v)
		}
		return text + "\ndo " + textOf(e, "body")
	}
	text := "create " + or + definer(e) + e.Type + " " + ident(e.Key) + "(" + textOf(e, "arguments") + ")\n"
	if v := textOf(e, "returns"); v != "" {
		text += "returns " + v + "\n"
	}
	if v := textOf(e, "attributes"); v != "" {
		text += v + "\n"
	}
	if v := textOf(e, "comment"); v != "" {
		text += "comment " + literal(v) + "\n"
	}
	return text + textOf(e, "body")
}

func triggerSQL(table string, e *element.Element) string {
	text := "create " + definer(e) + "trigger " + ident(e.Key) + " " + textOf(e, "when") + " on " + ident(table) + " for each row\n"
	if v := textOf(e, "follows"); v != "" {
		text += "follows " + ident(v) + "\n"
	}
	return text + textOf(e, "body")
}

// SQL writes an object as the text of its file.
func SQL(e *element.Element) string {
	text := ended(e, createSQL(e, ""))
	mode, session := false, false
	for _, k := range kids(e, "trigger") {
		before := ""
		if mode && !has(k, "sql mode") { // what the one before said holds on
			before = SetMode("") + ";\n"
		}
		if session && !has(k, "session") {
			before += SetSession("") + ";\n"
		}
		text += "\n" + before + ended(k, triggerSQL(e.Key, k))
		mode, session = has(k, "sql mode"), has(k, "session")
	}
	return text
}

// ended writes a statement with what ends it: a semicolon, or a mark of its own when
// semicolons stand in it; and the mode and the session that it was made in.
func ended(e *element.Element, sql string) string {
	before := ""
	if v := textOf(e, "sql mode"); v != "" {
		before = "set sql_mode = " + literal(v) + ";\n"
	}
	if v := textOf(e, "session"); v != "" {
		before += SetSession(v) + ";\n"
	}
	if e.Type == "table" || e.Type == "view" || e.Type == "sequence" || !strings.Contains(textOf(e, "body"), ";") {
		return before + sql + ";\n"
	}
	return before + delimited(sql) + "\n"
}

// delimited writes a statement between lines that set a mark of its own as what ends it.
func delimited(sql string) string {
	mark := "//"
	for strings.Contains(sql, mark) {
		mark += "/"
	}
	return "delimiter " + mark + "\n" + sql + mark + "\ndelimiter ;"
}

// Update gives the files that differ when the folder that d was read from becomes what
// want says; see declared.Update.
func Update(files declared.Files, d *Declared, want *element.Element) declared.Files {
	have := map[string]*element.Element{}
	if d.Root != nil {
		for _, e := range d.Root.Children {
			have[ID(e)] = e
		}
	}
	wanted := map[string]*element.Element{}
	for _, e := range want.Children {
		wanted[ID(e)] = e
	}
	same := func(id string) bool { return have[id] != nil && have[id].Sum() == wanted[id].Sum() }
	was := func(string) string { return "" }
	if d.Root != nil {
		was = declared.Texts(written(d.Root))
	}
	return declared.Update(Dialect, files, d.Places, written(want), same, was, empty)
}

// Anew writes all files of want, in place of those that can't be read together.
func Anew(files declared.Files, want *element.Element) declared.Files {
	return declared.Anew(files, written(want))
}

func written(want *element.Element) []declared.Object {
	var out []declared.Object
	for _, e := range want.Children {
		out = append(out, declared.Object{ID: ID(e), File: e.Type + "s/" + partfile.Safe(e.Key) + ".sql",
			Text: func() string { return SQL(e) }})
	}
	return out
}

// empty says that a text declares nothing.
func empty(text string) bool {
	list, err := Dialect.Statements(text)
	return err == nil && len(list) == 0
}

// Ended gives a statement as a script needs it, with what ends it: a body with semicolons stands
// between lines that tell the engine's client what ends a statement.
func Ended(sql string) string {
	ts, err := Dialect.Scan(sql)
	for _, t := range ts {
		if err == nil && t.Is(";") {
			return delimited(sql)
		}
	}
	return sql + ";"
}
