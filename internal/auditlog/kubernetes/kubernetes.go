// Package kubernetes reads Kubernetes audit events (audit.k8s.io/v1) as calls.
//
// A request writes one event a stage; all share an auditID and count once. The
// stage RequestReceived tells no outcome and is passed over. The caller is
// user.username; with impersonation the rights used are those of
// impersonatedUser.username. The permission is group/resource[/subresource]:verb
// ("core" for the group without a name), the path the object's, or the namespace's
// where the request names no object; a request outside the API is url/PATH:verb at
// the cluster. The annotation authorization.k8s.io/decision counts over the code.
//
// Source: Kubernetes API reference, audit.k8s.io/v1 Event.
package kubernetes

import (
	"bytes"
	"errors"
	"fmt"

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
)

var paths = []string{"apiVersion", "level", "auditID", "stage", "verb", "requestURI", "user.username", "impersonatedUser.username", "sourceIPs.0",
	"objectRef.apiGroup", "objectRef.resource", "objectRef.subresource", "objectRef.namespace", "objectRef.name", "responseStatus.code", "requestReceivedTimestamp", "stageTimestamp",
	`annotations.authorization\.k8s\.io/decision`}

// Format reads audit lines of one cluster.
type Format struct {
	source []byte // "/" and the source's name, escaped
	scan   *jsonscan.Scanner
	op     []byte
	path   []byte
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
	if stage := v[fStage].Text(); string(stage) == "RequestReceived" {
		return &auditlog.Skip{Why: "stage RequestReceived: no outcome yet"}
	}
	e := auditlog.Event{ID: v[fID].Text(), Network: v[fIP].Text(), Outcome: usage.Done}
	if len(e.ID) == 0 {
		return errors.New("auditID is missing")
	}
	at := v[fReceived].Text() // the same at every stage
	if len(at) == 0 {
		at = v[fStageTime].Text()
	}
	if e.Time, err = auditlog.ParseTime(at); err != nil {
		return fmt.Errorf("requestReceivedTimestamp: %w", err)
	}
	code, _ := v[fCode].Int()
	switch decision := v[fDecision].Text(); {
	case code == 401 || code == 403 || string(decision) == "forbid":
		e.Outcome = usage.Refused
	case code >= 400:
		e.Outcome = usage.Failed
	}
	user := v[fUser].Text()
	if len(user) == 0 {
		return errors.New("user.username is missing")
	}
	e.Who = named(user)
	if as := v[fAs].Text(); len(as) > 0 {
		e.ActingFor = named(as)
	}
	if e.Operation, e.Path, err = f.what(v); err != nil {
		return err
	}
	return yield(&e)
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

func (f *Format) what(v []jsonscan.Value) (op, path []byte, err error) {
	verb, resource := v[fVerb].Text(), v[fResource].Text()
	if len(verb) == 0 {
		return nil, nil, errors.New("verb is missing")
	}
	f.path = append(f.path[:0], f.source...)
	if len(resource) == 0 {
		uri, _, _ := bytes.Cut(v[fURI].Text(), []byte("?"))
		if len(uri) < 2 {
			uri = []byte("/-")
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
