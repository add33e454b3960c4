package bridge

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
)

// A Changer changes documents of a bridge, each with a precondition.
type Changer struct{ *Client }

var _ source.Changer = Changer{}

// Planner returns the planner of documents: a bridge has one for each record.
func (c Changer) Planner() source.Planner { return documents.Planner{} }

var changingNeeds = []need{
	{"make grants", "grants:create"},
	{"take grants away", "grants:delete"},
	{"read grants back", "grants:list"},
	{"make roles", "roles:create"},
	{"take its own roles away", "roles:delete"},
	{"read roles back", "roles:list"},
	{"put members back (undo)", "memberships:create"},
	{"take members out", "memberships:delete"},
	{"read memberships back", "memberships:list"},
	{"deny (draft --denials)", "denials:create"},
	{"lift denials again (undo)", "denials:delete"},
	{"read denials back", "denials:list"},
	{"switch logs on (coverage --mend)", "log-settings:update"},
	{"read log settings back", "log-settings:list"},
}

// Check tries the rights for changing.
func (c Changer) Check(ctx context.Context) ([]source.Right, error) {
	return c.check(ctx, "changing", changingNeeds)
}

// Self returns the identity behind the token.
func (c *Client) Self(ctx context.Context) (model.ID, error) {
	a, err := c.About(ctx)
	if err != nil {
		return model.ID{}, err
	}
	return model.ParseID(a.You)
}

// Peer returns the bridge's own name for itself, or its address where it has none, and its
// clock.
func (c *Client) Peer(ctx context.Context) (source.Peer, error) {
	a, err := c.About(ctx)
	p := source.Peer{ID: a.Instance, Time: a.Time}
	if p.ID == "" {
		p.ID = strings.TrimSuffix(c.o.URL, "/")
	}
	return p, err
}

// Get reads a document.
func (c Changer) Get(ctx context.Context, kind, id string) (source.Document, error) {
	var it struct {
		ETag  string          `json:"etag"`
		Value json.RawMessage `json:"value"`
	}
	err := c.json(ctx, "GET", "/collections/"+url.PathEscape(kind)+"/item", url.Values{"id": {id}}, nil, &it)
	return source.Document{ETag: it.ETag, Body: it.Value}, err
}

// Do carries a step out.
func (c Changer) Do(ctx context.Context, s source.Step) error {
	now, err := c.Get(ctx, s.Kind, s.ID)
	if err != nil && !errors.Is(err, source.ErrGone) {
		return err
	}
	switch {
	case source.Same(now.Body, s.After):
		return nil
	case !source.Same(now.Body, s.Before):
		return fmt.Errorf("source %s: %s %q: %w; survey again and draft anew", c.o.Name, s.Kind, s.ID,
			source.ErrConflict)
	}
	h := http.Header{}
	if now.Body == nil {
		h.Set("If-None-Match", "*")
	} else {
		h.Set("If-Match", now.ETag)
	}
	method := "PUT"
	if s.After == nil {
		method = "DELETE"
	}
	h.Set("Content-Type", "application/json")
	if _, err = c.do(ctx, method, "/collections/"+url.PathEscape(s.Kind)+"/item", url.Values{"id": {s.ID}}, h,
		s.After); err != nil {
		return fmt.Errorf("%s %q: %w", s.Kind, s.ID, err)
	}
	return nil
}
