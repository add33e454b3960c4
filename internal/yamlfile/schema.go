package yamlfile

import (
	"encoding"
	"encoding/json"
	"reflect"
	"strings"
	"time"
)

// Schema returns the JSON Schema (draft 2020-12) of the files that decode into t,
// a struct type. Fields without omitempty or omitzero are required; the doc tag
// of a field becomes its description.
func Schema(title string, t reflect.Type) ([]byte, error) {
	s := object(t)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = title
	return json.MarshalIndent(s, "", "  ")
}

func object(t reflect.Type) map[string]any {
	props := map[string]any{}
	required := []string{}
	for _, f := range reflect.VisibleFields(t) {
		name, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" || !f.IsExported() {
			continue
		}
		p := schemaOf(f.Type)
		if doc := f.Tag.Get("doc"); doc != "" {
			p["description"] = doc
		}
		props[name] = p
		if !strings.Contains(opts, "omit") {
			required = append(required, name)
		}
	}
	s := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
	if len(required) > 0 {
		s["required"] = required
	}
	return s
}

func schemaOf(t reflect.Type) map[string]any {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == reflect.TypeFor[time.Time]() {
		return map[string]any{"type": "string", "format": "date-time"}
	}
	if t == reflect.TypeFor[json.RawMessage]() {
		return map[string]any{}
	}
	if reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) ||
		t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) {
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Struct:
		return object(t)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int32, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Interface:
		return map[string]any{}
	}
	return map[string]any{"type": "string"}
}
