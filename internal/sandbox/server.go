package sandbox

import (
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// OpenAPI is the bridge protocol, written down as OpenAPI 3.1.
//
//go:embed openapi.yaml
var OpenAPI []byte

// Faults are troubles that can be switched on.
type Faults struct {
	// Queue holds one fault for each coming request, in order: "429", "500",
	// "drop" (the connection is cut), "slow", or "ok".
	Queue []string `json:"queue,omitempty"`
	// Every makes each n-th request fail with Kind. Zero: none.
	Every int    `json:"every,omitempty"`
	Kind  string `json:"kind,omitempty"`
	// SlowMS is how long a slow answer takes, in milliseconds.
	SlowMS int `json:"slow_ms,omitempty"`
	// VisibleAfterMS delays the effect of every change, in milliseconds.
	VisibleAfterMS int `json:"visible_after_ms,omitempty"`

	count int
}

const (
	defaultPage = 200
	maxPage     = 1000
	maxLogPage  = 50_000
	maxBody     = 1 << 20
)

// Route is one operation of the bridge protocol.
type Route struct {
	Method, Path string
	handle       func(*Cloud, *request) (any, error)
}

// Routes lists every operation that the handler serves; a test holds it against
// openapi.yaml.
var Routes = []Route{
	{"GET", "/bridge/v2/about", (*Cloud).about},
	{"GET", "/bridge/v2/collections/{kind}", (*Cloud).listItems},
	{"GET", "/bridge/v2/collections/{kind}/item", (*Cloud).getItem},
	{"PUT", "/bridge/v2/collections/{kind}/item", (*Cloud).putItem},
	{"DELETE", "/bridge/v2/collections/{kind}/item", (*Cloud).deleteItem},
	{"GET", "/bridge/v2/logs", (*Cloud).logs},
	{"POST", "/bridge/v2/may", (*Cloud).may},
	{"POST", "/bridge/v2/decide", (*Cloud).decide},
	{"POST", "/bridge/v2/act", (*Cloud).act},
	{"GET", "/bridge/v2/faults", (*Cloud).getFaults},
	{"PUT", "/bridge/v2/faults", (*Cloud).putFaults},
}

// A problem is an answer other than 200 (RFC 9457).
type problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

func (p *problem) Error() string { return p.Detail }

func fail(status int, format string, args ...any) error {
	return &problem{status, http.StatusText(status), fmt.Sprintf(format, args...)}
}

type request struct {
	*http.Request
	w     http.ResponseWriter
	who   string // "everyone" without a token
	world *World
	now   time.Time
}

// Handler serves the bridge protocol.
func (c *Cloud) Handler() http.Handler {
	mux := http.NewServeMux()
	for _, r := range Routes {
		mux.HandleFunc(r.Method+" "+r.Path, func(w http.ResponseWriter, req *http.Request) {
			if c.trouble(w, req) {
				return
			}
			req.Body = http.MaxBytesReader(w, req.Body, maxBody)
			q := &request{Request: req, w: w, now: c.Now().UTC()}
			body, err := c.serve(q, r.handle)
			if err != nil {
				var p *problem
				if !errors.As(err, &p) {
					p = &problem{500, http.StatusText(500), err.Error()}
				}
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(p.Status)
				_ = json.NewEncoder(w).Encode(p) // the client is gone
				return
			}
			if raw, ok := body.([]byte); ok {
				w.Header().Set("Content-Type", "application/x-ndjson")
				_, _ = w.Write(raw)
				return
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(body)
		})
	}
	return mux
}

func (c *Cloud) serve(q *request, handle func(*Cloud, *request) (any, error)) (any, error) {
	w, err := c.World()
	if err != nil {
		return nil, err
	}
	q.world, q.who = w, "everyone"
	if auth := q.Header.Get("Authorization"); auth != "" {
		token, ok := strings.CutPrefix(auth, "Bearer ")
		c.mu.Lock()
		id := c.tokens[tokenHash(token)]
		c.mu.Unlock()
		if !ok || id == "" {
			q.w.Header().Set("WWW-Authenticate", `Bearer realm="mooring"`)
			return nil, fail(401, "the token is not known here")
		}
		if i := w.Identities[id]; i == nil || i.Disabled {
			return nil, fail(401, "%s is disabled", id)
		}
		q.who = id
	}
	return handle(c, q)
}

// trouble acts out a fault that is switched on.
func (c *Cloud) trouble(w http.ResponseWriter, req *http.Request) bool {
	if strings.HasSuffix(req.URL.Path, "/faults") {
		return false
	}
	c.mu.Lock()
	kind := ""
	c.faults.count++
	if len(c.faults.Queue) > 0 {
		kind, c.faults.Queue = c.faults.Queue[0], c.faults.Queue[1:]
	} else if c.faults.Every > 0 && c.faults.count%c.faults.Every == 0 {
		kind = c.faults.Kind
	}
	slow := time.Duration(c.faults.SlowMS) * time.Millisecond
	c.mu.Unlock()
	switch kind {
	case "429":
		w.Header().Set("Retry-After", "1")
		http.Error(w, `{"status":429,"title":"Too Many Requests","detail":"slow down"}`, http.StatusTooManyRequests)
		return true
	case "500":
		http.Error(w, `{"status":500,"title":"Internal Server Error","detail":"fault switched on"}`, 500)
		return true
	case "drop":
		panic(http.ErrAbortHandler) // cuts the connection
	case "slow":
		wait(req.Context(), slow)
	}
	return false
}

func (q *request) need(permission, path string) error {
	v := q.world.Decide(q.who, permission, path, CallContext{Time: q.now})
	if !v.Allowed {
		return fail(403, "%s may not %s on %s: %s", q.who, permission, path, v.Because)
	}
	return nil
}

func (q *request) body(into any) error {
	dec := json.NewDecoder(q.Body)
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fail(400, "body: %v", err)
	}
	return nil
}

func (c *Cloud) about(q *request) (any, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return map[string]any{
		"protocol": "bridge/2", "instance": c.instance, "source": strings.Split(q.world.Root()+"//", "/")[1],
		"root":     q.world.Root(),
		"revision": c.revision, "you": q.who, "time": q.now, "collections": Kinds, "last_seen": true,
		"complete": completeKinds, "rights": Rights,
	}, nil
}

// completeKinds are the kinds of node that Mooring lists one and all; what lies inside a
// box or a library is in no list.
var completeKinds = []string{"harbour", "pier", "berth", "box", "rack", "tray", "library", "rig", "helper", "errand",
	"secret", "net"}

// Rights says which permission each operation on a collection takes, as "kind:operation";
// the bridge tells it, so that whoever connects to one can check what it may do.
var Rights = map[string]string{
	"log:read": "watch/logbook:read", "log:write": "watch/logbook:write",
	"log-settings:list": "watch/log-switch:find", "log-settings:create": "watch/log-switch:turn",
	"log-settings:update": "watch/log-switch:turn", "log-settings:delete": "watch/log-switch:turn",
	"catalogue:list": "muster/role:find",
	"nodes:list":     "muster/place:find", "nodes:create": "muster/place:found", "nodes:update": "muster/place:move",
	"nodes:delete":    "muster/place:close",
	"identities:list": "muster/somebody:find", "identities:create": "muster/somebody:enrol",
	"identities:update": "muster/somebody:amend", "identities:delete": "muster/somebody:strike-off",
	"memberships:list": "muster/roll:find", "memberships:create": "muster/roll:let-in",
	"memberships:update": "muster/roll:let-in", "memberships:delete": "muster/roll:put-out",
	"act-as:list": "muster/stand-in:find", "act-as:create": "muster/stand-in:arrange",
	"act-as:update": "muster/stand-in:arrange", "act-as:delete": "muster/stand-in:end",
	"roles:list": "muster/role:find", "roles:create": "muster/role:write", "roles:update": "muster/role:rewrite",
	"roles:delete": "muster/role:tear-up",
	"grants:list":  "muster/grant:find", "grants:create": "muster/grant:give", "grants:update": "muster/grant:alter",
	"grants:delete": "muster/grant:take-back",
	"denials:list":  "muster/denial:find", "denials:create": "muster/denial:impose",
	"denials:update": "muster/denial:alter", "denials:delete": "muster/denial:lift",
	"ceilings:list": "muster/ceiling:find", "ceilings:create": "muster/ceiling:impose",
	"ceilings:update": "muster/ceiling:raise", "ceilings:delete": "muster/ceiling:lift",
	"guardrails:list": "muster/guardrail:find", "guardrails:create": "muster/guardrail:impose",
	"guardrails:update": "muster/guardrail:shift", "guardrails:delete": "muster/guardrail:lift",
}

func (q *request) kind() (string, error) {
	k := q.PathValue("kind")
	if !slices.Contains(Kinds, k) {
		return "", fail(404, "no collection %q", k)
	}
	return k, nil
}

func (c *Cloud) listItems(q *request) (any, error) {
	kind, err := q.kind()
	if err != nil {
		return nil, err
	}
	if err := q.need(Rights[kind+":list"], q.world.Root()); err != nil {
		return nil, err
	}
	limit, err := q.limit(defaultPage, maxPage)
	if err != nil {
		return nil, err
	}
	after, err := base64.RawURLEncoding.DecodeString(q.URL.Query().Get("page"))
	if err != nil {
		return nil, fail(400, "page %q is not one of ours", q.URL.Query().Get("page"))
	}
	items, more, revision := c.list(kind, string(after), limit)
	next := ""
	if more {
		next = base64.RawURLEncoding.EncodeToString([]byte(items[len(items)-1].ID))
	}
	return map[string]any{"items": append([]Item{}, items...), "next": next, "revision": revision}, nil
}

func (q *request) limit(def, most int) (int, error) {
	s := q.URL.Query().Get("limit")
	if s == "" {
		return def, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, fail(400, "limit %q is not a positive number", s)
	}
	return min(n, most), nil
}

func (c *Cloud) getItem(q *request) (any, error) {
	kind, err := q.kind()
	if err != nil {
		return nil, err
	}
	if err := q.need(Rights[kind+":list"], q.world.Root()); err != nil {
		return nil, err
	}
	it, err := c.Get(kind, q.URL.Query().Get("id"))
	if err != nil {
		return nil, fail(404, "no %s %q", kind, q.URL.Query().Get("id"))
	}
	q.w.Header().Set("ETag", it.ETag)
	return it, nil
}

// places returns the nodes at which a document asks for rights.
func (q *request) places(v any) []string {
	switch d := v.(type) {
	case *Grant:
		return anchors(d.Where)
	case *Denial:
		return anchors(d.Where)
	case *Node:
		return []string{d.Path}
	case *LogSetting:
		return []string{d.Node}
	}
	return []string{q.world.Root()}
}

// anchors cuts patterns down to the node above their first wildcard.
func anchors(on []string) []string {
	out := make([]string, 0, len(on))
	for _, p := range on {
		if i := strings.IndexByte(p, '*'); i >= 0 {
			p = p[:strings.LastIndexByte(p[:i], '/')]
		}
		out = append(out, p)
	}
	return out
}

// audited checks a change and writes it to the audit log, done or refused.
func (c *Cloud) audited(q *request, permission string, places []string, do func() error) error {
	for _, p := range places {
		v := q.world.Decide(q.who, permission, p, CallContext{Time: q.now})
		if !v.Allowed {
			if err := c.Record(q.world, q.now, q.who, "", permission, p, v, "127.0.0.1", false); err != nil {
				return err
			}
			return fail(403, "%s may not %s on %s: %s", q.who, permission, p, v.Because)
		}
	}
	if err := do(); err != nil {
		switch {
		case errors.Is(err, ErrPrecondition):
			return fail(412, "%v", err)
		case errors.Is(err, ErrNotFound):
			return fail(404, "%v", err)
		}
		return err
	}
	return c.Record(q.world, q.now, q.who, "", permission, places[0], Verdict{true, "change"}, "127.0.0.1", false)
}

// precondition reads If-Match or If-None-Match (RFC 9110, section 13.1). Every
// change must carry one.
func (q *request) precondition() (string, error) {
	im, inm := q.Header.Get("If-Match"), q.Header.Get("If-None-Match")
	switch {
	case im != "" && im != "*":
		return im, nil
	case inm == "*":
		return "", nil
	}
	return "", fail(428, "a change needs If-Match with the ETag that you read, or If-None-Match: * for a new document")
}

func (c *Cloud) putItem(q *request) (any, error) {
	kind, err := q.kind()
	if err != nil {
		return nil, err
	}
	want, err := q.precondition()
	if err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(q.Body)
	if err != nil {
		return nil, fail(413, "body: %v", err)
	}
	id := q.URL.Query().Get("id")
	v, body, err := q.world.check(kind, id, raw)
	if err != nil {
		return nil, fail(422, "%v", err)
	}
	operation := ":update"
	if want == "" {
		operation = ":create"
	}
	var tag string
	err = c.audited(q, Rights[kind+operation], q.places(v), func() error {
		tag, err = c.put(kind, id, body, want)
		return err
	})
	if err != nil {
		return nil, err
	}
	q.w.Header().Set("ETag", tag)
	return Item{id, tag, body}, nil
}

func (c *Cloud) deleteItem(q *request) (any, error) {
	kind, err := q.kind()
	if err != nil {
		return nil, err
	}
	want, err := q.precondition()
	if err != nil {
		return nil, err
	}
	id := q.URL.Query().Get("id")
	it, err := c.Get(kind, id)
	if err != nil {
		return nil, fail(404, "no %s %q", kind, id)
	}
	v := blank(kind)
	if err := json.Unmarshal(it.Value, v); err != nil {
		return nil, err
	}
	if r, ok := v.(*Role); ok {
		if r.Builtin {
			return nil, fail(422, "role %q is built in", id)
		}
		for _, g := range q.world.Grants {
			if g.Role == id {
				return nil, fail(409, "role %q is still given by grant %q", id, g.ID)
			}
		}
	}
	err = c.audited(q, Rights[kind+":delete"], q.places(v), func() error {
		_, err := c.put(kind, id, nil, want)
		return err
	})
	if err != nil {
		return nil, err
	}
	return it, nil
}

func (c *Cloud) logs(q *request) (any, error) {
	if err := q.need(Rights["log:read"], q.world.Root()); err != nil {
		return nil, err
	}
	limit, err := q.limit(20_000, maxLogPage)
	if err != nil {
		return nil, err
	}
	lines, next, more, err := readLog(c.AuditDir(), q.URL.Query().Get("cursor"), limit)
	if err != nil {
		return nil, fail(400, "%v", err)
	}
	q.w.Header().Set("Bridge-Cursor", next)
	q.w.Header().Set("Bridge-More", strconv.FormatBool(more))
	return append([]byte{}, lines...), nil
}

type mayItem struct {
	Permission string `json:"permission"`
	Path       string `json:"path"`
	Allowed    bool   `json:"allowed,omitempty"`
	Because    string `json:"because,omitempty"`
}

func (c *Cloud) may(q *request) (any, error) {
	var in struct {
		Items []mayItem `json:"items"`
	}
	if err := q.body(&in); err != nil {
		return nil, err
	}
	for i := range in.Items {
		it := &in.Items[i]
		v := q.world.Decide(q.who, it.Permission, it.Path, CallContext{Time: q.now})
		it.Allowed, it.Because = v.Allowed, v.Because
	}
	return map[string]any{"you": q.who, "items": append([]mayItem{}, in.Items...)}, nil
}

type callBody struct {
	Identity     string    `json:"identity,omitempty"`
	Permission   string    `json:"permission"`
	Path         string    `json:"path"`
	As           string    `json:"as,omitempty"`
	Network      string    `json:"network,omitempty"`
	SecondFactor bool      `json:"second_factor,omitempty"`
	Time         time.Time `json:"time,omitzero"`
}

func (b callBody) context(now time.Time) CallContext {
	ctx := CallContext{Time: now, SecondFactor: b.SecondFactor}
	if !b.Time.IsZero() {
		ctx.Time = b.Time
	}
	if a, err := netip.ParseAddr(b.Network); err == nil {
		ctx.Network = a
	}
	return ctx
}

func (c *Cloud) decide(q *request) (any, error) {
	var in struct {
		Items []callBody `json:"items"`
	}
	if err := q.body(&in); err != nil {
		return nil, err
	}
	if err := q.need("muster/question:try", q.world.Root()); err != nil {
		return nil, err
	}
	out := make([]Verdict, len(in.Items))
	for i, it := range in.Items {
		out[i] = q.world.Decide(it.Identity, it.Permission, it.Path, it.context(q.now))
	}
	return map[string]any{"items": out}, nil
}

// act is a call on a resource: decided, logged, and answered.
func (c *Cloud) act(q *request) (any, error) {
	var in callBody
	if err := q.body(&in); err != nil {
		return nil, err
	}
	if q.world.Catalogue[in.Permission] == nil {
		return nil, fail(400, "no permission %q", in.Permission)
	}
	in.Time = time.Time{} // only the clock says what time it is
	if in.Network == "" {
		in.Network = "127.0.0.1"
	}
	ctx := in.context(q.now)
	whose := q.who
	var v Verdict
	if in.As != "" {
		whose = in.As
		if !q.world.MayActAs(q.who, in.As, ctx) {
			v = Verdict{false, q.who + " may not act as " + in.As}
		}
	}
	if v.Because == "" {
		v = q.world.Decide(whose, in.Permission, in.Path, ctx)
	}
	if err := c.Record(q.world, q.now, q.who, in.As, in.Permission, in.Path, v, in.Network,
		in.SecondFactor); err != nil {
		return nil, err
	}
	if !v.Allowed {
		return nil, fail(403, "%s may not %s on %s: %s", whose, in.Permission, in.Path, v.Because)
	}
	return v, nil
}

func (c *Cloud) getFaults(q *request) (any, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.faults, nil
}

func (c *Cloud) putFaults(q *request) (any, error) {
	if err := q.need(Rights["grants:create"], q.world.Root()); err != nil {
		return nil, err
	}
	var f Faults
	if err := q.body(&f); err != nil {
		return nil, err
	}
	c.SetFaults(f)
	return f, nil
}
