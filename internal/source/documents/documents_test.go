package documents_test

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

var (
	role  = model.Role{Name: "r", Rights: model.Permissions(model.MustPermission("s/n:read"))}
	grant = model.Grant{ID: "g", To: model.MustID("person/a"), Role: "r",
		Where: []model.PathPattern{model.MustPathPattern("/s/**")}, When: model.Condition{SecondFactor: true}}
)

// TestPlan asks to see what it replaces, and then says exactly that.
func TestPlan(t *testing.T) {
	want := source.Diff{
		Put: []source.Record{{Kind: source.Roles, ID: "r", Value: role},
			{Kind: source.Grants, ID: "g", Value: grant}},
		Drop: []source.Ref{{Kind: source.Grants, ID: "old"}, {Kind: source.Memberships, ID: "person/a>group/b"}},
	}
	p, err := documents.Planner{}.Plan(nil, want)
	if err != nil || len(p.Missing) != 4 || len(p.Cannot) != 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	now := map[source.Ref]source.Document{}
	for _, r := range p.Missing {
		now[r] = source.Document{}
	}
	if _, err := (documents.Planner{}).Plan(now, want); !errors.Is(err, source.ErrGone) {
		t.Errorf("what goes is not there: %v", err)
	}
	now[want.Drop[0]] = source.Document{Body: json.RawMessage(
		`{"id":"old","to":"group/b","do":["s/*:*"],"where":["/s"]}`)}
	now[want.Drop[1]] = source.Document{Body: json.RawMessage(`{}`)}
	if p, err = (documents.Planner{}).Plan(now, want); err != nil || len(p.Missing) != 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	var says []string
	for _, s := range p.Steps {
		says = append(says, s.Sentence)
		if (s.After == nil) != (len(says) > 2) || !source.Same(s.Before,
			now[source.Ref{Kind: s.Kind, ID: s.ID}].Body) {
			t.Errorf("step %+v", s)
		}
	}
	if want := []string{
		"make role r: s/n:read",
		"grant g: role r to person/a on /s/**, with a second factor",
		"take grant old away: s/*:* to group/b on /s",
		"take person/a out of group/b",
	}; !slices.Equal(says, want) {
		t.Errorf("says %q", says)
	}
	says = nil
	for _, s := range slices.Backward(p.Steps) {
		says = append(says, documents.Sentence(s.Undo()))
	}
	if want := []string{
		"put person/a into group/b",
		"grant old: s/*:* to group/b on /s",
		"take grant g away: role r to person/a on /s/**, with a second factor",
		"remove role r",
	}; !slices.Equal(says, want) {
		t.Errorf("taken back it says %q", says)
	}
}

// TestLogs: logs of one node are one step on its settings, of which nothing else changes, and what
// they were set to is read off them again.
func TestLogs(t *testing.T) {
	set := func(service string, written bool, since time.Time) source.Record {
		r := model.CoverageRecord{Node: model.MustPath("/s/box:a%20b"), Service: service, LogClass: "read/all",
			Written: written, Since: since}
		return source.Record{Kind: source.Coverage, ID: source.LogID(&r), Value: r}
	}
	day := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	want := source.Diff{Put: []source.Record{set("stow", true, day), set("crew", false, time.Time{})}}
	p, err := documents.Planner{}.Plan(nil, want)
	ref := source.Ref{Kind: source.LogSettings, ID: "/s/box:a%20b"}
	if err != nil || !slices.Equal(p.Missing, []source.Ref{ref}) {
		t.Fatalf("%+v, %v", p, err)
	}
	body := `{"node":"/s/box:a%20b","keep":7.50,"logs":[{"service":"stow","log_class":"read/all","written":false},
		{"service":"crew","log_class":"read/all","written":true,"since":"2026-01-02T03:04:05Z","x":1},
		{"service":"stow","log_class":"change","written":false}]}`
	now := map[source.Ref]source.Document{ref: {Body: json.RawMessage(body)}}
	if p, err = (documents.Planner{}).Plan(now, want); err != nil || len(p.Steps) != 1 {
		t.Fatalf("%+v, %v", p, err)
	}
	s := p.Steps[0]
	if after := `{"node":"/s/box:a%20b","keep":7.50,"logs":[
		{"service":"stow","log_class":"read/all","written":true,"since":"2026-11-27T08:00:00Z"},
		{"service":"crew","log_class":"read/all","written":false,"x":1},
		{"service":"stow","log_class":"change","written":false}]}`; !source.Same(s.After, json.RawMessage(after)) ||
		!strings.Contains(string(s.After), "7.50") {
		t.Errorf("after it\n%s\nwant\n%s", s.After, after)
	}
	says := "switch log stow/read/all at /s/box:a%20b on, and switch log crew/read/all at /s/box:a%20b off"
	if s.Sentence != says {
		t.Errorf("says %q, want %q", s.Sentence, says)
	}
	for id, want := range map[string]string{
		"/s/box:a%20b crew/read/all": `{"node":"/s/box:a%20b","service":"crew","log_class":"read/all","written":true,` +
			`"since":"2026-01-02T03:04:05Z"}`,
		"/s/box:a%20b stow/change": `{"node":"/s/box:a%20b","service":"stow","log_class":"change","written":false}`,
		"/s/box:a%20b stow/none":   ``,
	} {
		got, missing, err := documents.Planner{}.Record(now, source.Ref{Kind: source.Coverage, ID: id})
		if err != nil || missing != nil || !source.Same(got, json.RawMessage(want)) {
			t.Errorf("%s: %s, %v, %v, want %s", id, got, missing, err, want)
		}
	}
	_, missing, err := documents.Planner{}.Record(nil, source.Ref{Kind: source.Coverage, ID: "/s/box:a%20b x/y"})
	if err != nil || !slices.Equal(missing, []source.Ref{ref}) {
		t.Errorf("it is read from %v", missing)
	}
	for name, body := range map[string]string{"gone": "", "no list": `{}`, "no document": `[`,
		"no such log": `{"logs":[{"service":"stow","log_class":"read/all"}]}`} {
		now[ref] = source.Document{Body: json.RawMessage(body)}
		if _, err := (documents.Planner{}).Plan(now, want); err == nil {
			t.Errorf("%s: planned all the same", name)
		}
	}
}
