// Package documents is the planner of sources in which every record is a document of its
// own, written as the model's JSON: the bridge protocol, and estate files. Such a source can
// say whatever the model can.
package documents

import (
	"encoding/json"
	"fmt"
	"strings"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// Planner plans one step a record.
type Planner struct{}

var _ source.Planner = Planner{}

// Says finds no fault with any grant.
func (Planner) Says(*model.Grant) []string { return nil }

// Plan asks to see each document that is to be replaced or to go, so that the steps say
// exactly what is replaced and undoing them puts back exactly that. One that is to go and is
// not there is [source.ErrGone].
func (Planner) Plan(now map[source.Ref]source.Document, want source.Diff) (source.Plan, error) {
	var p source.Plan
	doc := func(kind, id string) json.RawMessage {
		r := source.Ref{Kind: kind, ID: id}
		d, read := now[r]
		if !read {
			p.Missing = append(p.Missing, r)
		}
		return d.Body
	}
	for _, r := range want.Put {
		s := source.Step{Kind: r.Kind, ID: r.ID, Before: doc(r.Kind, r.ID)}
		var err error
		if s.After, err = json.Marshal(r.Value); err != nil {
			return p, fmt.Errorf("%s %q: %w", r.Kind, r.ID, err)
		}
		s.Sentence = Sentence(s)
		p.Steps = append(p.Steps, s)
	}
	for _, r := range want.Drop {
		s := source.Step{Kind: r.Kind, ID: r.ID, Before: doc(r.Kind, r.ID)}
		if _, read := now[r]; read && s.Before == nil {
			return p, fmt.Errorf("%s %q: %w; survey again and draft anew", r.Kind, r.ID, source.ErrGone)
		}
		s.Sentence = Sentence(s)
		p.Steps = append(p.Steps, s)
	}
	return p, nil
}

// Sentence says a step for whoever would do it by hand.
func Sentence(s source.Step) string {
	var g model.Grant
	var r model.Role
	body, gone := s.After, s.After == nil
	if gone {
		body = s.Before
	}
	switch {
	case s.Kind == source.Grants && json.Unmarshal(body, &g) == nil && gone:
		return "take grant " + g.ID + " away: " + grant(&g)
	case s.Kind == source.Grants && json.Unmarshal(body, &g) == nil:
		return "grant " + g.ID + ": " + grant(&g)
	case s.Kind == source.Roles && gone:
		return "remove role " + s.ID
	case s.Kind == source.Roles && json.Unmarshal(body, &r) == nil:
		return fmt.Sprintf("make role %s: %s", r.Name, permissions(r.Rights))
	case s.Kind == source.Memberships:
		who, group, _ := strings.Cut(s.ID, ">")
		if gone {
			return fmt.Sprintf("take %s out of %s", who, group)
		}
		return fmt.Sprintf("put %s into %s", who, group)
	case gone:
		return fmt.Sprintf("remove %s %s", s.Kind, s.ID)
	}
	return fmt.Sprintf("write %s %s", s.Kind, s.ID)
}

func grant(g *model.Grant) string {
	what := "role " + g.Role
	if g.Role == "" {
		what = permissions(g.Rights)
	}
	var where []string
	for _, p := range g.Where {
		where = append(where, p.String())
	}
	text := fmt.Sprintf("%s to %s on %s", what, g.To, strings.Join(where, ", "))
	if c := g.Condition(); !c.IsZero() {
		text += ", " + c.String()
	}
	return text
}

func permissions(r model.Rights) string {
	var do, except []string
	for _, p := range r.Do {
		do = append(do, p.String())
	}
	for _, p := range r.Except {
		except = append(except, p.String())
	}
	text := strings.Join(do, ", ")
	if len(except) > 0 {
		text += " but " + strings.Join(except, ", ")
	}
	return text
}
