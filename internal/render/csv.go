package render

import (
	"encoding"
	"encoding/csv"
	"encoding/json"
	"io"
	"reflect"
	"strings"
)

// csv writes the rows of an answer for programs: all of them, under the names and with
// the values that JSON has. An answer without rows is written as its first table.
func (d *Doc) csv(w io.Writer) error {
	cw := csv.NewWriter(w)
	rows := reflect.ValueOf(d.Rows)
	if d.Rows == nil {
		rows = reflect.ValueOf(d.Value)
	}
	if rows.Kind() != reflect.Slice {
		return d.csvTable(cw)
	}
	of := rows.Type().Elem()
	if of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	if of.Kind() != reflect.Struct {
		return d.csvTable(cw)
	}
	columns := columnsOf(of, "", nil)
	var head []string
	for _, c := range columns {
		head = append(head, c.name)
	}
	if err := cw.Write(head); err != nil {
		return err
	}
	for i := range rows.Len() {
		var out []string
		for _, c := range columns {
			text, err := c.text(rows.Index(i))
			if err != nil {
				return err
			}
			out = append(out, text)
		}
		if err := cw.Write(out); err != nil {
			return err
		}
	}
	cw.Flush()
	return cw.Error()
}

func (d *Doc) csvTable(cw *csv.Writer) error {
	for _, t := range d.Tables[:min(1, len(d.Tables))] { // programs read one shape
		var head []string
		for _, c := range t.Columns {
			head = append(head, strings.ToLower(c.Name))
		}
		if err := cw.Write(head); err != nil {
			return err
		}
		for _, row := range t.Rows {
			var out []string
			for _, c := range row {
				out = append(out, csvCell(c.Text))
			}
			if err := cw.Write(out); err != nil {
				return err
			}
		}
	}
	cw.Flush()
	return cw.Error()
}

// csvColumn is a field of a row, or a field of a field of it.
type csvColumn struct {
	name string
	at   []int
	skip bool // a zero value is left empty
}

var (
	jsonMarshaler = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
)

// columnsOf returns the fields of a struct by their names in JSON; those of a struct in
// it follow its name and a dot.
func columnsOf(t reflect.Type, prefix string, at []int) []csvColumn {
	var out []csvColumn
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || name == "-" {
			continue
		}
		here := append(at[:len(at):len(at)], i)
		of := f.Type
		if of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		whole := of.Kind() != reflect.Struct || reflect.PointerTo(of).Implements(jsonMarshaler) ||
			reflect.PointerTo(of).Implements(textMarshaler)
		switch {
		case whole:
			if name == "" {
				name = f.Name
			}
			out = append(out, csvColumn{prefix + name, here, strings.Contains(options, "omit")})
		case f.Anonymous && name == "":
			out = append(out, columnsOf(of, prefix, here)...)
		default:
			out = append(out, columnsOf(of, prefix+name+".", here)...)
		}
	}
	return out
}

// text returns a column's value in a row: texts, numbers and times as they are, lists
// and objects as JSON.
func (c csvColumn) text(row reflect.Value) (string, error) {
	v := reflect.Indirect(row)
	for _, i := range c.at {
		if v.Kind() == reflect.Pointer {
			if v.IsNil() {
				return "", nil
			}
			v = v.Elem()
		}
		v = v.Field(i)
	}
	if c.skip && v.IsZero() {
		return "", nil
	}
	b, err := json.Marshal(v.Interface())
	if err != nil {
		return "", err
	}
	var text string
	switch {
	case string(b) == "null":
		return "", nil
	case b[0] == '"':
		if err := json.Unmarshal(b, &text); err != nil {
			return "", err
		}
		return csvCell(text), nil
	case b[0] == '[' || b[0] == '{':
		return csvCell(string(b)), nil
	}
	return string(b), nil
}

// csvCell keeps a spreadsheet from taking a name for a formula.
func csvCell(s string) string {
	s = Clean(s)
	if len(s) > 1 && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}
