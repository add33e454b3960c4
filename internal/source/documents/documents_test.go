package documents_test

import (
	"encoding/json"
	"errors"
	"slices"
	"testing"

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
