// Package documents is the planner of sources in which every record is a document of its
// own, written as the model's JSON: the bridge protocol, and estate files. Such a source can
// say whatever the model can. Only what logs are set to is several records of one document, the
// settings of a node.
package documents

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

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
	p := plan{settings: map[model.Path]int{}}
	doc := func(kind, id string) json.RawMessage {
		r := source.Ref{Kind: kind, ID: id}
		d, read := now[r]
		if !read && !slices.Contains(p.Missing, r) {
			p.Missing = append(p.Missing, r)
		}
		return d.Body
	}
	for _, r := range want.Put {
		if l, ok := r.Value.(model.CoverageRecord); ok {
			if err := p.logs(&l, doc(source.LogSettings, l.Node.String())); err != nil {
				return p.Plan, fmt.Errorf("log settings of %s: %w", l.Node, err)
			}
			continue
		}
		s := source.Step{Kind: r.Kind, ID: r.ID, Before: doc(r.Kind, r.ID)}
		var err error
		if s.After, err = r.JSON(); err != nil {
			return p.Plan, err
		}
		s.Sentence = Sentence(s)
		p.Steps = append(p.Steps, s)
	}
	for _, r := range want.Drop {
		s := source.Step{Kind: r.Kind, ID: r.ID, Before: doc(r.Kind, r.ID)}
		if _, read := now[r]; read && s.Before == nil {
			return p.Plan, fmt.Errorf("%s %q: %w; survey again and draft anew", r.Kind, r.ID, source.ErrGone)
		}
		s.Sentence = Sentence(s)
		p.Steps = append(p.Steps, s)
	}
	return p.Plan, nil
}

// plan is what is planned so far.
type plan struct {
	source.Plan
	settings map[model.Path]int // the step of each settings document
}

// logs plans what switches one log on, or puts it back: several of one node are one step.
func (p *plan) logs(l *model.CoverageRecord, body json.RawMessage) error {
	if len(p.Missing) > 0 {
		return nil
	}
	if body == nil {
		return source.ErrGone
	}
	at, there := p.settings[l.Node]
	if !there {
		at = len(p.Steps)
		p.settings[l.Node] = at
		p.Steps = append(p.Steps,
			source.Step{Kind: source.LogSettings, ID: l.Node.String(), Before: body, After: body})
	}
	s := &p.Steps[at]
	var err error
	if s.After, err = setLog(s.After, l); err != nil {
		return err
	}
	how := "off"
	if l.Written {
		how = "on"
	}
	if s.Sentence != "" {
		s.Sentence += ", and "
	}
	s.Sentence += fmt.Sprintf("switch log %s/%s at %s %s", l.Service, l.LogClass, l.Node, how)
	return nil
}

// settings reads the list of logs of a settings document.
func settings(body json.RawMessage) (doc map[string]any, logs []map[string]any, err error) {
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	if err := dec.Decode(&doc); err != nil {
		return nil, nil, err
	}
	list, ok := doc["logs"].([]any)
	if !ok {
		return nil, nil, errors.New("the document has no list of logs")
	}
	for _, l := range list {
		if m, ok := l.(map[string]any); ok {
			logs = append(logs, m)
		}
	}
	return doc, logs, nil
}

// setLog sets whether one log of a settings document is written, and since when, and leaves
// everything else of it as it is.
func setLog(body json.RawMessage, r *model.CoverageRecord) (json.RawMessage, error) {
	doc, logs, err := settings(body)
	if err != nil {
		return nil, err
	}
	found := false
	for _, m := range logs {
		if m["service"] != r.Service || m["log_class"] != r.LogClass {
			continue
		}
		found = true
		m["written"] = r.Written
		if delete(m, "since"); !r.Since.IsZero() {
			m["since"] = r.Since.Format(time.RFC3339Nano)
		}
	}
	if !found {
		return nil, fmt.Errorf("it lists no log %s/%s any more; survey again", r.Service, r.LogClass)
	}
	return json.Marshal(doc)
}

// logOf reads one log off its settings document, by the name of its record.
func logOf(now map[source.Ref]source.Document, id string) (json.RawMessage, []source.Ref, error) {
	node, log := id[:max(0, strings.LastIndexByte(id, ' '))], id[strings.LastIndexByte(id, ' ')+1:]
	service, class, _ := strings.Cut(log, "/")
	ref := source.Ref{Kind: source.LogSettings, ID: node}
	d, read := now[ref]
	if !read {
		return nil, []source.Ref{ref}, nil
	}
	if d.Body == nil {
		return nil, nil, nil
	}
	at, err := model.ParsePath(node)
	if err != nil {
		return nil, nil, err
	}
	_, logs, err := settings(d.Body)
	for _, m := range logs {
		if m["service"] != service || m["log_class"] != class {
			continue
		}
		r := model.CoverageRecord{Node: at, Service: service, LogClass: class, Written: m["written"] == true}
		if since, ok := m["since"].(string); ok {
			if r.Since, err = time.Parse(time.RFC3339, since); err != nil {
				return nil, nil, fmt.Errorf("log settings of %s: %w", node, err)
			}
		}
		body, err := json.Marshal(r)
		return body, nil, err
	}
	return nil, nil, err
}

// Record returns a record's document. What a log is set to is said by the settings of its node,
// among others.
func (Planner) Record(now map[source.Ref]source.Document, r source.Ref) (json.RawMessage, []source.Ref, error) {
	if r.Kind == source.Coverage {
		return logOf(now, r.ID)
	}
	d, read := now[r]
	if !read {
		return nil, []source.Ref{r}, nil
	}
	return d.Body, nil, nil
}

// Stands reports whether a document says what a step writes, and nothing else.
func (Planner) Stands(s source.Step, now json.RawMessage) bool { return source.Same(s.After, now) }

// Sentence says a step for whoever would do it by hand.
func Sentence(s source.Step) string {
	var g model.Grant
	var r model.Role
	var d model.Denial
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
	case s.Kind == source.Denials && json.Unmarshal(body, &d) == nil && gone:
		return "lift denial " + d.ID + ": " + denial(&d)
	case s.Kind == source.Denials && json.Unmarshal(body, &d) == nil:
		return "denial " + d.ID + ": " + denial(&d)
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
	text := fmt.Sprintf("%s to %s on %s", what, g.To, joined(g.Where))
	if c := g.Condition(); !c.IsZero() {
		text += ", " + c.String()
	}
	return text
}

func denial(d *model.Denial) string {
	text := fmt.Sprintf("%s refused to %s on %s", permissions(d.Rights), joined(d.To), joined(d.Where))
	if len(d.Unless) > 0 {
		text += ", but not to " + joined(d.Unless)
	}
	if !d.When.IsZero() {
		text += ", " + d.When.String()
	}
	return text
}

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, v := range list {
		out = append(out, v.String())
	}
	return strings.Join(out, ", ")
}

func permissions(r model.Rights) string {
	text := joined(r.Do)
	if len(r.Except) > 0 {
		text += " but " + joined(r.Except)
	}
	return text
}
