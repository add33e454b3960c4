// Package ocsf reads OCSF events, version 1.x, as calls.
//
// API Activity (class 6003) is a call by its own word: time, metadata.uid,
// actor.user.uid and type_id (or actor.app_uid, app_name or invoked_by of a program that
// calls without a user), actor.session.is_mfa, api.operation and
// api.service.name, resources[0].uid, src_endpoint.ip, status_id and
// api.response.code, actor.user.groups, and unmapped.acting_for, where a source that lets identities
// act as others says whose rights were used.
//
// The classes that change access (account change 3001, authentication 3002, authorize
// session 3003, entity management 3004, user access 3005, group management 3006) have no operation of
// their own: it is made of class and activity, such as ocsf/account-change:1, and
// names whom it concerns as the path. They show that somebody was active; which
// permission that took, an operations file may say.
//
// Source: Open Cybersecurity Schema Framework, schema.ocsf.io, categories
// application activity and identity and access management.
package ocsf

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/jsonscan"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// otherClass: a well-formed event of a class that shows no call.
var otherClass = &auditlog.Skip{Why: "an OCSF event of a class that shows no call"}

const classAPIActivity = 6003

// accessClasses are the classes that change access, by class_uid.
var accessClasses = map[int64]string{3001: "account-change", 3002: "authentication", 3003: "authorize-session",
	3004: "entity-management", 3005: "user-access", 3006: "group-management"}

// The paths that are looked for, and their places in the scan.
const (
	fClass = iota
	fActivity
	fTime
	fTimeText
	fStatus
	fUID
	fUser
	fUserName
	fUserType
	fMFA
	fOperation
	fService
	fCode
	fResource
	fIP
	fActingFor
	fTargetUser
	fTargetEntity
	fTargetGroup
	fTopMFA
	fTargetType
	fApp
	fAppName
	fInvokedBy
	fGroups // uid and name of each, and those that follow
)

// scanned is how many groups of a caller are read in passing; where there are more, all are read in
// the slow way.
const scanned = 8

var paths = append([]string{"class_uid", "activity_id", "time", "time_dt", "status_id", "metadata.uid",
	"actor.user.uid", "actor.user.name", "actor.user.type_id", "actor.session.is_mfa",
	"api.operation", "api.service.name", "api.response.code", "resources.0.uid", "src_endpoint.ip",
	"unmapped.acting_for", "user.uid", "entity.uid", "group.uid", "is_mfa",
	"user.type_id", "actor.app_uid", "actor.app_name", "actor.invoked_by"}, groupPaths()...)

func groupPaths() []string {
	var out []string
	for i := range scanned {
		at := "actor.user.groups." + strconv.Itoa(i)
		out = append(out, at+".uid", at+".name")
	}
	return out
}

// Format reads OCSF JSON lines.
type Format struct {
	scan *jsonscan.Scanner
	ev   auditlog.Event
	op   []byte
	path []byte
}

var _ auditlog.Format = (*Format)(nil)

// New returns a reader of OCSF lines.
func New() *Format { return &Format{scan: jsonscan.New(paths...)} }

// Name returns "ocsf".
func (*Format) Name() string { return "ocsf" }

// Sniff looks for the class that every OCSF event has.
func (*Format) Sniff(record []byte) bool { return bytes.Contains(record, []byte(`"class_uid"`)) }

// Parse reads one event. The error says which field is missing or wrong.
func (f *Format) Parse(line []byte, yield func(*auditlog.Event) error) error {
	v, err := f.scan.Scan(line)
	if err != nil {
		return err
	}
	if err := f.Fill(v); err != nil {
		return err
	}
	if len(f.ev.Groups) == scanned {
		f.moreGroups(line)
	}
	return yield(&f.ev)
}

// moreGroups reads the groups behind those that the scan looks for.
func (f *Format) moreGroups(line []byte) {
	var all struct {
		Actor struct {
			User struct {
				Groups []struct {
					UID  string `json:"uid"`
					Name string `json:"name"`
				} `json:"groups"`
			} `json:"user"`
		} `json:"actor"`
	}
	if json.Unmarshal(line, &all) != nil { // the scan has read it
		return
	}
	for _, g := range all.Actor.User.Groups[min(scanned, len(all.Actor.User.Groups)):] {
		if name := cmp.Or(g.UID, g.Name); name != "" {
			f.ev.Groups = append(f.ev.Groups, []byte(name))
		}
	}
}

// Paths returns the fields that [Format.Fill] wants, for readers of columns.
func Paths() []string { return paths }

// Event returns the event that [Format.Fill] made.
func (f *Format) Event() *auditlog.Event { return &f.ev }

// Fill makes the event of the values at [Paths].
func (f *Format) Fill(v []jsonscan.Value) error {
	class, ok := v[fClass].Int()
	if !ok {
		return errors.New("class_uid is missing, or no number")
	}
	if class != classAPIActivity && accessClasses[class] == "" {
		return otherClass
	}
	at, err := when(v)
	if err != nil {
		return err
	}
	e := &f.ev
	*e = auditlog.Event{Time: at, ID: v[fUID].Text(), Network: v[fIP].Text(), Groups: e.Groups[:0]}
	for i := range scanned {
		uid, name := v[fGroups+2*i].Text(), v[fGroups+2*i+1].Text()
		if len(uid) == 0 {
			uid = name
		}
		if len(uid) == 0 {
			break
		}
		e.Groups = append(e.Groups, uid)
	}
	for _, i := range [...]int{fUser, fOperation, fResource, fActingFor} {
		if k := v[i].Kind; k != jsonscan.Absent && k != jsonscan.String && k != jsonscan.Null {
			return fmt.Errorf("%s: want text", paths[i])
		}
	}
	code, _ := v[fCode].Int()
	status, _ := v[fStatus].Int()
	e.Outcome = outcome(status, code)
	e.Who = who(v[fUser].Text(), v[fUserName].Text(), v[fUserType])
	if len(e.Who.Text) == 0 {
		e.Groups = e.Groups[:0] // whose they are it does not say
	}
	for _, i := range [...]int{fApp, fAppName, fInvokedBy} { // a program that calls without a user
		if app := v[i].Text(); len(e.Who.Text) == 0 && len(app) > 0 {
			e.Who = auditlog.Name{Kind: model.Workload, Text: app}
		}
	}
	if as := v[fActingFor].Text(); len(as) > 0 {
		e.ActingFor = auditlog.Name{Text: as, Own: true}
	}
	switch mfa := v[fMFA]; mfa.Kind {
	case jsonscan.True:
		e.Factor = model.True
	case jsonscan.False:
		e.Factor = model.False
	}
	if class != classAPIActivity {
		return f.access(v, class)
	}
	if e.Operation = v[fOperation].Text(); len(e.Operation) == 0 {
		return errors.New("api.operation is missing")
	}
	// An operation that is no permission by itself belongs to a service.
	if s := v[fService].Text(); len(s) > 0 && bytes.IndexByte(e.Operation, '/') < 0 {
		f.op = append(append(append(f.op[:0], s...), '/'), e.Operation...)
		e.Operation = f.op
	}
	if e.Path = v[fResource].Text(); len(e.Path) == 0 {
		return errors.New("resources is empty: the call touched nothing")
	}
	return nil
}

// access makes the event of a class that changes access.
func (f *Format) access(v []jsonscan.Value, class int64) error {
	name := accessClasses[class]
	activity, _ := v[fActivity].Int()
	f.op = strconv.AppendInt(append(append(append(f.op[:0], "ocsf/"...), name...), ':'), activity, 10)
	f.ev.Operation = f.op
	target := v[fTargetUser].Text()
	for _, i := range []int{fTargetEntity, fTargetGroup} {
		if t := v[i].Text(); len(t) > 0 {
			target = t
		}
	}
	if f.ev.Path = v[fResource].Text(); len(f.ev.Path) == 0 || f.ev.Path[0] != '/' {
		f.path = model.AppendEscaped(append(f.path[:0], "/ocsf/"...), target)
		if len(target) == 0 {
			f.path = append(f.path, '-')
		}
		f.ev.Path = f.path
	}
	if class == 3002 { // who signs in is whom it concerns
		if len(v[fUser].Text()) == 0 {
			f.ev.Who = who(target, nil, v[fTargetType])
			f.ev.Groups = f.ev.Groups[:0] // they are the actor's, who is somebody else
		}
		if f.ev.Outcome == usage.Failed { // whoever cannot prove who it is, is refused
			f.ev.Outcome = usage.Refused
		}
		switch v[fTopMFA].Kind {
		case jsonscan.True:
			f.ev.Factor = model.True
		case jsonscan.False:
			f.ev.Factor = model.False
		}
	}
	return nil
}

// when reads time (milliseconds) or else time_dt (RFC 3339).
func when(v []jsonscan.Value) (int64, error) {
	if n, ok := v[fTime].Int(); ok {
		if n < auditlog.Earliest || n > auditlog.Latest {
			return 0, fmt.Errorf("time %d is not between 1990 and 2200 in milliseconds", n)
		}
		return n, nil
	}
	if text := v[fTimeText].Text(); len(text) > 0 && v[fTime].Kind == jsonscan.Absent {
		t, err := time.Parse(time.RFC3339Nano, string(text))
		if ms := t.UnixMilli(); err == nil && ms >= auditlog.Earliest && ms <= auditlog.Latest {
			return ms, nil
		}
	}
	return 0, errors.New("time is missing, or no whole number of milliseconds")
}

func outcome(status, code int64) usage.Outcome {
	switch {
	case code == 401 || code == 403:
		return usage.Refused
	case status == 2 || code >= 400:
		return usage.Failed
	}
	return usage.Done
}

// who takes the uid, or else the name, and the kind from OCSF's user.type_id: 1 user and 2
// admin are people, 3 system is a workload.
func who(uid, name []byte, typeID jsonscan.Value) auditlog.Name {
	if len(uid) == 0 {
		uid = name
	}
	n := auditlog.Name{Text: uid, Own: true}
	switch t, _ := typeID.Int(); t {
	case 1, 2:
		n.Kind = model.Person
	case 3:
		n.Kind = model.Workload
	}
	return n
}
