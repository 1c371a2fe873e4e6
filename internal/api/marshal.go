package api

import (
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"
)

// asBodies writes as encoding/json does, but for lists and tables without anything in
// them: those are [] and {}, never null, so that whoever reads them needs no case for it.
var asBodies = json.JoinOptions(jsonv1.DefaultOptionsV1(), json.FormatNilSliceAsNull(false),
	json.FormatNilMapAsNull(false))

// Marshal writes a body as JSON (RFC 8259).
func Marshal(body any) ([]byte, error) { return json.Marshal(body, asBodies) }

// MarshalIndent writes a body as JSON for people to read.
func MarshalIndent(body any) ([]byte, error) {
	return json.Marshal(body, asBodies, jsontext.WithIndent("  "))
}
