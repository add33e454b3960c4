// Package yamlfile reads the YAML (and so JSON) files that people write for Clip
// Fence, strictly: [Decode] refuses fields it does not know, values of the wrong
// type, keys given twice and aliases, and says file, line and column of each.
//
// Field names are those of the json tags, so that one struct serves the file, the
// JSON output and, through [Schema], the published JSON Schema. A field tagged
// `yaml:",inline"` is an embedded struct whose fields stand beside the others.
//
// Files of an earlier format are read as well. A field tagged `was:"KEY OLD=NEW ..."`
// was called KEY once, and its values OLD once; a value that was a text and is a mapping
// now is an [OldForm]. Each such place is a [model.Remark] that says what to write now,
// in the field Remarks of the outermost struct, where it has one.
package yamlfile

import (
	"bytes"
	"encoding"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	yaml "go.yaml.in/yaml/v3"

	"clipfence/internal/core/model"
)

// ErrSyntax is wrapped by every error of [Decode].
var ErrSyntax = errors.New("file is not as it must be")

// An Error is one thing wrong in a file.
type Error struct {
	At   model.Position
	What string
}

// Error returns "file:line:column: what".
func (e *Error) Error() string { return e.At.String() + ": " + e.What }

// Unwrap returns [ErrSyntax].
func (e *Error) Unwrap() error { return ErrSyntax }

// maxErrors bounds how many faults of one file are reported.
const maxErrors = 20

// Decode reads one YAML document into v, a pointer to a struct. name is the
// file's name for messages. All faults are reported, joined, up to a limit. A
// field of type [model.Position] named At receives where its struct was written.
func Decode(name string, data []byte, v any) error {
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return &Error{model.Position{File: name, Line: 1, Column: 1}, "the file is empty"}
		}
		return &Error{model.Position{File: name, Line: lineOf(err), Column: 1}, "not YAML: " +
			strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	var extra yaml.Node
	if err := dec.Decode(&extra); err == nil {
		return &Error{model.Position{File: name, Line: extra.Line, Column: 1},
			"a second document begins here; one is wanted"}
	}
	d := &decoder{name: name}
	d.value(doc.Content[0], reflect.ValueOf(v).Elem(), "", "")
	if r := reflect.ValueOf(v).Elem().FieldByName("Remarks"); r.IsValid() &&
		r.Type() == reflect.TypeFor[[]model.Remark]() {
		r.Set(reflect.ValueOf(d.remarked()))
	}
	if len(d.errs) == maxErrors {
		d.errs = append(d.errs, fmt.Errorf("%s: more faults follow; mend these first", name))
	}
	return errors.Join(d.errs...)
}

// lineOf finds the line in a message of the YAML parser, which has no other way
// to tell it.
func lineOf(err error) int {
	_, rest, ok := strings.Cut(err.Error(), "line ")
	if !ok {
		return 1
	}
	digits, _, _ := strings.Cut(rest, ":")
	n, err := strconv.Atoi(digits)
	if err != nil {
		return 1
	}
	return n
}

type decoder struct {
	name    string
	errs    []error
	remarks []alike
}

// alike is the first of several remarks that differ in their place only.
type alike struct {
	model.Remark
	kind string
	more int
}

// An OldForm is a struct that a file of an earlier format writes as one text.
type OldForm interface {
	// FromText reads the text of then and says what to write now.
	FromText(text string) (now string, err error)
}

// Version says what to make of the version that a file names under a key: the one of
// now is fine, an earlier one is read and remarked on, any other is an error.
func Version(name, key string, have, want int, remarks *[]model.Remark) error {
	switch {
	case have == want:
		return nil
	case have > 0 && have < want:
		*remarks = append(*remarks, model.Remark{At: model.Position{File: name},
			Text: fmt.Sprintf("%s: %d is an earlier format, which is still read; write %s: %d", key, have, key, want)})
		return nil
	}
	return fmt.Errorf("%s: %s: format %d is not known to this program (want %d)", name, key, have, want)
}

func (d *decoder) at(n *yaml.Node) model.Position {
	return model.Position{File: d.name, Line: n.Line, Column: n.Column}
}

// remark notes what to write now in place of what is at n; kind is the same for all that
// is to be mended alike.
func (d *decoder) remark(n *yaml.Node, kind, text string) {
	for i := range d.remarks {
		if d.remarks[i].kind == kind {
			d.remarks[i].more++
			return
		}
	}
	d.remarks = append(d.remarks, alike{model.Remark{At: d.at(n), Text: text}, kind, 0})
}

func (d *decoder) remarked() []model.Remark {
	var out []model.Remark
	for _, r := range d.remarks {
		if r.more > 0 {
			r.Text += fmt.Sprintf(" (and so on %d more lines)", r.more)
		}
		out = append(out, r.Remark)
	}
	return out
}

func (d *decoder) fault(n *yaml.Node, format string, args ...any) {
	if len(d.errs) < maxErrors {
		d.errs = append(d.errs, &Error{d.at(n), fmt.Sprintf(format, args...)})
	}
}

func say(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	case yaml.AliasNode:
		return "an alias"
	}
	if len(n.Value) > 60 {
		return fmt.Sprintf("%.60q...", n.Value)
	}
	return fmt.Sprintf("%q", n.Value)
}

var textType = reflect.TypeFor[encoding.TextUnmarshaler]()

// value reads n into v. where is the path of the field for messages; was is the tag
// that names the words of before.
func (d *decoder) value(n *yaml.Node, v reflect.Value, where, was string) {
	if n.Kind == yaml.ScalarNode && was != "" {
		for _, f := range strings.Fields(was) {
			if old, now, ok := strings.Cut(f, "="); ok && n.Value == old {
				d.remark(n, was+f, fmt.Sprintf("%s: %q is called %q now", where, old, now))
				n.Value = now
				break
			}
		}
	}
	if n.Kind == yaml.AliasNode {
		d.fault(n, "%s: aliases (*name) are not read here; write the value out", where)
		return
	}
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	if v.CanAddr() && v.Addr().Type().Implements(textType) {
		if n.Kind != yaml.ScalarNode {
			d.fault(n, "%s: want text, have %s", where, say(n))
			return
		}
		if err := v.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(n.Value)); err != nil {
			d.fault(n, "%s: %v", where, err)
		}
		return
	}
	want := func(kind yaml.Kind, what string) bool {
		if n.Kind != kind {
			d.fault(n, "%s: want %s, have %s", where, what, say(n))
		}
		return n.Kind == kind
	}
	switch v.Kind() {
	case reflect.Struct:
		if old, ok := v.Addr().Interface().(OldForm); ok && n.Kind == yaml.ScalarNode {
			now, err := old.FromText(n.Value)
			if err != nil {
				d.fault(n, "%s: %v", where, err)
				return
			}
			d.remark(n, v.Type().String(), fmt.Sprintf("%s: a text stood here once; write %s", where, now))
			return
		}
		if want(yaml.MappingNode, "a mapping") {
			d.object(n, v, where)
		}
	case reflect.Slice:
		if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
			return
		}
		if !want(yaml.SequenceNode, "a list") {
			return
		}
		out := reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content))
		for i, c := range n.Content {
			d.value(c, out.Index(i), fmt.Sprintf("%s[%d]", where, i), was)
		}
		v.Set(out)
	case reflect.Map:
		if !want(yaml.MappingNode, "a mapping") {
			return
		}
		out := reflect.MakeMap(v.Type())
		for i := 0; i+1 < len(n.Content); i += 2 {
			k := reflect.New(v.Type().Key()).Elem()
			e := reflect.New(v.Type().Elem()).Elem()
			d.value(n.Content[i], k, where, "")
			d.value(n.Content[i+1], e, where+"."+n.Content[i].Value, "")
			if out.MapIndex(k).IsValid() {
				d.fault(n.Content[i], "%s: key %s is given twice", where, say(n.Content[i]))
			}
			out.SetMapIndex(k, e)
		}
		v.Set(out)
	case reflect.String:
		if want(yaml.ScalarNode, "text") {
			v.SetString(n.Value)
		}
	case reflect.Bool:
		b, err := strconv.ParseBool(n.Value)
		if n.Kind != yaml.ScalarNode || n.Tag != "!!bool" || err != nil {
			d.fault(n, "%s: want true or false, have %s", where, say(n))
			return
		}
		v.SetBool(b)
	case reflect.Int, reflect.Int64:
		i, err := strconv.ParseInt(n.Value, 10, 64)
		if n.Kind != yaml.ScalarNode || err != nil {
			d.fault(n, "%s: want a whole number, have %s", where, say(n))
			return
		}
		v.SetInt(i)
	case reflect.Float64:
		f, err := strconv.ParseFloat(n.Value, 64)
		if n.Kind != yaml.ScalarNode || err != nil {
			d.fault(n, "%s: want a number, have %s", where, say(n))
			return
		}
		v.SetFloat(f)
	default:
		panic("yamlfile: no way to read into " + v.Type().String())
	}
}

// A known is a field that a mapping may hold.
type known struct {
	index []int
	was   string // the words of before
	now   string // for a key of before: the one of now
}

// fields maps the names that a struct's mapping may hold, now and once, to its fields.
func fields(t reflect.Type) (names []string, index map[string]known) {
	index = map[string]known{}
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" || !f.IsExported() {
			continue
		}
		names = append(names, name)
		was := f.Tag.Get("was")
		index[name] = known{index: f.Index, was: was}
		if old, _, _ := strings.Cut(was, " "); old != "" && !strings.Contains(old, "=") {
			index[old] = known{f.Index, was, name}
		}
	}
	return names, index
}

func (d *decoder) object(n *yaml.Node, v reflect.Value, where string) {
	if at := v.FieldByName("At"); at.IsValid() && at.Type() == reflect.TypeFor[model.Position]() {
		at.Set(reflect.ValueOf(d.at(n)))
	}
	names, index := fields(v.Type())
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, c := n.Content[i], n.Content[i+1]
		f, ok := index[k.Value]
		name := k.Value
		if f.now != "" {
			name = f.now
			d.remark(k, v.Type().String()+"."+k.Value,
				fmt.Sprintf("%s is called %s now", strings.TrimPrefix(where+"."+k.Value, "."), name))
		}
		path := strings.TrimPrefix(where+"."+name, ".")
		switch {
		case !ok:
			d.fault(k, "field %s is not known here%s; the fields are %s", say(k), nearest(k.Value, names),
				strings.Join(names, ", "))
		case seen[name]:
			d.fault(k, "field %s is given twice", path)
		default:
			d.value(c, v.FieldByIndex(f.index), path, f.was)
		}
		seen[name] = true
	}
}

// nearest proposes the field that was probably meant.
func nearest(s string, names []string) string {
	best, dist := "", 3
	for _, n := range names {
		if e := edits(s, n); e < dist {
			best, dist = n, e
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %q?)", best)
}

// edits is the Levenshtein distance, for short words.
func edits(a, b string) int {
	if len(a) > 40 {
		return len(a)
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diag := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diag
			if a[i] != b[j] {
				cost++
			}
			diag = row[j+1]
			row[j+1] = min(cost, diag+1, row[j]+1)
		}
	}
	return slices.Clone(row)[len(b)]
}
