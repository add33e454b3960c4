// Package cadf reads CADF events as calls, bare or in the envelope in which a
// message bus delivers them.
//
// The permission is made of what the event says: the service from the observer or
// the target's type, the noun from the end of the target's typeURI, the verb from
// the action, such as identity/project:created. The path is noun and id of the
// target below the source. The caller is the initiator's user_id or id.
//
// What a real Keystone taught: a role assignment's target is an id made up for the event,
// and its place the project or domain beside it; so is the target of a sign-in, whose
// place is the account itself; a sign-in by a name that the service does not know has an
// initiator made up for the event, and shows nobody; who deleted a user is not told at all.
//
// Source: DMTF DSP0262, Cloud Auditing Data Federation 1.0; OpenStack Keystone's
// notifications, notification format "cadf".
package cadf

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
	fType = iota
	fID
	fTime
	fAction
	fOutcome
	fReason
	fWho
	fWhoUser
	fWhoType
	fAddress
	fTarget
	fTargetType
	fObserver
	fWhoRef
	fProject
	fDomain
	fields
)

var paths = []string{"typeURI", "id", "eventTime", "action", "outcome", "reason.reasonCode", "initiator.id",
	"initiator.user_id", "initiator.typeURI", "initiator.host.address",
	"target.id", "target.typeURI", "observer.typeURI", "initiatorId", "project", "domain"}

const signIn = "authenticate"

// Format reads CADF lines of one source.
type Format struct {
	source   []byte
	bare     *jsonscan.Scanner
	envelope *jsonscan.Scanner // the same below payload, and oslo.message
	op, path []byte
}

var _ auditlog.Format = (*Format)(nil)

// New returns a reader for what the estate calls source.
func New(source string) *Format {
	inside := make([]string, 0, fields+1)
	for _, p := range paths {
		inside = append(inside, "payload."+p)
	}
	return &Format{source: model.AppendEscaped([]byte("/"), []byte(source)), bare: jsonscan.New(paths...),
		envelope: jsonscan.New(append(inside, `oslo\.message`)...)}
}

// Name returns "cadf".
func (*Format) Name() string { return "cadf" }

// Sniff looks for CADF's type URI, or the envelope of a message bus.
func (*Format) Sniff(record []byte) bool {
	return bytes.Contains(record, []byte("/cloud/audit/1.0/event")) || bytes.Contains(record, []byte(`"oslo.message"`))
}

// Parse reads one event.
func (f *Format) Parse(line []byte, yield func(*auditlog.Event) error) error {
	if !f.Sniff(line) {
		return errors.New("not a CADF event")
	}
	var v []jsonscan.Value
	var err error
	if bytes.Contains(line, []byte(`"oslo.message"`)) {
		if v, err = f.envelope.Scan(line); err != nil {
			return err
		}
		if line = v[fields].Text(); len(line) == 0 {
			return errors.New("oslo.message holds no text")
		}
	}
	// An attachment may be called payload as well: the envelope is what has no type of its own.
	if v, err = f.bare.Scan(line); err != nil {
		return err
	}
	if v[fType].Kind == jsonscan.Absent {
		if v, err = f.envelope.Scan(line); err != nil {
			return err
		}
	}
	return f.event(v, yield)
}

func (f *Format) event(v []jsonscan.Value, yield func(*auditlog.Event) error) error {
	if v[fType].Kind == jsonscan.Absent { // the message bus brings others, too
		return &auditlog.Skip{Why: "a notification that is no CADF event"}
	}
	if !bytes.HasSuffix(v[fType].Text(), []byte("/cloud/audit/1.0/event")) {
		return errors.New("typeURI is not that of a CADF event")
	}
	e := auditlog.Event{ID: v[fID].Text(), Network: v[fAddress].Text()}
	var err error
	if e.Time, err = auditlog.ParseTime(v[fTime].Text()); err != nil {
		return fmt.Errorf("eventTime: %w", err)
	}
	reason := string(v[fReason].Text())
	if n, ok := v[fReason].Int(); ok {
		reason = fmt.Sprint(n)
	}
	switch out := v[fOutcome].Text(); {
	case string(out) == "pending":
		return &auditlog.Skip{Why: "outcome pending: another event tells the end"}
	case string(out) == "success":
		e.Outcome = usage.Done
	case string(v[fAction].Text()) == signIn && reason == "404" && len(v[fWhoUser].Text()) == 0:
		return &auditlog.Skip{Why: "a failed sign-in by somebody the service does not know"}
	case reason == "401" || reason == "403", string(v[fAction].Text()) == signIn:
		e.Outcome = usage.Refused // a failed sign-in often comes without a reason
	default:
		e.Outcome = usage.Failed
	}
	who := v[fWhoUser].Text()
	for _, i := range [...]int{fWho, fWhoRef} { // initiatorId refers to one that is told elsewhere
		if len(who) == 0 {
			who = v[i].Text()
		}
	}
	if len(who) == 0 && v[fWhoType].Kind == jsonscan.Absent && v[fAddress].Kind == jsonscan.Absent {
		return &auditlog.Skip{Why: "an event of the service itself, or of somebody it does not tell: no initiator"}
	}
	if len(who) == 0 {
		return errors.New("initiator has no id")
	}
	e.Who.Text = who
	action, target := v[fAction].Text(), v[fTargetType].Text()
	if len(action) == 0 {
		return errors.New("action is missing")
	}
	noun := target[bytes.LastIndexByte(target, '/')+1:]
	// Keystone's actions name the noun too: created.project, created.OS-TRUST:trust.
	verb, more, _ := bytes.Cut(action, []byte("."))
	if len(more) > 0 {
		noun = more[bytes.LastIndexByte(more, ':')+1:]
	}
	if len(noun) == 0 {
		noun = []byte("unknown")
	}
	f.op = append(f.op[:0], service(v[fObserver].Text(), target)...)
	f.op = model.AppendEscaped(append(f.op, '/'), noun)
	f.op = model.AppendEscaped(append(f.op, ':'), verb)
	f.path = append(f.path[:0], f.source...)
	kind, id := noun, v[fTarget].Text()
	switch {
	case string(action) == signIn && bytes.HasSuffix(target, []byte("/account/user")):
		id = who
	case string(noun) != "role_assignment":
	case len(v[fProject].Text()) > 0:
		kind, id = []byte("project"), v[fProject].Text()
	case len(v[fDomain].Text()) > 0:
		kind, id = []byte("domain"), v[fDomain].Text()
	}
	if len(id) > 0 {
		f.path = model.AppendEscaped(append(f.path, '/'), kind)
		f.path = model.AppendEscaped(append(f.path, ':'), id)
	}
	e.Operation, e.Path = f.op, f.path
	return yield(&e)
}

// taxonomy is what CADF's type URIs call a service and what it is called here. The
// first that fits counts, so that one event always means one permission.
var taxonomy = []struct{ word, name string }{
	{"security", "identity"}, {"compute", "compute"}, {"storage", "storage"}, {"network", "network"},
	{"database", "database"},
}

// service names whose right was used, by the taxonomy of CADF's type URIs: what was acted
// on tells it, and only where that does not whoever observed it.
func service(observer, target []byte) string {
	for _, t := range [][]byte{target, observer} {
		for _, x := range taxonomy {
			if bytes.Contains(t, []byte(x.word)) {
				return x.name
			}
		}
	}
	return "cadf"
}
