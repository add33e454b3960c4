package sandbox

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // hours name zones
)

// World is one state of the cloud, ready to be asked. It is never changed once
// it is made.
type World struct {
	Nodes       map[string]*Node
	Identities  map[string]*Identity
	Memberships []*Membership
	ActAs       []*ActAs
	Roles       map[string]*Role
	Grants      []*Grant
	Denials     []*Denial
	Ceilings    []*Ceiling
	Guardrails  []*Guardrail
	LogSettings map[string]*LogSetting
	Catalogue   map[string]*Permission
}

// CallContext is what Mooring knows about a call: always everything.
type CallContext struct {
	Time         time.Time
	Network      netip.Addr
	SecondFactor bool
}

// Verdict is Mooring's own answer.
type Verdict struct {
	Allowed bool   `json:"allowed"`
	Because string `json:"because"` // the rule that decided, such as "grant g-0412"
}

// Decide says yes when some grant gives it and no denial, guardrail or ceiling stands
// against it; it looks at these one after the other.
func (w *World) Decide(who, permission, path string, ctx CallContext) Verdict {
	closure := w.closure(who)
	inClosure := func(id string) bool { return closure[id] }

	for _, d := range w.Denials {
		if slices.ContainsFunc(d.To, inClosure) && !slices.ContainsFunc(d.Unless, inClosure) &&
			listed(d.Do, d.Except, permission) && placed(d.Where, path) && w.holds(d.When, path, ctx) {
			return Verdict{false, "denial " + d.ID}
		}
	}
	for _, g := range w.Guardrails {
		if PathMatches(g.Node+"/**", path) && !listed(g.Do, g.Except, permission) &&
			!slices.ContainsFunc(g.Unless, inClosure) {
			return Verdict{false, "guardrail " + g.ID}
		}
	}
	for _, c := range w.Ceilings {
		if c.Of == who && !(listed(c.Do, c.Except, permission) && placed(c.Where, path)) {
			return Verdict{false, "ceiling " + c.ID}
		}
	}
	for _, g := range w.Grants {
		if !inClosure(g.To) || !placed(g.Where, path) {
			continue
		}
		if !g.Until.IsZero() && !ctx.Time.Before(g.Until) {
			continue
		}
		if w.gives(g, permission) && w.holds(g.When, path, ctx) {
			return Verdict{true, "grant " + g.ID}
		}
	}
	return Verdict{false, "nothing grants it"}
}

func (w *World) gives(g *Grant, permission string) bool {
	if g.Role == "" {
		return listed(g.Do, g.Except, permission)
	}
	return w.roleGives(g.Role, permission, 0)
}

func (w *World) roleGives(name, permission string, depth int) bool {
	r := w.Roles[name]
	if r == nil || depth > 50 {
		return false
	}
	if listed(r.Do, r.Except, permission) {
		return true
	}
	for _, in := range r.Includes {
		if w.roleGives(in, permission, depth+1) {
			return true
		}
	}
	return false
}

// closure returns who, the groups around it, and the open crowds it belongs to.
func (w *World) closure(who string) map[string]bool {
	in := map[string]bool{who: true}
	for grown := true; grown; {
		grown = false
		for _, m := range w.Memberships {
			if in[m.Member] && !in[m.Group] {
				in[m.Group] = true
				grown = true
			}
		}
	}
	kind, _, _ := strings.Cut(who, "/")
	if kind == "person" || kind == "workload" || kind == "external" {
		in["signed-in"] = true
	}
	in["everyone"] = true
	return in
}

// MayActAs reports whether a single step lets from act as to.
func (w *World) MayActAs(from, to string, ctx CallContext) bool {
	closure := w.closure(from)
	for _, a := range w.ActAs {
		if closure[a.From] && a.To == to && (a.Until.IsZero() || ctx.Time.Before(a.Until)) &&
			w.holds(a.When, "", ctx) {
			return true
		}
	}
	return false
}

func (w *World) holds(c *Condition, path string, ctx CallContext) bool {
	if c == nil {
		return true
	}
	if len(c.Networks) > 0 {
		hit := false
		for _, n := range c.Networks {
			p, err := netip.ParsePrefix(n)
			if err == nil && ctx.Network.IsValid() && p.Contains(ctx.Network.Unmap()) {
				hit = true
			}
		}
		if !hit {
			return false
		}
	}
	if c.SecondFactor && !ctx.SecondFactor {
		return false
	}
	if !c.From.IsZero() && ctx.Time.Before(c.From) || !c.Until.IsZero() && !ctx.Time.Before(c.Until) {
		return false
	}
	if c.Hours != nil && !c.Hours.hold(ctx.Time) {
		return false
	}
	for k, v := range c.Labels {
		n := w.Nodes[path]
		if n == nil || n.Labels[k] != v {
			return false
		}
	}
	return true
}

func (h *Hours) hold(t time.Time) bool {
	loc, err := time.LoadLocation(h.Zone)
	if err != nil {
		return false
	}
	t = t.In(loc)
	now := t.Format("15:04")
	today := strings.ToLower(t.Weekday().String()[:3])
	yesterday := strings.ToLower(t.AddDate(0, 0, -1).Weekday().String()[:3])
	if h.From < h.To {
		return h.From <= now && now < h.To && slices.Contains(h.Days, today)
	}
	// Over midnight: the evening belongs to today, the small hours to yesterday.
	return now >= h.From && slices.Contains(h.Days, today) || now < h.To && now < h.From &&
		slices.Contains(h.Days, yesterday)
}

// listed reports whether a permission is in do and not in except.
func listed(do, except []string, permission string) bool {
	hit := func(p string) bool { return PermissionMatches(p, permission) }
	return slices.ContainsFunc(do, hit) && !slices.ContainsFunc(except, hit)
}

func placed(on []string, path string) bool {
	return slices.ContainsFunc(on, func(p string) bool { return PathMatches(p, path) })
}

// PermissionMatches matches part by part; '*' is any run of characters.
func PermissionMatches(pattern, permission string) bool {
	if pattern == "*" {
		return true
	}
	ps, pn, pv, ok1 := permissionParts(pattern)
	s, n, v, ok2 := permissionParts(permission)
	return ok1 && ok2 && wild(ps, s) && wild(pn, n) && wild(pv, v)
}

func permissionParts(p string) (service, noun, verb string, ok bool) {
	service, rest, ok1 := strings.Cut(p, "/")
	i := strings.LastIndex(rest, ":")
	if !ok1 || i < 0 {
		return "", "", "", false
	}
	return service, rest[:i], rest[i+1:], true
}

// PathMatches matches segment by segment; a last "**" is the node and all below.
func PathMatches(pattern, path string) bool {
	ps, xs := strings.Split(pattern, "/"), strings.Split(path, "/")
	for i, p := range ps {
		if p == "**" && i == len(ps)-1 {
			return true
		}
		if i >= len(xs) || !wild(p, xs[i]) {
			return false
		}
	}
	return len(ps) == len(xs)
}

// wild matches one segment: percent-encoding undone, '*' as any run.
func wild(pattern, s string) bool {
	plain, err := url.PathUnescape(s)
	if err != nil {
		return false
	}
	var runs []string
	for _, lit := range strings.Split(pattern, "*") {
		l, err := url.PathUnescape(lit)
		if err != nil {
			return false
		}
		runs = append(runs, l)
	}
	if len(runs) == 1 {
		return runs[0] == plain
	}
	if !strings.HasPrefix(plain, runs[0]) {
		return false
	}
	plain = plain[len(runs[0]):]
	for _, r := range runs[1 : len(runs)-1] {
		i := strings.Index(plain, r)
		if i < 0 {
			return false
		}
		plain = plain[i+len(r):]
	}
	return strings.HasSuffix(plain, runs[len(runs)-1])
}
