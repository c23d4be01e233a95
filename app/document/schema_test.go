package document

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/treatment"
)

// What the program keeps and what the schema allows are the same, field by field, all the way down: else what
// is set on the screen would be refused.
func TestTheSchemaHasEveryField(t *testing.T) {
	var schema map[string]any
	require.NoError(t, json.Unmarshal(treatment.Schema, &schema))
	defs := schema["$defs"].(map[string]any)
	resolved := func(s map[string]any) map[string]any {
		for s["$ref"] != nil {
			s = defs[strings.TrimPrefix(s["$ref"].(string), "#/$defs/")].(map[string]any)
		}
		return s
	}
	compared := 0
	var compare func(at string, typ reflect.Type, s map[string]any)
	compare = func(at string, typ reflect.Type, s map[string]any) {
		for typ.Kind() == reflect.Pointer || typ.Kind() == reflect.Slice || typ.Kind() == reflect.Array {
			if items, ok := resolved(s)["items"].(map[string]any); ok && typ.Kind() != reflect.Pointer {
				s = items
			}
			typ = typ.Elem()
		}
		s = resolved(s)
		properties, ok := s["properties"].(map[string]any)
		if typ.Kind() != reflect.Struct || !ok {
			return
		}
		names := map[string]bool{}
		for i := range typ.NumField() {
			name, _, _ := strings.Cut(typ.Field(i).Tag.Get("json"), ",")
			if name == "" || name == "-" {
				continue
			}
			names[name] = true
			of, ok := properties[name].(map[string]any)
			if assert.True(t, ok, "%s/%s is missing in the schema", at, name) {
				compared++
				compare(at+"/"+name, typ.Field(i).Type, of)
			}
		}
		for name := range properties {
			if name == "$schema" { // what a file may say of itself
				continue
			}
			assert.True(t, names[name], "%s/%s is in the schema alone", at, name)
		}
	}
	compare("", reflect.TypeFor[treatment.Document](), schema)
	assert.Greater(t, compared, 150)
}
