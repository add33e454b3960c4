// Package kubernetes reads Kubernetes audit events (audit.k8s.io/v1) as calls.
//
// A request writes one event a stage; all share auditID, verb, URI and the time at which it
// was received, and count once. The auditID alone does not tell requests apart: a client may
// choose it. The stage RequestReceived tells no outcome and is passed over. The caller is
// user.username, whatever it looks like; with impersonation the rights used are those of
// impersonatedUser.username, and the caller's own right to impersonate. The permission is
// group/resource[/subresource]:verb ("core" for the group without a name), the path the
// object's, or the namespace's where the request names no object; a request outside the API
// is url/PATH:verb at the cluster. A PUT or an apply that is answered 201 has created, and
// took that right as well. The annotation authorization.k8s.io/decision counts over the
// code: a 403 that it allows was refused by an admission check, after access control; one
// without it, under impersonation, lacked the right to impersonate: such an event does not
// say as whom, but in its message, and from 1.35 on not always there. Impersonation by a
// constraint takes two rights of its own, impersonate:MODE and impersonate-on:MODE:VERB. An
// EventList is a record
// of many events. user.groups is who is in which group: no other list of it is kept. The verbs bind and
// escalate are never logged.
//
// Source: Kubernetes API reference, audit.k8s.io/v1 Event.
package kubernetes

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/jsonscan"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

const (
	fVersion = iota
	fLevel
	fID
	fStage
	fVerb
	fURI
	fUser
	fAs
	fIP
	fGroup
	fResource
	fSub
	fNamespace
	fName
	fCode
	fReceived
	fStageTime
	fDecision
	fKind
	fMessage
	fConstraint
	fGroups // and those that follow
)

// scanned is how many groups of a caller are read in passing; where there are more, all are read in
// the slow way.
const scanned = 12

var paths = append([]string{"apiVersion", "level", "auditID", "stage", "verb", "requestURI", "user.username",
	"impersonatedUser.username", "sourceIPs.0",
	"objectRef.apiGroup", "objectRef.resource", "objectRef.subresource", "objectRef.namespace", "objectRef.name",
	"responseStatus.code", "requestReceivedTimestamp", "stageTimestamp",
	`annotations.authorization\.k8s\.io/decision`, "kind", "responseStatus.message",
	"authenticationMetadata.impersonationConstraint"}, groupPaths()...)

func groupPaths() []string {
	out := make([]string, scanned)
	for i := range out {
		out[i] = "user.groups." + strconv.Itoa(i)
	}
	return out
}

// Format reads audit lines of one cluster.
type Format struct {
	source []byte // "/" and the source's name, escaped
	scan   *jsonscan.Scanner
	op     []byte
	path   []byte
	id     []byte
	groups [][]byte
}

var _ auditlog.Format = (*Format)(nil)

// New returns a reader for the cluster that the estate calls source.
func New(source string) *Format {
	return &Format{source: model.AppendEscaped([]byte("/"), []byte(source)), scan: jsonscan.New(paths...)}
}

// Name returns "kubernetes".
func (*Format) Name() string { return "kubernetes" }

// Sniff looks for the group of audit events.
func (*Format) Sniff(record []byte) bool { return bytes.Contains(record, []byte(`"audit.k8s.io/`)) }

// Parse reads one event.
func (f *Format) Parse(line []byte, yield func(*auditlog.Event) error) error {
	v, err := f.scan.Scan(line)
	if err != nil {
		return err
	}
	if version := v[fVersion].Text(); !bytes.HasPrefix(version, []byte("audit.k8s.io/v1")) {
		return fmt.Errorf("apiVersion %.40q is not audit.k8s.io/v1", version)
	}
	if string(v[fKind].Text()) == "EventList" {
		return f.list(line, yield)
	}
	if stage := v[fStage].Text(); string(stage) == "RequestReceived" {
		return &auditlog.Skip{Why: "stage RequestReceived: no outcome yet"}
	}
	if len(v[fID].Text()) == 0 {
		return errors.New("auditID is missing")
	}
	at := v[fReceived].Text() // the same at every stage
	if len(at) == 0 {
		at = v[fStageTime].Text()
	}
	e := auditlog.Event{Network: v[fIP].Text(), Outcome: usage.Done}
	if e.Time, err = auditlog.ParseTime(at); err != nil {
		return fmt.Errorf("requestReceivedTimestamp: %w", err)
	}
	f.id = f.id[:0]
	for _, part := range [][]byte{v[fID].Text(), v[fVerb].Text(), v[fURI].Text(), at, v[fUser].Text()} {
		f.id = append(append(f.id, part...), 0)
	}
	e.ID = f.id
	code, _ := v[fCode].Int()
	decision, as := v[fDecision].Text(), v[fAs].Text()
	switch {
	case string(decision) == "forbid", (code == 401 || code == 403) && string(decision) != "allow":
		e.Outcome = usage.Refused
	case code >= 400:
		e.Outcome = usage.Failed
	}
	user := v[fUser].Text()
	switch {
	case len(user) == 0 && code == 401:
		return &auditlog.Skip{Why: "a caller who could not prove who it is"}
	case len(user) == 0:
		return errors.New("user.username is missing")
	case len(v[fVerb].Text()) == 0:
		return &auditlog.Skip{Why: "a request without a verb, such as OPTIONS: it takes no right"}
	}
	e.Who = named(user)
	e.Groups = f.groupsOf(v, line)
	refused := code == 403 && len(decision) == 0 // it did not get as far as what it asked for
	switch {
	case len(as) > 0:
		own := e
		own.Operation, own.Path = f.impersonate(as, v[fConstraint].Text())
		if refused {
			return yield(&own)
		}
		own.Outcome = usage.Done
		if err := yield(&own); err != nil {
			return err
		}
		if c := v[fConstraint].Text(); len(c) > 0 {
			verb := append(append(bytes.Replace(c, []byte(":"), []byte("-on:"), 1), ':'), v[fVerb].Text()...)
			if own.Operation, own.Path, err = f.what(v, verb); err != nil {
				return err
			}
			if err := yield(&own); err != nil {
				return err
			}
		}
		e.ActingFor = named(as)
	case refused:
		if m := lacks.FindSubmatch(v[fMessage].Text()); m != nil {
			e.Operation, e.Path = f.lacked(m)
			return yield(&e)
		}
	}
	if e.Operation, e.Path, err = f.what(v, v[fVerb].Text()); err != nil {
		return err
	}
	if err := yield(&e); err != nil {
		return err
	}
	if verb := string(v[fVerb].Text()); code == 201 && (verb == "patch" || verb == "update") {
		if e.Operation, e.Path, err = f.what(v, []byte("create")); err != nil {
			return err
		}
		return yield(&e)
	}
	return nil
}

// groupsOf returns the groups that the caller is in, as whoever authenticated it said: those that it
// takes on by impersonation are its own choice, and not among them.
func (f *Format) groupsOf(v []jsonscan.Value, line []byte) [][]byte {
	f.groups = f.groups[:0]
	for _, g := range v[fGroups : fGroups+scanned] {
		if g.Kind == jsonscan.Absent {
			return f.groups
		}
		if name := g.Text(); len(name) > 0 {
			f.groups = append(f.groups, name)
		}
	}
	var all struct {
		User struct {
			Groups []string `json:"groups"`
		} `json:"user"`
	}
	if json.Unmarshal(line, &all) != nil { // the scan has read it
		return f.groups
	}
	for _, name := range all.User.Groups[min(scanned, len(all.User.Groups)):] {
		f.groups = append(f.groups, []byte(name))
	}
	return f.groups
}

// list reads the events of an EventList.
func (f *Format) list(line []byte, yield func(*auditlog.Event) error) error {
	var l struct {
		Items []json.RawMessage `json:"items"`
	}
	if err := json.Unmarshal(line, &l); err != nil {
		return fmt.Errorf("EventList: %w", err)
	}
	var skip *auditlog.Skip
	some := false
	for i, one := range l.Items {
		if !bytes.Contains(one, []byte(`"audit.k8s.io/`)) { // items of a list may leave it out
			one = append([]byte(`{"apiVersion":"audit.k8s.io/v1",`), bytes.TrimLeft(one, " \t\r\n{")...)
		}
		switch err := f.Parse(one, yield); {
		case err == nil:
			some = true
		case !errors.As(err, &skip):
			return fmt.Errorf("EventList, event %d: %w", i+1, err)
		}
	}
	if !some {
		if skip == nil {
			skip = &auditlog.Skip{Why: "an EventList without events"}
		}
		return skip
	}
	return nil
}

// impersonate returns the right that acting as somebody takes, by a constraint or without.
func (f *Format) impersonate(as, constraint []byte) (op, path []byte) {
	f.path = append(f.path[:0], f.source...)
	group, verb := "core/", []byte("impersonate")
	if len(constraint) > 0 {
		group, verb = "authentication.k8s.io/", constraint
	}
	if rest, ok := bytes.CutPrefix(as, account); ok {
		if ns, name, ok := bytes.Cut(rest, []byte{':'}); ok {
			f.path = escaped(append(f.path, "/namespace:"...), ns)
			f.path = escaped(append(f.path, "/serviceaccounts:"...), name)
			return escaped([]byte(group+"serviceaccounts:"), verb), f.path
		}
	}
	f.path = escaped(append(f.path, "/users:"...), as)
	return escaped([]byte(group+"users:"), verb), f.path
}

// lacks reads the message of a refused impersonation:
//
//	users "boss" is forbidden: User "imp" cannot impersonate resource "users" in API group "" at the cluster scope
//	configmaps is forbidden: User "imp" cannot impersonate-on:user-info:list resource
//	"configmaps" in API group "" in the namespace "team-a"
var lacks = regexp.MustCompile(
	`^[^ ]+(?: "([^"]+)")? is forbidden: .* cannot (impersonate[a-z:-]*) resource "([^"]+)" in API group "([^"]*)"(?: in the namespace "([^"]+)")?`)

// lacked returns the right that such a message says is missing, and where. As whom, a
// message about impersonate-on does not tell.
func (f *Format) lacked(m [][]byte) (op, path []byte) {
	name, verb, resource, group, ns := m[1], m[2], m[3], m[4], m[5]
	if len(group) == 0 {
		group = []byte("core")
	}
	f.op = escaped(append(escaped(append(escaped(f.op[:0], group), '/'), resource), ':'), verb)
	f.path = append(f.path[:0], f.source...)
	if len(ns) > 0 {
		f.path = escaped(append(f.path, "/namespace:"...), ns)
	}
	if len(name) > 0 {
		f.path = escaped(append(escaped(append(f.path, '/'), resource), ':'), name)
	}
	return f.op, f.path
}

var account = []byte("system:serviceaccount:")

// named turns a user name into an identity; a service account is a workload named
// namespace/name.
func named(user []byte) auditlog.Name {
	if rest, ok := bytes.CutPrefix(user, account); ok && bytes.IndexByte(rest, ':') > 0 {
		return auditlog.Name{Kind: model.Workload, Text: bytes.Replace(rest, []byte(":"), []byte("/"), 1)}
	}
	switch {
	case string(user) == "system:anonymous":
		return auditlog.Name{}
	case bytes.HasPrefix(user, []byte("system:")):
		return auditlog.Name{Kind: model.Workload, Text: user}
	}
	return auditlog.Name{Kind: model.Person, Text: user}
}

// escaped appends a name as one part of a path or permission.
func escaped(dst, name []byte) []byte {
	for _, c := range name {
		if !('a' <= c && c <= 'z' || '0' <= c && c <= '9' || c == '-' || c == '.') {
			return model.AppendEscaped(dst, name)
		}
	}
	return append(dst, name...)
}

func (f *Format) what(v []jsonscan.Value, verb []byte) (op, path []byte, err error) {
	resource := v[fResource].Text()
	f.path = append(f.path[:0], f.source...)
	if len(resource) == 0 {
		uri, _, _ := bytes.Cut(v[fURI].Text(), []byte("?"))
		if len(uri) < 2 {
			uri = []byte("/%2F") // the root itself
		}
		f.op = append(append(append(append(f.op[:0], "url"...), uri...), ':'), verb...)
		return f.op, f.path, nil
	}
	group := v[fGroup].Text()
	if len(group) == 0 {
		group = []byte("core")
	}
	f.op = append(escaped(f.op[:0], group), '/')
	f.op = escaped(f.op, resource)
	if sub := v[fSub].Text(); len(sub) > 0 {
		f.op = escaped(append(f.op, '/'), sub)
	}
	f.op = escaped(append(f.op, ':'), verb)
	ns, name := v[fNamespace].Text(), v[fName].Text()
	if len(ns) > 0 {
		f.path = escaped(append(f.path, "/namespace:"...), ns)
	}
	switch {
	case len(name) == 0 || string(verb) == "create" && len(v[fSub].Text()) == 0:
		// Asked at the namespace: nobody can be granted a name that is not there yet.
	case string(resource) == "namespaces":
		if len(ns) == 0 {
			f.path = escaped(append(f.path, "/namespace:"...), name)
		}
	default:
		f.path = escaped(append(escaped(append(f.path, '/'), resource), ':'), name)
	}
	return f.op, f.path, nil
}
