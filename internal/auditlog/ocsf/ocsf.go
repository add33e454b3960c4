// Package ocsf reads OCSF API Activity events (class 6003, version 1.x) as calls.
//
// The parts that are read: time, metadata.uid, actor.user.uid and type_id,
// actor.session.is_mfa, api.operation, resources[0].uid, src_endpoint.ip,
// status_id and api.response.code, and unmapped.acting_for, where a source that
// lets identities act as others says whose rights were used.
//
// Source: Open Cybersecurity Schema Framework, schema.ocsf.io, class
// api_activity.
package ocsf

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// ErrOtherClass is returned for a well-formed event that is not API activity.
var ErrOtherClass = errors.New("not an API Activity event")

// classAPIActivity is OCSF's class_uid of API Activity.
const classAPIActivity = 6003

type event struct {
	ClassUID int   `json:"class_uid"`
	Time     int64 `json:"time"`
	StatusID int   `json:"status_id"`
	Metadata struct {
		UID string `json:"uid"`
	} `json:"metadata"`
	Actor struct {
		User struct {
			UID    string `json:"uid"`
			Name   string `json:"name"`
			TypeID int    `json:"type_id"`
		} `json:"user"`
		Session struct {
			MFA *bool `json:"is_mfa"`
		} `json:"session"`
	} `json:"actor"`
	API struct {
		Operation string `json:"operation"`
		Response  struct {
			Code int `json:"code"`
		} `json:"response"`
	} `json:"api"`
	Resources []struct {
		UID string `json:"uid"`
	} `json:"resources"`
	Source struct {
		IP string `json:"ip"`
	} `json:"src_endpoint"`
	Unmapped struct {
		ActingFor string `json:"acting_for"`
	} `json:"unmapped"`
}

// OCSF times are milliseconds since 1970; outside these years they are no times
// of calls but mistakes.
var (
	earliest = time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	latest   = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
)

// Parse reads one event. The error says which field is missing or wrong.
func Parse(line []byte) (usage.Call, error) {
	var e event
	if err := json.Unmarshal(line, &e); err != nil {
		return usage.Call{}, fmt.Errorf("not JSON: %w", err)
	}
	if e.ClassUID != classAPIActivity {
		return usage.Call{}, fmt.Errorf("class_uid %d: %w (want %d)", e.ClassUID, ErrOtherClass, classAPIActivity)
	}
	if e.Time < earliest || e.Time > latest {
		return usage.Call{}, fmt.Errorf("time %d is missing or not between 1990 and 2200 in milliseconds", e.Time)
	}
	c := usage.Call{Time: time.UnixMilli(e.Time).UTC(), Outcome: outcome(e.StatusID, e.API.Response.Code)}
	var err error
	if c.Identity, err = identity(e.Actor.User.UID, e.Actor.User.Name, e.Actor.User.TypeID); err != nil {
		return usage.Call{}, fmt.Errorf("actor.user: %w", err)
	}
	if e.Unmapped.ActingFor != "" {
		if c.ActingFor, err = model.ParseID(e.Unmapped.ActingFor); err != nil {
			return usage.Call{}, fmt.Errorf("unmapped.acting_for: %w", err)
		}
	}
	if c.Permission, err = model.ParsePermission(e.API.Operation); err != nil {
		return usage.Call{}, fmt.Errorf("api.operation: %w", err)
	}
	if len(e.Resources) == 0 {
		return usage.Call{}, errors.New("resources is empty: the call touched nothing")
	}
	if c.Path, err = model.ParsePath(e.Resources[0].UID); err != nil {
		return usage.Call{}, fmt.Errorf("resources[0].uid: %w", err)
	}
	if e.Source.IP != "" {
		if c.Network, err = netip.ParseAddr(e.Source.IP); err != nil {
			return usage.Call{}, fmt.Errorf("src_endpoint.ip: %w", err)
		}
	}
	if e.Actor.Session.MFA != nil {
		c.SecondFactor = model.TruthOf(*e.Actor.Session.MFA)
	}
	// An event without an id of its own is recognised by its whole text.
	id := []byte(e.Metadata.UID)
	if len(id) == 0 {
		id = line
	}
	sum := sha256.Sum256(id)
	copy(c.EventID[:], sum[:])
	return c, nil
}

func outcome(status, code int) usage.Outcome {
	switch {
	case code == 401 || code == 403:
		return usage.Refused
	case status == 2 || code >= 400:
		return usage.Failed
	}
	return usage.Done
}

// identity takes a uid in the model's own form, and otherwise makes one from
// OCSF's user.type_id: 1 user and 2 admin are people, 3 system is a workload.
func identity(uid, name string, typeID int) (model.ID, error) {
	if uid == "" {
		uid = name
	}
	if uid == "" || uid == "anonymous" {
		return model.ID{Kind: model.Everyone}, nil
	}
	if id, err := model.ParseID(uid); err == nil {
		return id, nil
	}
	id := model.ID{Kind: model.Unknown, Name: uid}
	switch typeID {
	case 1, 2:
		id.Kind = model.Person
	case 3:
		id.Kind = model.Workload
	}
	return model.ParseID(id.String()) // holds the name to the rules for names
}
