package test

import (
	"encoding/json"
	"errors"
	"io"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// published are the schemas in docs/schema, by name.
var published = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	all := map[string]*jsonschema.Schema{}
	compiler := jsonschema.NewCompiler()
	files, err := filepath.Glob("../docs/schema/*.json")
	for _, file := range files {
		schema, failed := compiler.Compile(file)
		all[strings.TrimSuffix(filepath.Base(file), ".json")] = schema
		err = errors.Join(err, failed)
	}
	return all, err
})

// schemaOf is the name of the schema that a value written with --json belongs to.
func schemaOf(v map[string]any) string {
	switch {
	case v["error"] != nil && v["exit"] != nil:
		return "error"
	case v["summary"] != nil && v["exchanges"] == nil:
		return "last-line"
	case v["event"] != nil:
		return "event-line"
	case v["unquil"] == nil:
		return "exchange-line"
	}
	return "document"
}

// assertSchemas checks each JSON value of an output against the schema that is published for it.
func assertSchemas(t testing.TB, output string) (count int) {
	schemas, err := published()
	require.NoError(t, err)
	decoder := json.NewDecoder(strings.NewReader(output))
	for {
		var v any
		if err := decoder.Decode(&v); err != nil {
			if err != io.EOF {
				t.Logf("not JSON to its end: %v", err)
			}
			return count
		}
		if object, ok := v.(map[string]any); ok {
			count++
			name := schemaOf(object)
			assert.NoError(t, schemas[name].Validate(object), name)
			if command, _ := object["command"].(string); name == "document" && schemas[command] != nil {
				assert.NoError(t, schemas[command].Validate(object), command)
			}
		}
	}
}

// Every command writes what its schema says, and so does every error.
func TestSchemas(t *testing.T) {
	for _, args := range [][]string{
		{"ask", "www.hollowtarn.example", "nothing.hollowtarn.example", "--from", "office,isp"}, {"compare", "tickets.hollowtarn.example", "--from", "office,isp"}, {"trace", "tickets.hollowtarn.example"},
		{"zone", "hollowtarn.example"}, {"why", "tickets.hollowtarn.example"}, {"mail", "hollowtarn.example"}, {"reverse", "203.0.113.80"}, {"owner", "203.0.113.80"}, {"local"},
		{"transfer", "hollowtarn.example", "--from", "ns.farhost.test"}, {"decode", "valley-morning.pcapng"}, {"decode", "valley-morning.pcapng", "--view", "servers"}, {"decode", "valley-morning.pcapng", "--packet", "5"},
		{"watch", "www.hollowtarn.example", "--every", "50ms", "--for", "100ms"}, {"findings"}, {"version"}, {"lab", "show"},
		{"ask", "a..b"}, {"decode", "nowhere.pcap"}, {"ask", "--nothing"},
	} {
		o := run(t, append([]string{"--lab", "--json"}, args...)...)
		assert.Positive(t, assertSchemas(t, o.stdout+o.stderr), "%v: %s%s", args, o.stdout, o.stderr)
	}
}
