// Package postgresql reads PostgreSQL 15 to 18 logs, jsonlog and csvlog, as calls.
//
// With pgaudit, a SESSION or OBJECT line is a call on the object it names, by the
// user who logged in; two lines about one access are one call. What the statement needs
// beside the verb that the line names is read off its text ([statement]): an UPDATE with a
// WHERE reads, SELECT FOR UPDATE and ON CONFLICT change, a MERGE does what its branches do,
// a TRUNCATE names its tables nowhere else. A relation that the text does not name was
// reached through a view: whether that took a right of the caller is for whoever knows the
// grants to say ([usage.Through]). A line that hides its relation (pgaudit.log_relation is
// off) is a call on the database, which no grant explains.
//
// A refused statement has no pgaudit line: it is an ERROR with SQLSTATE 42501, whose
// message names the object, often without its schema, and not always the verb that was
// refused. Messages in other languages keep the SQLSTATE and name nothing.
//
// Whoever runs a statement has connected: that is sql/database:connect, once a session.
// "connection authorized" is written before that right is looked at and proves nothing; 18
// writes "connection ready", which does.
//
// What no setting shows: what security definer functions and triggers touch, USAGE of
// schemas and sequences, LOCK, VACUUM.
//
// Source: PostgreSQL documentation, "Error Reporting and Logging", csvlog and
// jsonlog; pgaudit documentation, "Format".
package postgresql

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

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
	paths = []string{"timestamp", "user", "dbname", "remote_host", "session_id", "line_num", "error_severity",
		"state_code", "message", "statement"}
	columns = []int{0, 1, 2, 4, 5, 6, 11, 12, 13, 19}
)

const fewestColumns = 23 // of csvlog

// Format reads the lines of one server, in either form.
type Format struct {
	source []byte
	scan   *jsonscan.Scanner
	zone   *time.Location // what abbreviations of zones mean; nil: nothing
	out    [10][]byte
	coded  [10]coding
	inner  [5][]byte // of pgaudit's own fields, behind the statement's numbers
	ev     auditlog.Event
	id     []byte

	// What was worked out lately: most statements are made again and again, and a session
	// makes many. Each is emptied when it is full.
	known    map[string]outcome
	sessions map[string]struct{}
	session  []byte // the last one, which is among them
	key      []byte
}

// coding is how a field is written. Messages and statements stay as they are until somebody
// must read them: most are known by the bytes they are written in.
type coding byte

const (
	plain   coding = iota
	escaped        // a string of JSON with escapes
	doubled        // a field of CSV with quotes in it
)

func (c coding) undo(field []byte) []byte {
	switch c {
	case escaped:
		return jsonscan.Value{Kind: jsonscan.String, Escaped: true, Raw: field}.Text()
	case doubled:
		return undoubled(field)
	}
	return field
}

// outcome is what a line of pgaudit says, but for who, when and which statement.
type outcome struct {
	accesses []access
	err      error
}

type access struct {
	op, path []byte
	tail     string // of the event's id
}

const (
	mostKnown    = 8192
	longestKnown = 2048 // bytes of a line
)

var _ auditlog.Format = (*Format)(nil)

// New returns a reader for the server that the estate calls source. Its log_timezone may be
// written as an abbreviation, such as CET, which zone explains; nil takes none but UTC.
func New(source string, zone *time.Location) *Format {
	return &Format{source: model.AppendEscaped([]byte("/"), []byte(source)), scan: jsonscan.New(paths...), zone: zone,
		known: map[string]outcome{}, sessions: map[string]struct{}{}}
}

// Name returns "postgresql".
func (*Format) Name() string { return "postgresql" }

// Sniff looks for the fields of jsonlog, or a csvlog's first column and its width.
func (*Format) Sniff(record []byte) bool {
	if record[0] == '{' {
		return bytes.Contains(record, []byte(`"error_severity"`)) && bytes.Contains(record, []byte(`"session_id"`))
	}
	return looksLike(record) && bytes.Count(record, []byte{','}) >= fewestColumns-1
}

// looksLike tells a csvlog line by its first column, cheaply.
func looksLike(record []byte) bool {
	return len(record) > 25 && record[4] == '-' && record[7] == '-' && record[10] == ' ' && record[13] == ':'
}

// Parse reads one line.
func (f *Format) Parse(record []byte, yield func(*auditlog.Event) error) error {
	v := &f.out
	if record[0] == '{' {
		vals, err := f.scan.Scan(record)
		if err != nil {
			return err
		}
		if vals[fSeverity].Kind != jsonscan.String || vals[fSession].Kind != jsonscan.String {
			return errors.New("not a PostgreSQL jsonlog line: error_severity or session_id is missing")
		}
		for i, x := range vals {
			v[i], f.coded[i] = nil, plain
			if x.Kind == jsonscan.Number || x.Kind == jsonscan.String {
				v[i] = x.Raw
			}
			if x.Escaped {
				f.coded[i] = escaped
			}
		}
	} else {
		if !looksLike(record) {
			return errors.New("not a PostgreSQL csvlog line")
		}
		n, odd, err := fields(record, columns, v[:])
		if err != nil {
			return err
		}
		if n < fewestColumns {
			return fmt.Errorf("csvlog: %d columns, want at least %d", n, fewestColumns)
		}
		for i := range v {
			f.coded[i] = plain
			if odd>>i&1 != 0 {
				f.coded[i] = doubled
			}
		}
		if host := v[fHost]; bytes.Count(host, []byte{':'}) > 1 { // IPv6 with its port
			v[fHost] = host[:bytes.LastIndexByte(host, ':')]
		} else {
			v[fHost], _, _ = bytes.Cut(host, []byte{':'})
		}
	}
	for i, c := range f.coded {
		// What a message begins with is plain, unless somebody wrote it otherwise on purpose.
		if c != plain && i != fStatement && (i != fMessage || c == escaped && v[i][0] == '\\') {
			v[i], f.coded[i] = c.undo(v[i]), plain
		}
	}
	return f.line(v, yield)
}

var (
	skipMessage   = &auditlog.Skip{Why: "a message of the server"}
	skipStatement = &auditlog.Skip{Why: "a statement without pgaudit names no objects"}
	skipSetting   = &auditlog.Skip{Why: "a setting of the session"}
	skipNothing   = &auditlog.Skip{Why: "a statement that touches no relation"}
)

func (f *Format) line(v *[10][]byte, yield func(*auditlog.Event) error) error {
	msg := v[fMessage]
	text, audit := bytes.CutPrefix(msg, []byte("AUDIT: "))
	ready := bytes.HasPrefix(msg, []byte("connection ready:"))
	state, fatal := string(v[fState]), string(v[fSeverity]) == "FATAL"
	if !audit && !ready && state != "42501" && (!fatal || !strings.HasPrefix(state, "28")) {
		for _, p := range []string{"statement: ", "execute ", "duration: "} {
			if bytes.HasPrefix(msg, []byte(p)) {
				return skipStatement
			}
		}
		return skipMessage
	}
	at, err := f.when(v[fTime])
	if err != nil {
		return err
	}
	e := &f.ev
	f.id = append(append(append(f.id[:0], v[fSession]...), ':'), v[fLine]...)
	*e = auditlog.Event{Time: at, ID: f.id, Who: auditlog.Name{Text: v[fUser]}, Outcome: usage.Done}
	if len(v[fHost]) > 0 && string(v[fHost]) != "[local]" {
		e.Network = v[fHost]
	}
	switch {
	case audit || ready:
		e.Keyed = true
		if err := f.connected(e, v, yield); err != nil || ready {
			return err
		}
		return f.audit(e, v, text, yield)
	case state == "42501" && !fatal: // who is refused a statement has connected, too
		e.Keyed = true
		if err := f.connected(e, v, yield); err != nil {
			return err
		}
		e.Outcome = usage.Refused
		return f.refused(e, v, yield)
	}
	e.Outcome = usage.Refused
	return f.emit(e, "sql/database:connect", f.at(string(v[fDatabase])), yield)
}

// connected says that whoever runs a statement has connected: once a session, at its start,
// which the session's id tells.
func (f *Format) connected(e *auditlog.Event, v *[10][]byte, yield func(*auditlog.Event) error) error {
	if bytes.Equal(f.session, v[fSession]) {
		return nil
	}
	f.session = append(f.session[:0], v[fSession]...)
	if _, told := f.sessions[string(v[fSession])]; told {
		return nil
	}
	if len(f.sessions) >= mostKnown {
		clear(f.sessions)
	}
	f.sessions[string(v[fSession])] = struct{}{}
	start, _, _ := strings.Cut(string(v[fSession]), ".")
	seconds, err := strconv.ParseInt(start, 16, 64)
	if at := seconds * 1000; err == nil && at >= auditlog.Earliest && at <= e.Time+1000 && len(v[fDatabase]) > 0 {
		c := *e
		c.Time, c.ID = at, append(bytes.Clone(v[fSession]), "/connect"...)
		return f.emit(&c, "sql/database:connect", f.at(string(v[fDatabase])), yield)
	}
	return nil
}

// when reads a time as log_timezone has it written: with UTC, an offset such as -03 or
// +0545, or an abbreviation, which the zone of the source's configuration explains.
func (f *Format) when(b []byte) (int64, error) {
	if rest, ok := bytes.CutSuffix(b, []byte(" UTC")); ok && len(rest) < 40 && len(rest) > 10 {
		f.key = append(append(f.key[:0], rest...), 'Z')
		f.key[10] = 'T'
		return auditlog.ParseTime(f.key)
	}
	text := string(b)
	for _, layout := range []string{"2006-01-02 15:04:05.999999999 -07", "2006-01-02 15:04:05.999999999 -0700",
		"2006-01-02 15:04:05.999999999 -07:00"} {
		if t, err := time.Parse(layout, text); err == nil {
			return auditlog.ParseTime([]byte(t.UTC().Format(time.RFC3339Nano)))
		}
	}
	if f.zone != nil {
		t, err := time.ParseInLocation("2006-01-02 15:04:05.999999999 MST", text, f.zone)
		if name, offset := t.Zone(); err == nil && (offset != 0 || name == "UTC" || name == "GMT" || name == "WET") {
			return auditlog.ParseTime([]byte(t.UTC().Format(time.RFC3339Nano)))
		} else if err == nil {
			return 0, fmt.Errorf("time %.40q: %s, which is log_zone of the source, knows no zone %s", text, f.zone,
				name)
		}
	}
	at, err := auditlog.ParseTime([]byte(text))
	if err != nil && f.zone == nil {
		err = fmt.Errorf("%w; or say in clipfence.yaml what it means: log_zone, such as Europe/Oslo", err)
	}
	return at, err
}

func (f *Format) emit(e *auditlog.Event, op, path string, yield func(*auditlog.Event) error) error {
	if len(e.Who.Text) == 0 {
		return skipMessage
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
func (f *Format) audit(e *auditlog.Event, v *[10][]byte, text []byte, yield func(*auditlog.Event) error) error {
	kind, rest, ok := bytes.Cut(text, []byte{','})
	first := bytes.IndexByte(rest, ',')
	second := -1
	if first > 0 {
		second = bytes.IndexByte(rest[first+1:], ',')
	}
	if !ok || second < 0 || string(kind) != "SESSION" && string(kind) != "OBJECT" {
		return fmt.Errorf("not a line of pgaudit: %.60q", text)
	}
	numbers, rest := rest[:first+1+second], rest[first+second+2:]
	c := f.coded[fMessage]
	f.key = append(append(append(f.key[:0], byte(c)), v[fDatabase]...), 0)
	f.key = append(f.key, rest...)
	o, known := f.known[string(f.key)]
	if !known {
		o = f.says(string(v[fDatabase]), c.undo(rest))
		f.remember(o)
	}
	if o.err != nil {
		return o.err
	}
	if len(e.Who.Text) == 0 {
		return skipMessage
	}
	// One access of a statement to an object counts once, whether pgaudit writes it as
	// SESSION, as OBJECT, or both.
	f.id = append(append(append(append(f.id[:0], v[fSession]...), '/'), numbers...), '/')
	n := len(f.id)
	for _, a := range o.accesses {
		f.id = append(f.id[:n], a.tail...)
		e.ID, e.Operation, e.Path = f.id, a.op, a.path
		if err := yield(e); err != nil {
			return err
		}
	}
	return nil
}

// remember keeps what the line is about, by its key.
func (f *Format) remember(o outcome) {
	if len(f.key) <= longestKnown {
		if len(f.known) >= mostKnown {
			clear(f.known)
		}
		f.known[string(f.key)] = o
	}
}

var pgaudit = []int{0, 1, 2, 3, 4}

// says works out what a line of pgaudit says from its class on.
func (f *Format) says(db string, text []byte) (o outcome) {
	n, odd, err := fields(text, pgaudit, f.inner[:])
	if err != nil {
		return outcome{err: fmt.Errorf("pgaudit line with %d fields: %.60q", n+3, text)}
	}
	for i := range f.inner {
		if odd>>i&1 != 0 {
			f.inner[i] = undoubled(f.inner[i])
		}
	}
	class, command, kind := string(f.inner[0]), strings.ToUpper(string(f.inner[1])),
		strings.ToLower(string(f.inner[2]))
	object, words := string(f.inner[3]), string(f.inner[4])
	add := func(object, op string) {
		o.accesses = append(o.accesses, access{[]byte(op), []byte(f.object(db, kind, object)), object + "/" + op})
	}
	if class == "MISC_SET" || class == "MISC" {
		who, ok := setRole(words)
		if !ok {
			return outcome{err: skipSetting}
		}
		return outcome{accesses: []access{{[]byte("sql/role:set"), []byte(f.at("", "role", who)), "/role:set"}}}
	}
	s := parse(words)
	switch {
	case object == "" && strings.HasPrefix(command, "TRUNCATE") && s.known:
		kind = "table"
		for _, t := range s.truncated() {
			add(t, "sql/table:truncate")
		}
		if len(o.accesses) > 0 {
			return o
		}
	case object == "" && (class == "READ" || class == "WRITE" || class == "FUNCTION"):
		if operations[command] == "" || !s.touches() {
			return outcome{err: skipNothing}
		}
		// pgaudit.log_relation is off: something was done, and where is hidden.
	}
	op, ok := operations[command]
	switch {
	case command == "COPY" && class == "READ":
		op = "sql/table:select" // COPY … TO reads
	case !ok:
		op = "sql/" + noun(kind) + ":" + strings.ToLower(strings.NewReplacer(" ", "-", "/", "-", ":",
			"-").Replace(command))
	}
	if op == "sql/table:select" && noun(kind) == "sequence" {
		op = "sql/sequence:select"
	}
	if noun(kind) == "table" && object != "" && class != "DDL" && class != "ROLE" && !s.named(object) {
		add(object, op+usage.Through)
		return o
	}
	// pgaudit calls every merge an insert; what its branches do is more's to say.
	if merge := s.known && s.has("merge", "into"); !merge || !ok || command == "SELECT" ||
		s.has("then", strings.ToLower(command)) {
		add(object, op)
	}
	for _, verb := range s.more(command, object) {
		add(object, "sql/table:"+verb)
	}
	if len(o.accesses) == 0 { // a merge whose branches all do nothing
		return outcome{err: skipNothing}
	}
	return o
}

var operations = map[string]string{
	"SELECT": "sql/table:select", "INSERT": "sql/table:insert", "UPDATE": "sql/table:update",
	"DELETE": "sql/table:delete", "TRUNCATE TABLE": "sql/table:truncate", "TRUNCATE": "sql/table:truncate",
	"COPY": "sql/table:insert", "LOCK TABLE": "sql/table:lock", "EXECUTE": "sql/function:execute",
	"CREATE TABLE": "sql/schema:create", "CREATE VIEW": "sql/schema:create", "CREATE FUNCTION": "sql/schema:create",
	"CREATE SCHEMA": "sql/database:create", "CREATE DATABASE": "sql/cluster:create-database",
	"DROP TABLE": "sql/table:drop", "ALTER TABLE": "sql/table:alter", "GRANT": "sql/table:grant",
	"REVOKE":      "sql/table:grant",
	"CREATE ROLE": "sql/role:create", "ALTER ROLE": "sql/role:alter", "DROP ROLE": "sql/role:drop",
	"GRANT ROLE": "sql/role:grant", "REVOKE ROLE": "sql/role:grant",
}

func noun(kind string) string {
	switch kind {
	case "table", "view", "materialized view", "foreign table", "index", "toast table", "composite type":
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
	parts := identifiers(name)
	if len(parts) == 1 {
		return f.path(db, kind, "", parts[0])
	}
	return f.path(db, kind, parts[len(parts)-2], parts[len(parts)-1])
}

// path returns the path of an object by schema, if that is known, and name.
func (f *Format) path(db, kind, schema, name string) string {
	switch {
	case kind == "database":
		return f.at(name)
	case noun(kind) == "schema":
		return f.at(db, "schema", name)
	case schema == "":
		return f.at(db, noun(kind), name)
	}
	return f.at(db, "schema", schema, noun(kind), name)
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

// named splits what a refusal names into kind and name. The name is written as it is, not
// as a statement would have to quote it, and without its schema.
func named(what string) (kind, name string) {
	kind, name, _ = strings.Cut(what, " ")
	if kind == "relation" || kind == "view" || kind == "materialized" || kind == "foreign" {
		name, kind = strings.TrimPrefix(strings.TrimPrefix(name, "view "), "table "), "table"
	}
	return kind, name
}

// refused reads "permission denied for table tickets".
func (f *Format) refused(e *auditlog.Event, v *[10][]byte, yield func(*auditlog.Event) error) error {
	m, t := f.coded[fMessage], f.coded[fStatement]
	f.key = append(append(append(f.key[:0], 'r', byte(m), byte(t)), v[fDatabase]...), 0)
	f.key = append(append(append(f.key, v[fMessage]...), 0), v[fStatement]...)
	o, known := f.known[string(f.key)]
	if !known {
		o.accesses = []access{f.missing(string(v[fDatabase]), string(m.undo(v[fMessage])),
			string(t.undo(v[fStatement])))}
		f.remember(o)
	}
	if len(e.Who.Text) == 0 {
		return skipMessage
	}
	e.Operation, e.Path = o.accesses[0].op, o.accesses[0].path
	return yield(e)
}

// missing says which right somebody was refused for, and where.
func (f *Format) missing(db, message, statement string) access {
	to := func(op, path string) access { return access{op: []byte(op), path: []byte(path)} }
	s := parse(statement)
	if what, ok := strings.CutPrefix(message, "must be owner of "); ok { // only an owner may drop or alter
		kind, name := named(what)
		verb := "unknown"
		if w := s.first(); w == "drop" || w == "alter" {
			verb = w
		}
		return to("sql/"+noun(kind)+":"+verb, f.path(db, kind, s.schema(name), name))
	}
	what, ok := strings.CutPrefix(message, "permission denied for ")
	if !ok {
		return to("sql/object:unknown", f.at(db)) // in another language, or of another kind
	}
	kind, name := named(what)
	verb := map[string]string{"schema": "usage", "database": "connect", "function": "execute",
		"sequence": "usage"}[kind]
	switch {
	case kind == "table":
		verb = s.denied(name)
	case (kind == "schema" || kind == "database") && s.first() == "create":
		verb = "create"
	}
	if verb == "" {
		verb = "unknown"
	}
	return to("sql/"+noun(kind)+":"+verb, f.path(db, kind, s.schema(name), name))
}
