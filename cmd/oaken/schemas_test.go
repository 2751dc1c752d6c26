package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	answers "oakenchest/core/service/result"
)

// schemas compiles what each result has to look like, strictly: no field but those that are declared.
var schemas = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	out := map[string]*jsonschema.Schema{}
	for _, k := range answers.All {
		data, err := json.Marshal(answers.ShapeOf(k.Result, func(string, string) string { return "" }, true))
		if err != nil {
			return nil, err
		}
		shape, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
		if err != nil {
			return nil, err
		}
		c := jsonschema.NewCompiler()
		if err := c.AddResource("result.json", shape); err != nil {
			return nil, err
		}
		if out[k.Result.Schema()], err = c.Compile("result.json"); err != nil {
			return nil, err
		}
	}
	return out, nil
})

// fits holds the objects that a call has printed, if it printed any, against their schemas.
func fits(text string) error {
	if !strings.HasPrefix(text, "{") {
		return nil
	}
	known, err := schemas()
	if err != nil {
		return err
	}
	for dec := json.NewDecoder(strings.NewReader(text)); ; {
		dec.UseNumber()
		var v map[string]any
		if err := dec.Decode(&v); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		name, _ := v["schema"].(string)
		if known[name] == nil {
			return fmt.Errorf("no result has the schema %q", name)
		}
		if err := known[name].Validate(v); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
}

// TestSchemasRefuse has the schemas refuse what is not of them: a field that is missing, one more, one of another type.
func TestSchemasRefuse(t *testing.T) {
	good, err := answers.Encode(answers.Rows{Files: []string{"database/rows/tank.csv"}}, true)
	if err != nil {
		t.Fatal(err)
	}
	if err := fits(string(good)); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{
		`{"schema":"oaken.rows/1"}`, `{"schema":"oaken.rows/1","files":null}`, `{"schema":"oaken.rows/1","files":[1]}`,
		`{"schema":"oaken.rows/1","files":[],"more":1}`,
		`{"schema":"oaken.rows/2","files":[]}`, `{"files":[]}`, `{"schema":"oaken.merge/1","upToDate":"no"}`,
	} {
		if fits(bad) == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}
