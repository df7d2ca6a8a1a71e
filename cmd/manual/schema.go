package main

import (
	"encoding/json"
	"maps"
	"net/netip"
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

// schema is one of what is written as JSON.
type schema struct {
	value  any
	about  string
	member string // that has the form of one of results; "" for none
	result []any
}

// schemas are all of them, by name: those of commands are called after them.
var schemas = map[string]schema{
	"document":      {value: data.Document{}, about: "One run of a command with --json, whatever the command."},
	"exchange-line": {value: data.PairedExchange{}, about: "One exchange of a capture, a line of decode --json and listen --json."},
	"event-line":    {value: data.EventLine{}, about: "One change, a line of watch --json."},
	"last-line":     {value: data.LastLine{}, about: "The last line of decode --json, listen --json and watch --json.", member: "summary", result: []any{data.Overview{}, data.Watched{}}},
	"error":         {value: data.Failure{}, about: "Why a run could not be made, on standard error with --json."},
	"ask":           {value: data.Asked{}, about: "ask --json."},
	"compare":       ofCommand("compare", []data.Comparison{}, data.Changed{}),
	"trace":         ofCommand("trace", []data.Walk{}, data.Changed{}),
	"zone":          ofCommand("zone", data.Zone{}, data.Changed{}),
	"why":           ofCommand("why", []data.Diagnosis{}, data.Changed{}),
	"mail":          ofCommand("mail", data.Mail{}, []data.Mail{}, data.Changed{}),
	"owner":         ofCommand("owner", []data.Owner{}),
	"reverse":       ofCommand("reverse", []data.Reversal{}),
	"local":         ofCommand("local", data.Local{}),
	"transfer":      ofCommand("transfer", data.Transfer{}),
	"message":       ofCommand("message", data.DecodedMessage{}),
	"decode":        ofCommand("decode", data.Packet{}, data.DecodedMessage{}),
	"findings":      ofCommand("findings", []finding.Entry{}),
	"lab":           ofCommand("lab", data.Scenario{}, data.Exported{}),
	"version":       ofCommand("version", data.Build{}),
}

// ofCommand is the document of a command whose result has one of these forms.
func ofCommand(name string, results ...any) schema {
	return schema{value: data.Document{}, about: name + " --json.", member: "result", result: results}
}

// writeSchemas writes the JSON Schemas (draft 2020-12) of all of them to a folder.
func writeSchemas(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	comments := jsonschema.Reflector{}
	if err := comments.AddGoComments("unquil", "../../ui/data"); err != nil {
		return err
	}
	for path, comment := range comments.CommentMap { // which is named after the folder that it was read from
		comments.CommentMap[strings.Replace(path, "../", "unquil/", 1)] = strings.Join(strings.Fields(comment), " ")
	}
	for name, of := range schemas {
		text, err := json.MarshalIndent(of.drawn(name, comments.CommentMap), "", "  ")
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name+".json"), append(text, '\n'), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// drawn is the schema itself, with what the code says of each part.
func (s schema) drawn(name string, comments map[string]string) *jsonschema.Schema {
	whole := reflected(s.value, true, comments)
	whole.Title, whole.Description = "unquil "+name, s.about
	var forms []*jsonschema.Schema
	for _, result := range s.result {
		form := reflected(result, false, comments)
		maps.Copy(whole.Definitions, form.Definitions)
		form.Version, form.Definitions = "", nil
		forms = append(forms, form)
	}
	if s.member == "" {
		return whole
	}
	form := forms[0]
	if len(forms) > 1 {
		form = &jsonschema.Schema{AnyOf: forms}
	}
	whole.Properties.Set(s.member, form)
	return whole
}

func reflected(value any, whole bool, comments map[string]string) *jsonschema.Schema {
	r := jsonschema.Reflector{ExpandedStruct: whole, AllowAdditionalProperties: true, Mapper: mapped, Anonymous: true, CommentMap: comments}
	of := r.Reflect(value)
	of.ID = ""
	return of
}

// mapped are the schemas of types that write themselves.
func mapped(t reflect.Type) *jsonschema.Schema {
	switch t {
	case reflect.TypeFor[wire.Message]():
		return &jsonschema.Schema{Type: "object", Description: "A DNS message as RFC 8427 has it.", Required: []string{"ID", "QR", "RCODE", "QDCOUNT", "ANCOUNT", "NSCOUNT", "ARCOUNT"}}
	case reflect.TypeFor[wire.Record]():
		return &jsonschema.Schema{Type: "object", Description: "A record as RFC 8427 §2.2 has it.", Required: []string{"NAME", "TYPE", "CLASS", "TTL"}}
	case reflect.TypeFor[netip.Addr]():
		return &jsonschema.Schema{Type: "string", Description: "An IP address."}
	case reflect.TypeFor[data.CountOrTable]():
		return &jsonschema.Schema{Description: "How many there are or, in the view of that name, all of them.", AnyOf: []*jsonschema.Schema{{Type: "integer"}, {Ref: "#/$defs/OverviewTable"}}}
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
