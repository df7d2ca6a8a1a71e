package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	"github.com/invopop/jsonschema"

	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
)

//go:generate go run . -schemas ../../docs/schema/

// schemas are what is written as JSON, by the name of the schema.
var schemas = map[string]struct {
	value any
	about string
}{
	"document":      {data.Document{}, "One run of a command with --json."},
	"exchange-line": {data.PairedExchange{}, "One exchange of a capture, a line of decode --json and listen --json."},
	"last-line":     {data.LastLine{}, "The last line of decode --json, listen --json and watch --json."},
	"event-line":    {data.EventLine{}, "One change, a line of watch --json."},
	"error":         {data.Failure{}, "Why a run could not be made, on standard error with --json."},
}

// writeSchemas writes the JSON Schemas (draft 2020-12) of all of them to a folder.
func writeSchemas(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for name, of := range schemas {
		r := jsonschema.Reflector{ExpandedStruct: true, AllowAdditionalProperties: true, Mapper: mapped, Anonymous: true}
		if err := r.AddGoComments("unquil", "../../ui/data"); err != nil {
			return err
		}
		for path, comment := range r.CommentMap { // which is named after the folder that it was read from
			r.CommentMap[strings.Replace(path, "../", "unquil/", 1)] = strings.Join(strings.Fields(comment), " ")
		}
		schema := r.Reflect(of.value)
		schema.ID, schema.Title, schema.Description = "", "unquil "+name, of.about
		text, err := json.MarshalIndent(schema, "", "  ")
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name+".json"), append(text, '\n'), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// mapped are the schemas of types that write themselves.
func mapped(t reflect.Type) *jsonschema.Schema {
	switch t {
	case reflect.TypeFor[wire.Message]():
		return &jsonschema.Schema{Type: "object", Description: "A DNS message as RFC 8427 has it.", Required: []string{"ID", "QR", "RCODE", "QDCOUNT", "ANCOUNT", "NSCOUNT", "ARCOUNT"}}
	case reflect.TypeFor[wire.Name]():
		return &jsonschema.Schema{Type: "string", Description: "A domain name with its final dot."}
	case reflect.TypeFor[time.Time]():
		return &jsonschema.Schema{Type: "string", Format: "date-time"}
	case reflect.TypeFor[finding.Code]():
		var all []any
		for _, code := range finding.Codes() {
			all = append(all, code)
		}
		return &jsonschema.Schema{Type: "string", Enum: all, Description: "unquil findings CODE explains it."}
	}
	return nil
}
