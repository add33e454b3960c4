package bridge

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"net/url"
	"strconv"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// A Reader surveys a bridge and reads its log.
type Reader struct{ *Client }

var _ source.Reader = Reader{}

var readingNeeds = []need{
	{"list nodes", "nodes:list"},
	{"list identities", "identities:list"},
	{"list memberships", "memberships:list"},
	{"list act-as edges", "act-as:list"},
	{"list roles", "roles:list"},
	{"list grants", "grants:list"},
	{"list denials", "denials:list"},
	{"list ceilings", "ceilings:list"},
	{"list guardrails", "guardrails:list"},
	{"list log settings", "log-settings:list"},
	{"read the audit log", "log:read"},
}

// Check tries the rights for reading.
func (r Reader) Check(ctx context.Context) ([]source.Right, error) {
	return r.check(ctx, "reading", readingNeeds)
}

// collections in the order of a survey, and how each is read.
var collections = []struct {
	name string
	read func(json.RawMessage) ([]any, error)
}{
	{source.Permissions, read[model.CatalogueEntry]},
	{source.Nodes, read[model.Node]},
	{source.Identities, read[model.Identity]},
	{source.Memberships, read[model.Membership]},
	{source.ActAs, read[model.ActAs]},
	{source.Roles, read[model.Role]},
	{source.Grants, read[model.Grant]},
	{source.Denials, read[model.Denial]},
	{source.Ceilings, read[model.Ceiling]},
	{source.Guardrails, read[model.Guardrail]},
	{"log-settings", readLogSetting},
}

func read[T any](raw json.RawMessage) ([]any, error) {
	var v T
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields() // what is not understood must not be passed over
	if err := dec.Decode(&v); err != nil {
		return nil, err
	}
	return []any{v}, nil
}

// readLogSetting reads a setting as one coverage record a log; what a log's writer needs
// at its node is the bridge's to say, see [Reader.page].
func readLogSetting(raw json.RawMessage) ([]any, error) {
	var s struct {
		Node   model.Path `json:"node"`
		Writer string     `json:"writer"`
		Keep   int        `json:"keep_days"`
		Logs   []struct {
			Service  string    `json:"service"`
			LogClass string    `json:"log_class"`
			Written  bool      `json:"written"`
			Since    time.Time `json:"since"`
		} `json:"logs"`
	}
	if err := json.Unmarshal(raw, &s); err != nil {
		return nil, err
	}
	var writer model.ID
	if s.Writer != "" {
		var err error
		if writer, err = model.ParseID(s.Writer); err != nil {
			return nil, fmt.Errorf("writer: %w", err)
		}
	}
	out := make([]any, len(s.Logs))
	for i, l := range s.Logs {
		r := model.CoverageRecord{Node: s.Node, Service: l.Service, LogClass: l.LogClass, Written: l.Written,
			Since: l.Since, Keep: s.Keep}
		r.Writer = writer
		out[i] = r
	}
	return out, nil
}

// cursor says how far a survey came.
type cursor struct {
	Collection int    `json:"collection"`
	Page       string `json:"page,omitempty"`
}

// Survey yields the collections page by page. The version of a batch is the
// bridge's revision.
func (r Reader) Survey(ctx context.Context, from string) iter.Seq2[source.Batch, error] {
	return func(yield func(source.Batch, error) bool) {
		var at cursor
		if from != "" {
			if err := json.Unmarshal([]byte(from), &at); err != nil {
				yield(source.Batch{}, fmt.Errorf("source %s: survey cursor %q: %w", r.o.Name, from, err))
				return
			}
		}
		about, err := r.About(ctx)
		if err != nil {
			yield(source.Batch{}, err)
			return
		}
		var writing model.Permission
		if p := about.Rights["log:write"]; p != "" {
			if writing, err = model.ParsePermission(p); err != nil {
				yield(source.Batch{}, fmt.Errorf("source %s: about: rights: log:write: %w", r.o.Name, err))
				return
			}
		}
		if from == "" {
			b := source.Batch{Version: strconv.FormatInt(about.Revision, 10), Cursor: encode(at),
				Records: []source.Record{{Kind: source.Semantics, ID: "-",
					Value: model.Semantics{LastSeen: about.LastSeen, Complete: about.Complete}}}}
			if !yield(b, nil) {
				return
			}
		}
		seen := map[string]bool{}
		for at.Collection < len(collections) {
			b, next, err := r.page(ctx, at, writing)
			if err == nil && next != "" {
				if seen[next] || len(seen) == mostPages {
					err = fmt.Errorf("source %s: %s: the bridge goes round in circles: it names page %.60q again, "+
						"or more than %d", r.o.Name, collections[at.Collection].name, next, mostPages)
				}
				seen[next] = true
			} else {
				clear(seen)
			}
			if err != nil {
				yield(source.Batch{}, err)
				return
			}
			if at.Page = next; next == "" {
				at.Collection++
			}
			b.Cursor = encode(at)
			if !yield(b, nil) {
				return
			}
		}
	}
}

func encode(c cursor) string { b, _ := json.Marshal(c); return string(b) } // two plain fields: cannot fail

const (
	pageSize  = 500
	mostPages = 200_000 // of one collection, or of a log in one reading
)

func (r Reader) page(ctx context.Context, at cursor, writing model.Permission) (source.Batch, string, error) {
	col := collections[at.Collection]
	q := url.Values{"limit": {strconv.Itoa(pageSize)}}
	if at.Page != "" {
		q.Set("page", at.Page)
	}
	var list struct {
		Items []struct {
			ID    string          `json:"id"`
			ETag  string          `json:"etag"`
			Value json.RawMessage `json:"value"`
		} `json:"items"`
		Next     string `json:"next"`
		Revision int64  `json:"revision"`
	}
	if err := r.json(ctx, "GET", "/collections/"+col.name, q, nil, &list); err != nil {
		return source.Batch{}, "", err
	}
	if list.Next != "" && list.Next == at.Page {
		return source.Batch{}, "", fmt.Errorf("source %s: %s: the bridge names the same page as the next one",
			r.o.Name, col.name)
	}
	b := source.Batch{Version: strconv.FormatInt(list.Revision, 10)}
	for _, it := range list.Items {
		vs, err := col.read(it.Value)
		if err != nil {
			return b, "", fmt.Errorf("source %s: %s %q: %w", r.o.Name, col.name, it.ID, err)
		}
		for _, v := range vs {
			rec := source.Record{Kind: col.name, ID: it.ID, ETag: it.ETag, Value: v}
			if c, ok := v.(model.CoverageRecord); ok {
				if !c.Writer.IsZero() {
					c.WriterNeeds = writing
					rec.Value = c
				}
				rec.Kind, rec.ID = source.Coverage, it.ID+"|"+c.Service+"|"+c.LogClass
			}
			b.Records = append(b.Records, rec)
		}
	}
	return b, list.Next, nil
}

// Logs yields the audit log in pages.
func (r Reader) Logs(ctx context.Context, from string) iter.Seq2[fold.Part, error] {
	return func(yield func(fold.Part, error) bool) {
		seen := map[string]bool{from: true}
		for {
			a, err := r.do(ctx, "GET", "/logs", url.Values{"cursor": {from}}, nil, nil)
			if err != nil {
				yield(fold.Part{}, err)
				return
			}
			next := a.header.Get("Bridge-Cursor")
			p := fold.Part{Name: "log at " + next, Origin: "log",
				Chunk:  auditlog.Chunk{Line: auditlog.At(1), Data: a.body},
				Cursor: func() (string, error) { return next, nil }, More: a.header.Get("Bridge-More") == "true"}
			if p.More && (seen[next] || len(seen) == mostPages) {
				yield(p, fmt.Errorf("source %s: the log does not move on from cursor %.60q", r.o.Name, from))
				return
			}
			seen[next] = true
			if !yield(p, nil) || !p.More {
				return
			}
			from = next
		}
	}
}
