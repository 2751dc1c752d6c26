package mariadb

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// What becomes of the values of a column that gets another type is asked of the rows
// beforehand, by conditions: one scan of a table answers for all its columns. The conditions
// follow the engine's rules of conversion (MariaDB, "ALTER TABLE", "Strict mode"); a pair of
// types that none speaks of is tried on a copy of the values.

// becoming says which values of a column do not come through a change of type.
type becoming struct {
	column, to string
	// changed are those that become other values, short those that are cut off, refused those
	// that the engine does not take; conditions on a row, empty for none.
	changed, short, refused string
	// tried says that no condition tells, and a copy of the values has to.
	tried bool
	// other says that values which are written alike may come back otherwise.
	other bool
}

// columnType is a type taken apart.
type columnType struct {
	name     string
	args     []string
	unsigned bool
	charset  string
}

var typeForm = regexp.MustCompile(`^([a-z0-9]+)\s*(?:\((.*)\))?\s*(.*)$`)

func typeOf(table, c *element.Element) columnType {
	t := columnType{name: textOf(c, "type"), charset: textOf(c, "charset")}
	m := typeForm.FindStringSubmatch(t.name)
	if m == nil {
		return t
	}
	t.name, t.unsigned = m[1], strings.Contains(m[3], "unsigned")
	if m[2] != "" {
		if ts, err := Dialect.Scan(m[2]); err == nil {
			for _, part := range sqltext.Commas(ts) {
				t.args = append(t.args, part[0].Text)
			}
		}
	}
	if t.charset == "" {
		t.charset = textOf(table, "charset")
	}
	return t
}

func (t columnType) arg(i, usual int) int {
	if i < len(t.args) {
		if n, err := strconv.Atoi(t.args[i]); err == nil {
			return n
		}
	}
	return usual
}

// family groups types that are converted alike.
func (t columnType) family() string {
	switch t.name {
	case "tinyint", "smallint", "mediumint", "int", "bigint":
		return "int"
	case "decimal", "float", "double", "date", "time", "year", "enum", "set", "bit":
		return t.name
	case "datetime", "timestamp":
		return "datetime"
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
		return "text"
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return "bytes"
	}
	return ""
}

var intBits = map[string]uint{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64}

// span gives the least and the greatest whole number of a type.
func (t columnType) span() (low, high string) {
	bits := intBits[t.name]
	if t.unsigned {
		return "0", strconv.FormatUint(1<<(bits-1)-1+1<<(bits-1), 10)
	}
	return strconv.FormatInt(-1<<(bits-1), 10), strconv.FormatInt(1<<(bits-1)-1, 10)
}

// room gives how much a type of text or bytes holds, and whether that counts letters.
func (t columnType) room() (most int64, letters bool) {
	switch t.name {
	case "char", "binary":
		return int64(t.arg(0, 1)), t.name == "char"
	case "varchar", "varbinary":
		return int64(t.arg(0, 0)), t.name == "varchar"
	case "tinytext", "tinyblob":
		return 1<<8 - 1, false
	case "text", "blob":
		return 1<<16 - 1, false
	case "mediumtext", "mediumblob":
		return 1<<24 - 1, false
	}
	return 1<<32 - 1, false
}

const wholeNumber = "'^[-+]?[0-9]+$'"

// becomes says what becomes of the values v of one type as another.
func becomes(v string, from, to columnType) becoming {
	b := becoming{}
	a, z := from.family(), to.family()
	switch {
	case a == "" || z == "":
		b.tried = textType(from) != textType(to)
	case z == "int":
		b.toInt(v, a, from, to)
	case z == "decimal":
		b.toDecimal(v, a, from, to)
	case z == "float" && len(to.args) == 0 && (a == "int" || a == "decimal"):
		b.changed = backFrom("float", v, from)
	case z == "float" && len(to.args) == 0 && a == "double" && len(from.args) == 0:
		b.changed = "cast(" + v + " as float) <> " + v + " and cast(cast(" + v + " as float) as char) <> cast(" + v + " as char)"
		b.refused, b.other = "abs("+v+") > 3.402823466e38", true
	case z == "float" && a == "float" && len(to.args) == 0, z == "double" && a == "float" &&
		len(to.args)+len(from.args) == 0, z == "double" && a == "double" && len(to.args) == 0:
	case z == "double" && len(to.args) == 0 && (a == "int" || a == "decimal"):
		if a == "int" && from.name != "bigint" || a == "decimal" && from.arg(0, 10) <= 15 {
			break
		}
		b.changed = backFrom("double", v, from)
	case z == "text":
		b.toText(v, a, from, to)
	case z == "bytes" && (a == "float" || a == "double"):
		most, _ := to.room()
		b.refused = fmt.Sprintf("length(cast(%s as char)) > %d", v, most)
		b.changed = fromText(v, from)
	case z == "bytes" && (a == "bytes" || a == "text"):
		b.toBytes(v, from, to)
	case z == "date" && a == "date", z == "year" && a == "year":
	case z == "date" && a == "datetime":
		b.changed = "time(" + v + ") <> '00:00:00'"
	case z == "datetime" && (a == "datetime" || a == "date"):
		b.toDatetime(v, a, from, to)
	case z == "time" && a == "time":
		b.fraction(v, from, to)
	case z == "enum" && (a == "enum" || a == "text"):
		list := "(" + strings.Join(to.args, ", ") + ")"
		if a == "text" {
			b.changed = "cast(" + v + " as binary) not in " + list + " and " + v + " in " + list
		}
		if a == "text" || !subset(from.args, to.args) {
			b.refused = v + " not in " + list
		}
	case z == "set" && a == "set" && subset(from.args, to.args) && inOrder(from.args, to.args):
	case z == "bit" && a == "bit":
		if n := to.arg(0, 1); n < from.arg(0, 1) {
			b.refused = fmt.Sprintf("%s + 0 >= %d", v, uint64(1)<<n)
		}
	default:
		b.tried = true
	}
	return b
}

// backFrom says that a number does not come back from an inexact type as it was.
func backFrom(typ, v string, from columnType) string {
	scale := 0
	if from.name == "decimal" {
		scale = from.arg(1, 0)
	}
	return fmt.Sprintf("cast(cast(%s as %s) as decimal(65,%d)) <> %s", v, typ, scale, v)
}

// fromText says that an inexact number does not come back from its text.
func fromText(v string, from columnType) string {
	return "cast(cast(" + v + " as char) as " + from.name + ") <> " + v
}

func textType(t columnType) string { return fmt.Sprint(t.name, t.args, t.unsigned) }

func (b *becoming) toInt(v, a string, from, to columnType) {
	low, high := to.span()
	out := func(x string) string { return x + " < " + low + " or " + x + " > " + high }
	switch a {
	case "int":
		fl, fh := from.span()
		if !(atLeast(fl, low) && atLeast(high, fh)) {
			b.refused = out(v)
		}
	case "decimal", "float", "double":
		b.refused = out("round(" + v + ")")
		if to.unsigned {
			b.refused += " or " + v + " < 0"
		}
		b.changed = "round(" + v + ") <> " + v
	case "bit", "year":
		b.refused = out(v + " + 0")
	case "text":
		b.refused = "not trim(" + v + ") regexp " + wholeNumber + " or " + out("cast("+v+" as decimal(65,0))")
		b.changed = "trim(" + v + ") regexp " + wholeNumber + " and cast(cast(" + v + " as decimal(65,0)) as char) <> cast(" +
			v + " as binary)"
	default:
		b.tried = true
	}
}

// atLeast compares whole numbers written out.
func atLeast(a, b string) bool {
	x, errX := strconv.ParseFloat(a, 64)
	y, errY := strconv.ParseFloat(b, 64)
	return errX == nil && errY == nil && x >= y
}

func (b *becoming) toDecimal(v, a string, from, to columnType) {
	m, d := to.arg(0, 10), to.arg(1, 0)
	limit := "1" + strings.Repeat("0", m-d)
	negative := ""
	if to.unsigned {
		negative = " or " + v + " < 0"
	}
	switch a {
	case "int":
		if to.unsigned == from.unsigned && m-d >= 20 {
			return
		}
		b.refused = v + " <= -" + limit + " or " + v + " >= " + limit + negative
	case "decimal", "float", "double":
		if a == "decimal" && d >= from.arg(1, 0) && m-d >= from.arg(0, 10)-from.arg(1, 0) && (from.unsigned || !to.unsigned) {
			return
		}
		rounded := fmt.Sprintf("round(%s, %d)", v, d)
		b.refused = "abs(" + rounded + ") >= " + limit + negative
		b.changed = rounded + " <> " + v
		if a != "decimal" {
			b.changed = fmt.Sprintf("cast(cast(%s as decimal(65,%d)) as double) <> %s", v, d, v)
		}
	default:
		b.tried = true
	}
}

func (b *becoming) toText(v, a string, from, to columnType) {
	most, letters := to.room()
	size := "length"
	if letters {
		size = "char_length"
	}
	switch a {
	case "text":
		have, counts := from.room()
		fits := from.name != "longtext" && most >= have && letters == counts
		fits = fits || !letters && counts && most >= have*4 || letters && !counts && most >= have
		if !fits {
			b.short = fmt.Sprintf("%s(%s) > %d", size, convert(v, from, to), most)
		}
		if from.charset != to.charset {
			b.refused = "cast(convert(convert(" + v + " using " + to.charset + ") using " + from.charset + ") as binary) <> cast(" +
				v + " as binary)"
		}
		if to.name == "char" && from.name != "char" {
			b.changed = v + " like '% '"
		}
	case "enum", "set":
		b.refused = fmt.Sprintf("%s(%s) > %d", size, convert("cast("+v+" as char)", from, to), most)
	case "float", "double":
		b.refused = fmt.Sprintf("char_length(cast(%s as char)) > %d", v, most)
		b.changed = fromText(v, from)
	case "int", "decimal", "date", "datetime", "time", "year":
		b.refused = fmt.Sprintf("char_length(cast(%s as char)) > %d", v, most)
	default:
		b.tried = true
	}
}

// convert writes a text in the character set that it is to have.
func convert(v string, from, to columnType) string {
	if from.charset == to.charset || to.charset == "" {
		return v
	}
	return "convert(" + v + " using " + to.charset + ")"
}

func (b *becoming) toBytes(v string, from, to columnType) {
	most, _ := to.room()
	have, letters := from.room()
	if letters {
		have *= 4
	}
	if most < have {
		b.refused = fmt.Sprintf("length(%s) > %d", v, most)
	}
	if to.name == "binary" && !(from.name == "binary" && from.arg(0, 1) == to.arg(0, 1)) {
		b.changed = fmt.Sprintf("length(%s) < %d", v, most)
	}
}

func (b *becoming) toDatetime(v, a string, from, to columnType) {
	b.fraction(v, from, to)
	if to.name == "timestamp" && from.name != "timestamp" {
		b.refused = v + " < '1970-01-02' or " + v + " > '2038-01-18'"
	}
	if a == "date" {
		b.changed = ""
	}
}

// fraction says that parts of seconds are cut off.
func (b *becoming) fraction(v string, from, to columnType) {
	if p := to.arg(0, 0); p < from.arg(0, 0) {
		unit := 1
		for range 6 - p {
			unit *= 10
		}
		b.changed = fmt.Sprintf("microsecond(%s) %% %d <> 0", v, unit)
	}
}

func subset(list, of []string) bool {
	has := map[string]bool{}
	for _, x := range of {
		has[x] = true
	}
	for _, x := range list {
		if !has[x] {
			return false
		}
	}
	return true
}

// inOrder says that one list is the beginning of another.
func inOrder(list, of []string) bool {
	for i, x := range list {
		if i >= len(of) || of[i] != x {
			return false
		}
	}
	return true
}
