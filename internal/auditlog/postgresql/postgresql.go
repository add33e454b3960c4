// Package postgresql reads PostgreSQL 15 to 17 logs, jsonlog and csvlog, as calls.
//
// With pgaudit, a SESSION or OBJECT line is a call on the object it names, by the
// user who logged in. An UPDATE or DELETE with a WHERE also needs SELECT, though
// the line does not say so, and counts as both. A refused statement has no pgaudit
// line: it is an ERROR with SQLSTATE 42501, whose message names the object, often
// without its schema. Connections count as sql/database:connect. Statements logged
// without pgaudit name no objects and show no call.
//
// A line is known by session_id and its number in the session.
//
// Source: PostgreSQL documentation, "Error Reporting and Logging", csvlog and
// jsonlog; pgaudit documentation, "Format".
package postgresql

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"strings"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/jsonscan"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// The fields that matter, and their columns in csvlog.
const (
	fTime = iota
	fUser
	fDatabase
	fHost
	fSession
	fLine
	fSeverity
	fState
	fMessage
	fStatement
)

var (
	paths   = []string{"timestamp", "user", "dbname", "remote_host", "session_id", "line_num", "error_severity", "state_code", "message", "statement"}
	columns = []int{0, 1, 2, 4, 5, 6, 11, 12, 13, 19}
)

const fewestColumns = 23 // of csvlog

// Format reads the lines of one server, in either form.
type Format struct {
	source []byte
	scan   *jsonscan.Scanner
}

var _ auditlog.Format = (*Format)(nil)

// New returns a reader for the server that the estate calls source.
func New(source string) *Format {
	return &Format{source: model.AppendEscaped([]byte("/"), []byte(source)), scan: jsonscan.New(paths...)}
}

// Name returns "postgresql".
func (*Format) Name() string { return "postgresql" }

// Sniff looks for the fields of jsonlog, or a csvlog's first column and its width.
func (*Format) Sniff(record []byte) bool {
	if record[0] == '{' {
		return bytes.Contains(record, []byte(`"error_severity"`)) && bytes.Contains(record, []byte(`"session_id"`))
	}
	return len(record) > 25 && record[4] == '-' && record[7] == '-' && record[10] == ' ' && record[13] == ':' && bytes.Count(record, []byte{','}) >= fewestColumns-1
}

// Parse reads one line.
func (f *Format) Parse(record []byte, yield func(*auditlog.Event) error) error {
	var v [10]string
	if record[0] == '{' {
		vals, err := f.scan.Scan(record)
		if err != nil {
			return err
		}
		if vals[fSeverity].Kind != jsonscan.String || vals[fSession].Kind != jsonscan.String {
			return errors.New("not a PostgreSQL jsonlog line: error_severity or session_id is missing")
		}
		for i, x := range vals {
			v[i] = string(x.Text())
			if x.Kind == jsonscan.Number {
				v[i] = string(x.Raw)
			}
		}
	} else {
		if !f.Sniff(record) {
			return errors.New("not a PostgreSQL csvlog line")
		}
		r := csv.NewReader(bytes.NewReader(record))
		r.FieldsPerRecord = -1
		row, err := r.Read()
		if err != nil {
			return fmt.Errorf("csvlog: %w", err)
		}
		if len(row) < fewestColumns {
			return fmt.Errorf("csvlog: %d columns, want at least %d", len(row), fewestColumns)
		}
		for i, c := range columns {
			v[i] = row[c]
		}
		v[fHost], _, _ = strings.Cut(v[fHost], ":")
		if strings.Count(row[4], ":") > 1 { // IPv6 with its port
			v[fHost] = row[4][:strings.LastIndexByte(row[4], ':')]
		}
	}
	return f.line(&v, yield)
}

func (f *Format) line(v *[10]string, yield func(*auditlog.Event) error) error {
	at, err := auditlog.ParseTime([]byte(v[fTime]))
	if err != nil {
		return err
	}
	e := &auditlog.Event{Time: at, ID: []byte(v[fSession] + ":" + v[fLine]), Who: auditlog.Name{Text: []byte(v[fUser])}, Outcome: usage.Done}
	if v[fHost] != "" && v[fHost] != "[local]" {
		e.Network = []byte(v[fHost])
	}
	msg := v[fMessage]
	switch {
	case strings.HasPrefix(msg, "AUDIT: "):
		return f.audit(e, v, strings.TrimPrefix(msg, "AUDIT: "), yield)
	case v[fState] == "42501":
		e.Outcome = usage.Refused
		return f.refused(e, v, yield)
	case strings.HasPrefix(msg, "connection authorized:"):
		return f.emit(e, "sql/database:connect", f.at(v[fDatabase]), yield)
	case v[fSeverity] == "FATAL" && (strings.HasPrefix(v[fState], "28") || v[fState] == "42501"):
		e.Outcome = usage.Refused
		return f.emit(e, "sql/database:connect", f.at(v[fDatabase]), yield)
	case strings.HasPrefix(msg, "statement: ") || strings.HasPrefix(msg, "execute ") || strings.HasPrefix(msg, "duration: "):
		return &auditlog.Skip{Why: "a statement without pgaudit names no objects"}
	}
	return &auditlog.Skip{Why: "a message of the server"}
}

func (f *Format) emit(e *auditlog.Event, op, path string, yield func(*auditlog.Event) error) error {
	if len(e.Who.Text) == 0 {
		return &auditlog.Skip{Why: "a message of the server"}
	}
	e.Operation, e.Path = []byte(op), []byte(path)
	return yield(e)
}

// at returns the path of a database, or with parts that of something in it.
func (f *Format) at(db string, parts ...string) string {
	b := bytes.Clone(f.source)
	if db != "" {
		b = model.AppendEscaped(append(b, "/database:"...), []byte(db))
	}
	for i := 0; i+1 < len(parts); i += 2 {
		b = append(b, "/"+parts[i]+":"...)
		b = model.AppendEscaped(b, []byte(parts[i+1]))
	}
	return string(b)
}

// audit reads pgaudit's own fields: type, statement id, substatement id, class,
// command, object type, object name, statement, parameter.
func (f *Format) audit(e *auditlog.Event, v *[10]string, text string, yield func(*auditlog.Event) error) error {
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord, r.LazyQuotes = -1, true
	row, err := r.Read()
	if err != nil || len(row) < 8 || row[0] != "SESSION" && row[0] != "OBJECT" {
		return fmt.Errorf("pgaudit line with %d fields: %.60q", len(row), text)
	}
	class, command, kind, object, statement := row[3], strings.ToUpper(row[4]), strings.ToLower(row[5]), row[6], row[7]
	// A statement on several objects is several lines with one number each.
	e.ID = append(e.ID, "/"+row[1]+"/"+row[2]+"/"+object...)
	path := f.object(v[fDatabase], kind, object)
	if class == "MISC_SET" || class == "MISC" {
		if who, ok := setRole(statement); ok {
			return f.emit(e, "sql/role:set", f.at("", "role", who), yield)
		}
		return &auditlog.Skip{Why: "a setting of the session"}
	}
	if object == "" && (class == "READ" || class == "WRITE" || class == "FUNCTION") {
		return &auditlog.Skip{Why: "a statement that names no object"}
	}
	op, ok := operations[command]
	switch {
	case command == "COPY" && class == "READ":
		op = "sql/table:select" // COPY … TO reads
	case !ok:
		op = "sql/" + noun(kind) + ":" + strings.ToLower(strings.NewReplacer(" ", "-", "/", "-", ":", "-").Replace(command))
	}
	if op == "sql/table:select" && noun(kind) == "sequence" {
		op = "sql/sequence:select"
	}
	if err := f.emit(e, op, path, yield); err != nil {
		return err
	}
	if (command == "UPDATE" || command == "DELETE") && strings.Contains(strings.ToUpper(statement), " WHERE ") {
		return f.emit(e, "sql/table:select", path, yield)
	}
	return nil
}

var operations = map[string]string{
	"SELECT": "sql/table:select", "INSERT": "sql/table:insert", "UPDATE": "sql/table:update", "DELETE": "sql/table:delete", "TRUNCATE TABLE": "sql/table:truncate", "TRUNCATE": "sql/table:truncate",
	"COPY": "sql/table:insert", "LOCK TABLE": "sql/table:lock", "EXECUTE": "sql/function:execute", "CREATE TABLE": "sql/schema:create", "CREATE VIEW": "sql/schema:create", "CREATE FUNCTION": "sql/schema:create",
	"CREATE SCHEMA": "sql/database:create", "CREATE DATABASE": "sql/cluster:create-database", "DROP TABLE": "sql/table:drop", "ALTER TABLE": "sql/table:alter", "GRANT": "sql/table:grant", "REVOKE": "sql/table:grant",
	"CREATE ROLE": "sql/role:create", "ALTER ROLE": "sql/role:alter", "DROP ROLE": "sql/role:drop", "GRANT ROLE": "sql/role:grant", "REVOKE ROLE": "sql/role:grant",
}

func noun(kind string) string {
	switch kind {
	case "table", "view", "materialized view", "foreign table", "index", "toast table":
		return "table"
	case "sequence", "function", "schema", "database", "role":
		return kind
	}
	return "object"
}

// object returns the path of an object's qualified name.
func (f *Format) object(db, kind, name string) string {
	if name == "" {
		return f.at(db)
	}
	schema, rest := "", ""
	if parts := identifiers(name); len(parts) == 1 {
		rest = parts[0]
	} else {
		schema, rest = parts[len(parts)-2], parts[len(parts)-1]
	}
	switch {
	case kind == "database":
		return f.at(rest)
	case noun(kind) == "schema":
		return f.at(db, "schema", rest)
	case schema == "":
		return f.at(db, noun(kind), rest)
	}
	return f.at(db, "schema", schema, noun(kind), rest)
}

// identifiers reads the parts of a qualified name, up to a function's arguments: what
// stands in double quotes is taken as it is, a quote in it being doubled (PostgreSQL
// documentation, "Identifiers and Key Words").
func identifiers(name string) []string {
	var parts []string
	var one strings.Builder
	for i, quoted := 0, false; ; i++ {
		switch {
		case i == len(name):
			return append(parts, one.String())
		case name[i] == '"' && quoted && i+1 < len(name) && name[i+1] == '"':
			one.WriteByte('"')
			i++
		case name[i] == '"':
			quoted = !quoted
		case quoted:
			one.WriteByte(name[i])
		case name[i] == '.':
			parts = append(parts, one.String())
			one.Reset()
		case name[i] == '(':
			return append(parts, one.String())
		default:
			one.WriteByte(name[i])
		}
	}
}

// setRole reads the role of a SET ROLE. A name in quotes is taken as it is, another one in
// lower case, as the server does.
func setRole(statement string) (string, bool) {
	rest := strings.TrimRight(strings.TrimSpace(statement), "; \n\t")
	for _, word := range []string{"set", "role"} {
		w, after, _ := strings.Cut(rest, " ")
		if strings.EqualFold(w, "local") || strings.EqualFold(w, "session") { // SET SESSION ROLE x
			w, after, _ = strings.Cut(strings.TrimLeft(after, " "), " ")
		}
		if !strings.EqualFold(w, word) {
			return "", false
		}
		rest = strings.TrimSpace(after)
	}
	switch {
	case rest == "" || strings.EqualFold(rest, "none"):
		return "", false
	case rest[0] == '"':
		return identifiers(rest)[0], true
	case rest[0] == '\'':
		return strings.ReplaceAll(strings.Trim(rest, "'"), "''", "'"), true
	case strings.ContainsAny(rest, " \t\n"):
		return "", false
	}
	return strings.ToLower(rest), true
}

// named splits what a refusal names into kind and name.
func named(what string) (kind, name string) {
	kind, name, _ = strings.Cut(what, " ")
	if kind == "relation" || kind == "view" || kind == "materialized" || kind == "foreign" {
		name, kind = strings.TrimPrefix(strings.TrimPrefix(name, "view "), "table "), "table"
	}
	return kind, name
}

// notOwner reads "must be owner of table tickets": only an owner may drop or alter.
func (f *Format) notOwner(e *auditlog.Event, v *[10]string, what string, yield func(*auditlog.Event) error) error {
	kind, name := named(what)
	verb := "unknown"
	word, _, _ := strings.Cut(strings.TrimSpace(v[fStatement]), " ")
	if w := strings.ToLower(word); w == "drop" || w == "alter" {
		verb = w
	}
	return f.emit(e, "sql/"+noun(kind)+":"+verb, f.object(v[fDatabase], kind, name), yield)
}

// refused reads "permission denied for table tickets".
func (f *Format) refused(e *auditlog.Event, v *[10]string, yield func(*auditlog.Event) error) error {
	what, ok := strings.CutPrefix(v[fMessage], "permission denied for ")
	if !ok {
		if what, ok := strings.CutPrefix(v[fMessage], "must be owner of "); ok {
			return f.notOwner(e, v, what, yield)
		}
		return f.emit(e, "sql/object:unknown", f.at(v[fDatabase]), yield)
	}
	kind, name := named(what)
	verb := map[string]string{"schema": "usage", "database": "connect", "function": "execute", "sequence": "usage"}[kind]
	word, _, _ := strings.Cut(strings.TrimSpace(v[fStatement]), " ")
	switch w := strings.ToLower(word); w {
	case "select", "insert", "update", "delete", "truncate":
		if kind == "table" {
			verb = w
		}
	case "create":
		if kind == "schema" || kind == "database" {
			verb = "create"
		}
	}
	if verb == "" {
		verb = "unknown"
	}
	return f.emit(e, "sql/"+noun(kind)+":"+verb, f.object(v[fDatabase], kind, name), yield)
}
