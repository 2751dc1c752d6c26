package result

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/json.md and docs/schemas anew")

const docs = "../../../docs"

// said reads what the source says about types and fields: by `Type`, and by `Type.Field`.
func said(t *testing.T) map[string]string {
	t.Helper()
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok || len(g.Specs) != 1 {
				continue
			}
			spec, ok := g.Specs[0].(*ast.TypeSpec)
			if !ok {
				continue
			}
			out[spec.Name.Name] = oneLine(g.Doc)
			object, ok := spec.Type.(*ast.StructType)
			if !ok {
				continue
			}
			for _, field := range object.Fields.List {
				for _, n := range field.Names {
					text := strings.TrimPrefix(oneLine(field.Doc), n.Name+" ")
					out[spec.Name.Name+"."+n.Name] = strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(text, "is "), "are "), ".")
				}
			}
		}
	}
	return out
}

func oneLine(c *ast.CommentGroup) string {
	return strings.Join(strings.Fields(c.Text()), " ")
}

// page writes docs/json.md.
func page(about map[string]string) []byte {
	var b bytes.Buffer
	b.WriteString(`# JSON output

With ` + "`--json`" + ` a command prints one object on standard output and nothing else;
notes and progress go to standard error. ` + "`schema`" + ` names the object's form and its
version: a field may be added within a version; none changes its meaning or goes.
Each form is a JSON Schema (2020-12) in [schemas](schemas). This page is made from
the types in ` + "`core/service/result`" + `.

Times are RFC 3339 in UTC. Values of elements are texts, as they are shown. A ` + "`?`" + `
stands behind a field that may be missing.

`)
	written := map[string]bool{}
	for _, k := range All {
		t := reflect.TypeOf(k.Result)
		fmt.Fprintf(&b, "## `%s`\n\n%s: %s\n\n", k.Result.Schema(), k.Calls, sentence(t.Name(), about[t.Name()]))
		writeFields(&b, t, about, written, "")
		b.WriteString("\n")
	}
	return b.Bytes()
}

func writeFields(b *bytes.Buffer, t reflect.Type, about map[string]string, written map[string]bool, indent string) {
	for _, f := range Fields(t) {
		mark := ""
		if f.Optional {
			mark = "?"
		}
		inner := f.Type
		kind := ""
		for {
			switch inner.Kind() {
			case reflect.Slice:
				kind += "list of "
			case reflect.Map:
				kind += "by name, "
			case reflect.Pointer:
				if kind == "" && !f.Optional {
					kind = "null or "
				}
			default:
				kind += map[reflect.Kind]string{reflect.String: "text", reflect.Bool: "boolean", reflect.Int: "number",
					reflect.Int64: "number", reflect.Float64: "number", reflect.Struct: inner.Name()}[inner.Kind()]
				goto done
			}
			inner = inner.Elem()
		}
	done:
		fmt.Fprintf(b, "%s- `%s`%s: %s", indent, f.Name, mark, kind)
		if text := about[f.Owner+"."+f.Go]; text != "" {
			b.WriteString("; " + text)
		}
		b.WriteString("\n")
		if inner.Kind() == reflect.Struct && !written[inner.Name()] {
			written[inner.Name()] = true
			writeFields(b, inner, about, written, indent+"  ")
		}
	}
}

// sentence takes the name off the front of a type's comment.
func sentence(name, text string) string {
	text = strings.TrimPrefix(text, name+" ")
	return strings.TrimPrefix(strings.TrimPrefix(text, "is "), "lists ")
}

// TestTheDocumentsAreThoseOfTheTypes holds docs/json.md and docs/schemas against the types.
func TestTheDocumentsAreThoseOfTheTypes(t *testing.T) {
	about := said(t)
	want := map[string][]byte{"json.md": page(about)}
	for _, k := range All {
		s, err := json.MarshalIndent(ShapeOf(k.Result, func(owner, field string) string { return about[owner+"."+field] }, false), "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		want["schemas/"+strings.ReplaceAll(k.Result.Schema(), "/", "-")+".json"] = append(s, '\n')
	}
	old, _ := filepath.Glob(filepath.Join(docs, "schemas", "*.json"))
	for _, f := range old {
		if name := "schemas/" + filepath.Base(f); want[name] == nil {
			if *update {
				_ = os.Remove(f)
			} else {
				t.Errorf("%s is of no result", name)
			}
		}
	}
	for name, data := range want {
		full := filepath.Join(docs, filepath.FromSlash(name))
		if *update {
			if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(full, data, 0o666); err != nil {
				t.Fatal(err)
			}
		}
		if is, err := os.ReadFile(full); err != nil || !bytes.Equal(is, data) {
			t.Errorf("docs/%s is not that of the types: go test ./core/service/result -update (%v)", name, err)
		}
	}
}

// TestEveryResultIsKnown finds types with a schema that the list lacks, and names that occur twice.
func TestEveryResultIsKnown(t *testing.T) {
	schemas := map[string]bool{}
	for _, k := range All {
		name := k.Result.Schema()
		if schemas[name] || !regexp.MustCompile(`^oaken\.[a-z-]+/[0-9]+$`).MatchString(name) {
			t.Errorf("the schema %q", name)
		}
		schemas[name] = true
	}
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`Schema\(\) string { return "([^"]*)" }`).FindAllSubmatch(text, -1) {
			if !schemas[string(m[1])] {
				t.Errorf("%s: %s is not in the list of results", f, m[1])
			}
		}
	}
}

func TestEncodePutsTheSchemaFirst(t *testing.T) {
	out, err := Encode(Rows{Files: []string{"a <b>"}}, true)
	if want := "{\"schema\":\"oaken.rows/1\",\"files\":[\"a <b>\"]}\n"; err != nil || string(out) != want {
		t.Errorf("%s, %v", out, err)
	}
	out, err = Encode(Trust{Wishes: []Wish{}}, false)
	if err != nil || !strings.HasPrefix(string(out), "{\n  \"schema\": \"oaken.trust/1\",\n") {
		t.Errorf("%s, %v", out, err)
	}
	if _, err := Encode(noObject{}, true); err == nil {
		t.Error("a result that is no object was written")
	}
}

type noObject []string

func (noObject) Schema() string { return "oaken.none/1" }
