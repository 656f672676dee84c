package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// contracts are the schemas of docs/schema, by the command's path with dashes. They are held to the letter: what a
// schema does not name may not be there.
var contracts = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	files, err := filepath.Glob("../../docs/schema/*.schema.json")
	if err != nil {
		return nil, err
	}
	out := map[string]*jsonschema.Schema{}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		if err != nil {
			return nil, err
		}
		shut(doc)
		if err := c.AddResource(filepath.Base(f), doc); err != nil {
			return nil, err
		}
	}
	for _, f := range files {
		s, err := c.Compile(filepath.Base(f))
		if err != nil {
			return nil, err
		}
		out[strings.TrimSuffix(filepath.Base(f), ".schema.json")] = s
	}
	return out, nil
})

// oddForm is what no result has anywhere, inside what its schema leaves open too.
var oddForm = regexp.MustCompile(`"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+Z?|[^Z"][^"]*)"|"0001-01-01T[^"]*"|: null\b`)

// shut lets no object hold what its schema does not name.
func shut(x any) {
	switch x := x.(type) {
	case map[string]any:
		if _, ok := x["properties"].(map[string]any); ok && x["type"] == "object" {
			x["additionalProperties"] = false
		}
		delete(x, "$id")
		for _, v := range x {
			shut(v)
		}
	case []any:
		for _, v := range x {
			shut(v)
		}
	}
}

// contract holds what a command told a program against the schema of its result, by a validator that is not ours.
func (d *desk) contract(args []string, r result) {
	d.t.Helper()
	i := slices.Index(args, "--format")
	if i < 0 || i+1 == len(args) || args[i+1] != "json" {
		return
	}
	all, err := contracts()
	if err != nil {
		d.t.Fatal(err)
	}
	if r.code == 1 || r.code == 2 {
		if at := strings.Index("\n"+r.err, "\n{"); at >= 0 && !strings.Contains(r.err, "goroutine ") {
			d.holds(all["error"], r.err[at:], args)
		}
		return
	}
	var s *jsonschema.Schema
	for n := min(3, len(args)); n > 0 && s == nil; n-- {
		s = all[strings.Join(args[:n], "-")]
	}
	if s != nil && strings.HasPrefix(strings.TrimSpace(r.out), "{") || strings.HasPrefix(r.out, "[") {
		d.holds(s, r.out, args)
	}
}

func (d *desk) holds(s *jsonschema.Schema, text string, args []string) {
	d.t.Helper()
	if odd := oddForm.FindString(text); odd != "" {
		d.t.Errorf("tressik %s: %s is no time in whole seconds and UTC, or nothing that is told",
			strings.Join(args, " "), odd)
	}
	if s == nil {
		d.t.Errorf("tressik %s: there is no schema of what it tells", strings.Join(args, " "))
		return
	}
	x, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err == nil {
		err = s.Validate(x)
	}
	if err != nil {
		d.t.Errorf("tressik %s: what it tells is not what its schema says: %v\n%.2000s", strings.Join(args, " "), err,
			text)
	}
}

// TestResultSchemas holds that docs/schema is what the program writes.
func TestResultSchemas(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("docs", "--schema", "schema")
	files, err := filepath.Glob(d.path("schema/*.json"))
	if err != nil || len(files) < 100 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	kept, _ := filepath.Glob("../../docs/schema/*")
	if len(kept) != len(files) {
		t.Errorf("docs/schema has %d files; the program writes %d", len(kept), len(files))
	}
	for _, f := range files {
		b, err := os.ReadFile(filepath.Join("../../docs/schema", filepath.Base(f)))
		if err != nil || string(b) != d.read("schema/"+filepath.Base(f)) {
			t.Errorf("%s is not up to date: tressik docs --schema docs/schema --force (%v)", filepath.Base(f), err)
		}
		if !json.Valid(b) {
			t.Errorf("%s is no JSON", f)
		}
	}
}
