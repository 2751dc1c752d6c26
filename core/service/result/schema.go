package result

import (
	"reflect"
	"strings"
)

// dialect is the JSON Schema that is written: draft 2020-12.
const dialect = "https://json-schema.org/draft/2020-12/schema"

// A Shape is a JSON Schema, or a part of one.
type Shape struct {
	Dialect     string            `json:"$schema,omitempty"`
	Title       string            `json:"title,omitempty"`
	Description string            `json:"description,omitempty"`
	Ref         string            `json:"$ref,omitempty"`
	Type        any               `json:"type,omitempty"` // a name, or several
	Const       string            `json:"const,omitempty"`
	AnyOf       []*Shape          `json:"anyOf,omitempty"`
	Items       *Shape            `json:"items,omitempty"`
	Properties  map[string]*Shape `json:"properties,omitempty"`
	Required    []string          `json:"required,omitempty"`
	// Additional is the shape of what is not named, or false.
	Additional any               `json:"additionalProperties,omitempty"`
	Defs       map[string]*Shape `json:"$defs,omitempty"`
}

// Comments gives what is said about a field of a type, empty for nothing.
type Comments func(typeName, field string) string

// ShapeOf gives the JSON Schema of a result. Strict allows no field that is not named, which a reader must allow: a field
// may be added within a version.
func ShapeOf(r Result, about Comments, strict bool) *Shape {
	b := builder{about: about, strict: strict, defs: map[string]*Shape{}}
	top := b.object(reflect.TypeOf(r))
	top.Dialect, top.Title, top.Defs = dialect, r.Schema(), b.defs
	top.Properties["schema"] = &Shape{Const: r.Schema()}
	top.Required = append([]string{"schema"}, top.Required...)
	return top
}

type builder struct {
	about  Comments
	strict bool
	defs   map[string]*Shape
}

// object gives the shape of a struct.
func (b *builder) object(t reflect.Type) *Shape {
	s := &Shape{Type: "object", Properties: map[string]*Shape{}}
	if b.strict {
		s.Additional = false
	}
	for _, f := range Fields(t) {
		t := f.Type
		if f.Optional && t.Kind() == reflect.Pointer { // it is missing rather than null
			t = t.Elem()
		}
		p := b.shape(t)
		p.Description = b.about(f.Owner, f.Go)
		s.Properties[f.Name] = p
		if !f.Optional {
			s.Required = append(s.Required, f.Name)
		}
	}
	return s
}

// Field is a field of an object.
type Field struct {
	Name string // in JSON
	Type reflect.Type
	// Optional says that it may be missing.
	Optional bool
	// Owner and Go are the names of the type and of the field in it.
	Owner, Go string
}

// Fields lists the fields of an object, those of embedded ones in their place.
func Fields(t reflect.Type) []Field {
	var out []Field
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			out = append(out, Fields(f.Type)...)
			continue
		}
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		out = append(out, Field{name, f.Type, options == "omitempty", t.Name(), f.Name})
	}
	return out
}

// shape gives the shape of any type.
func (b *builder) shape(t reflect.Type) *Shape {
	switch t.Kind() {
	case reflect.String:
		return &Shape{Type: "string"}
	case reflect.Bool:
		return &Shape{Type: "boolean"}
	case reflect.Int, reflect.Int64:
		return &Shape{Type: "integer"}
	case reflect.Float64:
		return &Shape{Type: "number"}
	case reflect.Slice:
		return &Shape{Type: "array", Items: b.shape(t.Elem())}
	case reflect.Map:
		return &Shape{Type: "object", Additional: b.shape(t.Elem())}
	case reflect.Pointer:
		return nullable(b.shape(t.Elem()))
	case reflect.Struct:
		return b.named(t)
	}
	panic("no shape for " + t.String())
}

// named refers to the shape of a struct, which is written once.
func (b *builder) named(t reflect.Type) *Shape {
	if b.defs[t.Name()] == nil {
		b.defs[t.Name()] = &Shape{} // it may hold itself
		*b.defs[t.Name()] = *b.object(t)
	}
	return &Shape{Ref: "#/$defs/" + t.Name()}
}

func nullable(s *Shape) *Shape {
	if name, simple := s.Type.(string); simple {
		s.Type = []string{name, "null"}
		return s
	}
	if s.Ref == "" {
		return s // it is nullable already
	}
	return &Shape{AnyOf: []*Shape{s, {Type: "null"}}}
}
