// Package logmap reads JSON and CSV logs that nobody foresaw, by a file that says
// how: a log map.
//
// Each field of a [Map] is an expression in CEL over r, the record: an object for
// JSON, a map from column to text for CSV. What a field yields is checked when a
// record is read; what the expressions name is not known before, since logs differ
// from line to line.
//
// Source: Common Expression Language, its language definition.
package logmap

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"clipfence/internal/auditlog"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Map is the content of a log map file.
type Map struct {
	Version    int      `json:"logmap" doc:"version of this format: 1"`
	Name       string   `json:"name" doc:"the format's name, for messages"`
	Form       string   `json:"form" doc:"json or csv"`
	Columns    []string `json:"columns,omitempty" doc:"csv: the names of the columns; without, the first line of a file names them"`
	Match      string   `json:"match,omitempty" doc:"CEL, true for a record of this log; without, every record of the form is"`
	Skip       string   `json:"skip,omitempty" doc:"CEL, true for a record that shows no call"`
	Time       string   `json:"time" doc:"CEL: RFC 3339 text, a timestamp, or seconds or milliseconds since 1970"`
	ID         string   `json:"id,omitempty" doc:"CEL: what tells events apart; without, the whole record does"`
	Identity   string   `json:"identity" doc:"CEL: the name of who called; empty text for somebody without a name"`
	Groups     string   `json:"groups,omitempty" doc:"CEL: a group that the caller is in, or a list of them, as whoever let it in says"`
	Kind       string   `json:"kind,omitempty" doc:"CEL: the kind of who called (person, workload, group or external); without, the name is looked up among all"`
	ActingFor  string   `json:"acting_for,omitempty" doc:"CEL: the name of whose rights were used"`
	ActingKind string   `json:"acting_for_kind,omitempty" doc:"CEL: the kind of whose rights were used"`
	Permission string   `json:"permission" doc:"CEL: a permission or what the log calls it, or a list of them"`
	Path       string   `json:"path" doc:"CEL: the path of what was touched"`
	Outcome    string   `json:"outcome,omitempty" doc:"CEL: done, refused or failed; true or false (refused); or an HTTP status; without, done"`
	Network    string   `json:"network,omitempty" doc:"CEL: the caller's address"`
	Factor     string   `json:"second_factor,omitempty" doc:"CEL, true when a second factor was shown"`

	At      model.Position `json:"-"`
	Remarks []model.Remark `json:"-"` // what to write otherwise now
}

// ErrMap is wrapped by what is wrong with a log map.
var ErrMap = errors.New("log map does not hold")

var environment, environmentErr = newEnvironment()

func newEnvironment() (*cel.Env, error) {
	// CEL's own library of string functions would double the packages that its module
	// needs; these are the ones that log maps want.
	text := func(name string, f func(string) any) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_dyn", []*cel.Type{cel.DynType}, cel.DynType,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				s, ok := v.Value().(string)
				if !ok {
					return types.NewErr("%s wants text", name)
				}
				return types.DefaultTypeAdapter.NativeToValue(f(s))
			})))
	}
	return cel.NewEnv(cel.Variable("r", cel.DynType), cel.OptionalTypes(),
		text("escape", func(s string) any { return string(model.AppendEscaped(nil, []byte(s))) }),
		text("lower", func(s string) any { return strings.ToLower(s) }),
		cel.Function("split", cel.Overload("split_dyn_dyn", []*cel.Type{cel.DynType, cel.DynType},
			cel.ListType(cel.StringType), cel.BinaryBinding(func(s, sep ref.Val) ref.Val {
				x, ok1 := s.Value().(string)
				y, ok2 := sep.Value().(string)
				if !ok1 || !ok2 {
					return types.NewErr("split wants two texts")
				}
				return types.DefaultTypeAdapter.NativeToValue(strings.Split(x, y))
			}))))
}

const maxCost = 100_000 // of one expression on one record

// Compile checks the map's expressions and returns a maker of readers.
func (m *Map) Compile() (func() auditlog.Format, error) {
	if environmentErr != nil {
		return nil, environmentErr
	}
	var errs []error
	fault := func(format string, args ...any) {
		errs = append(errs, &model.Fault{At: m.At, What: fmt.Sprintf(format, args...)})
	}
	if m.Version != 1 {
		fault("logmap: format %d is not known to this program (want 1)", m.Version)
	}
	if m.Form != "json" && m.Form != "csv" {
		fault("form: %q is neither json nor csv", m.Form)
	}
	if m.Name == "" {
		fault("name: a log map needs a name")
	}
	m.splitKinds()
	programs := map[string]cel.Program{}
	for _, f := range []struct {
		name, text string
		needed     bool
	}{{"match", m.Match, false}, {"skip", m.Skip, false}, {"time", m.Time, true}, {"id", m.ID, false},
		{"identity", m.Identity, true}, {"kind", m.Kind, false}, {"acting_for", m.ActingFor, false},
		{"acting_for_kind", m.ActingKind, false}, {"groups", m.Groups, false},
		{"permission", m.Permission, true}, {"path", m.Path, true}, {"outcome", m.Outcome, false},
		{"network", m.Network, false}, {"second_factor", m.Factor, false}} {
		if f.text == "" {
			if f.needed {
				fault("%s: an expression is wanted", f.name)
			}
			continue
		}
		ast, issues := environment.Compile(f.text)
		if issues.Err() != nil {
			for _, e := range issues.Errors() {
				hint, text := "", strings.TrimSpace(e.Message)
				if strings.Contains(text, "undeclared reference") || strings.Contains(text, "overload") {
					hint = "; besides CEL's own functions there are escape(text), lower(text) and " +
						"split(text, separator)"
				}
				fault("%s: %s, at character %d of %s%s", f.name, text, e.Location.Column()+1, f.text, hint)
			}
			continue
		}
		p, err := environment.Program(ast, cel.CostLimit(maxCost), cel.EvalOptions(cel.OptOptimize))
		if err != nil {
			fault("%s: %v", f.name, err)
			continue
		}
		programs[f.name] = p
	}
	if err := errors.Join(errs...); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMap, err)
	}
	return func() auditlog.Format { return &format{m: m, programs: programs, columns: m.Columns} }, nil
}

// literalKind begins an expression that puts a kind before a name, as maps did before they
// had a field for it: the kind is then the map's own word, and not the log's.
var literalKind = regexp.MustCompile(
	`^\s*(?:"(person|workload|group|external)/"|'(person|workload|group|external)/')\s*\+`)

func (m *Map) splitKinds() {
	for _, f := range []struct {
		name, kind *string
		field      string
	}{{&m.Identity, &m.Kind, "identity"}, {&m.ActingFor, &m.ActingKind, "acting_for"}} {
		at := literalKind.FindStringSubmatch(*f.name)
		if at == nil || *f.kind != "" {
			continue
		}
		kind := at[1] + at[2]
		*f.name, *f.kind = strings.TrimSpace((*f.name)[len(at[0]):]), strconv.Quote(kind)
		m.Remarks = append(m.Remarks, model.Remark{At: m.At,
			Text: fmt.Sprintf("%s: the kind before the name has a field of its own now; write %s: %s and the kind "+
				"beside it: '%q'", f.field, f.field, *f.name, kind)})
	}
}

// kinds reads the kinds of who called and of whose rights were used.
func (f *format) kinds(r any, e *auditlog.Event) error {
	for name, to := range map[string]*auditlog.Name{"kind": &e.Who, "acting_for_kind": &e.ActingFor} {
		k, err := f.text(name, r)
		if err != nil {
			return err
		}
		switch kind := model.IdentityKind(k); kind {
		case "", model.Person, model.Workload, model.Group, model.External:
			to.Kind = kind
		default:
			return fmt.Errorf("%s: %s yields %q, which is none of person, workload, group, external", f.m.Name, name,
				k)
		}
	}
	return nil
}

// format is one worker's reader. The programs are shared; they keep nothing.
type format struct {
	m        *Map
	programs map[string]cel.Program
	columns  []string
	header   []byte
}

// Name returns the map's name.
func (f *format) Name() string { return f.m.Name }

// Header tells the first line of the file that the next records come from.
func (f *format) Header(line []byte) {
	if len(f.m.Columns) > 0 || f.m.Form != "csv" {
		return
	}
	f.header = bytes.Clone(bytes.TrimRight(line, "\r\n"))
	f.columns, _ = csv.NewReader(bytes.NewReader(bytes.TrimPrefix(f.header, []byte("\xef\xbb\xbf")))).Read()
}

// Sniff tries match; a map without one takes whatever has its form.
func (f *format) Sniff(record []byte) bool {
	if (record[0] == '{') != (f.m.Form == "json") {
		return false
	}
	r, err := f.record(record)
	return err == nil && f.matches(r)
}

func (f *format) matches(r any) bool {
	if f.programs["match"] == nil {
		return true
	}
	v, err := f.eval("match", r)
	return err == nil && v == types.True
}

func (f *format) record(b []byte) (map[string]any, error) {
	if f.m.Form == "json" {
		dec := json.NewDecoder(bytes.NewReader(b))
		var r map[string]any
		if err := dec.Decode(&r); err != nil || r == nil {
			return nil, fmt.Errorf("not a JSON object: %w", err)
		}
		return r, nil
	}
	row, err := csv.NewReader(bytes.NewReader(b)).Read()
	if err != nil {
		return nil, fmt.Errorf("csv: %w", err)
	}
	if len(row) != len(f.columns) {
		return nil, fmt.Errorf("csv: %d fields under %d columns", len(row), len(f.columns))
	}
	r := make(map[string]any, len(row))
	for i, c := range f.columns {
		r[c] = row[i]
	}
	return r, nil
}

func (f *format) eval(name string, r any) (ref.Val, error) {
	v, _, err := f.programs[name].Eval(map[string]any{"r": r})
	if err != nil {
		return nil, fmt.Errorf("%s: %s: %w", f.m.Name, name, err)
	}
	return v, nil
}

// text evaluates an expression that yields text; an absent or null one is empty.
func (f *format) text(name string, r any) ([]byte, error) {
	if f.programs[name] == nil {
		return nil, nil
	}
	v, err := f.eval(name, r)
	if err != nil {
		return nil, err
	}
	switch x := v.Value().(type) {
	case string:
		return []byte(x), nil
	case nil:
		return nil, nil
	case int64, uint64, float64:
		return fmt.Append(nil, x), nil
	}
	if v.Type() == types.NullType {
		return nil, nil
	}
	return nil, fmt.Errorf("%s: %s yields %s, want text", f.m.Name, name, v.Type())
}

// Parse reads one record.
func (f *format) Parse(record []byte, yield func(*auditlog.Event) error) error {
	if (record[0] == '{') != (f.m.Form == "json") {
		return fmt.Errorf("not of the form %s, which log map %s reads", f.m.Form, f.m.Name)
	}
	if f.header != nil && bytes.Equal(record, f.header) {
		return &auditlog.Skip{Why: "the header of a CSV file"}
	}
	r, err := f.record(record)
	if err != nil {
		return err
	}
	if !f.matches(r) {
		return foreign{f.m.Name}
	}
	if f.programs["skip"] != nil {
		if v, err := f.eval("skip", r); err != nil {
			return err
		} else if v == types.True {
			return &auditlog.Skip{Why: "skipped by log map " + f.m.Name}
		}
	}
	e := &auditlog.Event{}
	if e.Time, err = f.time(r); err != nil {
		return err
	}
	for name, to := range map[string]*[]byte{"id": &e.ID, "identity": &e.Who.Text, "acting_for": &e.ActingFor.Text,
		"path": &e.Path, "network": &e.Network} {
		if *to, err = f.text(name, r); err != nil {
			return err
		}
	}
	if err := f.kinds(r, e); err != nil {
		return err
	}
	if e.Outcome, err = f.outcome(r); err != nil {
		return err
	}
	if f.programs["second_factor"] != nil {
		v, err := f.eval("second_factor", r)
		if err != nil {
			return err
		}
		if b, ok := v.Value().(bool); ok {
			e.Factor = model.TruthOf(b)
		}
	}
	if e.Groups, err = f.groups(r); err != nil {
		return err
	}
	perms, err := f.eval("permission", r)
	if err != nil {
		return err
	}
	list, err := texts(perms)
	if err != nil {
		return fmt.Errorf("%s: permission %w", f.m.Name, err)
	}
	for _, p := range list {
		e.Operation = []byte(p)
		if err := yield(e); err != nil {
			return err
		}
	}
	return nil
}

// groups reads the groups that the caller is in; what is absent or null names none.
func (f *format) groups(r any) ([][]byte, error) {
	if f.programs["groups"] == nil {
		return nil, nil
	}
	v, err := f.eval("groups", r)
	if err != nil || v.Type() == types.NullType {
		return nil, err
	}
	list, err := texts(v)
	if err != nil {
		return nil, fmt.Errorf("%s: groups %w", f.m.Name, err)
	}
	var out [][]byte
	for _, g := range list {
		out = append(out, []byte(g))
	}
	return out, nil
}

func texts(v ref.Val) ([]string, error) {
	if s, ok := v.Value().(string); ok {
		return []string{s}, nil
	}
	list, err := v.ConvertToNative(stringSlice)
	if err != nil {
		return nil, fmt.Errorf("yields %s, want text or a list of texts", v.Type())
	}
	out := list.([]string)
	slices.Sort(out) // the order must not tell events apart
	return slices.Compact(out), nil
}

func (f *format) time(r any) (int64, error) {
	v, err := f.eval("time", r)
	if err != nil {
		return 0, err
	}
	var ms float64
	switch x := v.Value().(type) {
	case time.Time:
		return x.UnixMilli(), nil
	case string:
		at, err := auditlog.ParseTime([]byte(x))
		if err != nil {
			return 0, fmt.Errorf("%s: %w", f.m.Name, err)
		}
		return at, nil
	case int64:
		ms = float64(x)
	case float64:
		ms = x
	default:
		return 0, fmt.Errorf("%s: time yields %s, want text, a timestamp or a number", f.m.Name, v.Type())
	}
	if ms < auditlog.Earliest/1000*10 { // seconds: as milliseconds they would lie in 1970
		ms *= 1000
	}
	if ms < auditlog.Earliest || ms > auditlog.Latest {
		return 0, fmt.Errorf("%s: time %g is not between 1990 and 2200", f.m.Name, ms)
	}
	return int64(ms), nil
}

func (f *format) outcome(r any) (usage.Outcome, error) {
	if f.programs["outcome"] == nil {
		return usage.Done, nil
	}
	v, err := f.eval("outcome", r)
	if err != nil {
		return "", err
	}
	code := int64(-1)
	switch x := v.Value().(type) {
	case bool:
		if x {
			return usage.Done, nil
		}
		return usage.Refused, nil
	case int64:
		code = x
	case float64:
		code = int64(x)
	case string:
		switch o := usage.Outcome(x); o {
		case usage.Done, usage.Refused, usage.Failed:
			return o, nil
		}
		if _, err := fmt.Sscanf(x, "%d", &code); err != nil {
			return "", fmt.Errorf("%s: outcome %.40q is none of done, refused, failed", f.m.Name, x)
		}
	}
	switch {
	case code == 401 || code == 403:
		return usage.Refused, nil
	case code >= 400:
		return usage.Failed, nil
	case code >= 0:
		return usage.Done, nil
	}
	return "", fmt.Errorf("%s: outcome yields %s", f.m.Name, v.Type())
}

var stringSlice = reflect.TypeFor[[]string]()

// foreign is an [auditlog.ErrForeign] that says whose record it is not.
type foreign struct{ name string }

func (f foreign) Error() string { return "not matched by log map " + f.name }

func (foreign) Is(err error) bool { return err == auditlog.ErrForeign }
