package plain_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

func ids(s string) []model.ID {
	var out []model.ID
	for _, f := range strings.Fields(s) {
		out = append(out, model.MustID(f))
	}
	return out
}

func on(s string) []model.PathPattern {
	var out []model.PathPattern
	for _, f := range strings.Fields(s) {
		out = append(out, model.MustPathPattern(f))
	}
	return out
}

// rights reads "a/x:* !a/x:del": what is given, and behind '!' what is excepted.
func rights(s string) model.Rights {
	var r model.Rights
	for _, f := range strings.Fields(s) {
		if but, ok := strings.CutPrefix(f, "!"); ok {
			r.Except = append(r.Except, model.MustPermissionPattern(but))
		} else {
			r.Do = append(r.Do, model.MustPermissionPattern(f))
		}
	}
	return r
}

// small is an estate of one organisation, two projects and a box in each.
func small() *model.Estate {
	e := &model.Estate{Source: "s"}
	for _, p := range []string{"/s/harbour:o", "/s/harbour:o/berth:p", "/s/harbour:o/berth:p/box:b",
		"/s/harbour:o/berth:q", "/s/harbour:o/berth:q/box:c"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	e.Nodes[2].Labels = map[string]string{"tier": "gold"}
	for _, p := range []string{"a/x:get", "a/x:set", "a/x:del", "b/y:get"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p)})
	}
	for _, i := range ids("person/p person/q workload/w external/x group/g group/h group/loop") {
		e.Identities = append(e.Identities, model.Identity{ID: i})
	}
	for _, m := range [][2]string{{"person/p", "group/g"}, {"group/g", "group/h"}, {"group/h", "group/loop"},
		{"group/loop", "group/g"}} {
		e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID(m[0]), Group: model.MustID(m[1])})
	}
	e.Roles = []model.Role{{Name: "reader", Rights: rights("a/x:get")},
		{Name: "editor", Rights: rights("a/x:set"), Includes: []string{"reader", "circle"}},
		{Name: "circle", Rights: rights("a/x:del"), Includes: []string{"editor"}}}
	return e
}

const (
	harbour, berth, box = "/s/harbour:o", "/s/harbour:o/berth:p", "/s/harbour:o/berth:p/box:b"
	other               = "/s/harbour:o/berth:q/box:c"
)

// TestDecide walks the list of the model: closure, denials, guardrails, ceilings, grants.
func TestDecide(t *testing.T) {
	grant := func(to, role, do, place string, when model.Condition) func(*model.Estate) {
		return func(e *model.Estate) {
			e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprintf("g-%d", len(e.Grants)+1), To: model.MustID(to),
				Role: role, Rights: rights(do), Where: on(place), When: when})
		}
	}
	deny := func(to, but, do, place string, when model.Condition) func(*model.Estate) {
		return func(e *model.Estate) {
			e.Denials = append(e.Denials, model.Denial{ID: "d-1", To: ids(to), Unless: ids(but), Rights: rights(do),
				Where: on(place), When: when})
		}
	}
	always := model.Condition{}
	office := model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}
	factor := model.Condition{SecondFactor: true}
	gold := model.Condition{Labels: map[string]string{"tier": "gold"}}
	atOffice := model.Context{Network: netip.MustParseAddr("10.1.2.3")}
	outside := model.Context{Network: netip.MustParseAddr("203.0.113.1")}
	all := func(fs ...func(*model.Estate)) []func(*model.Estate) { return fs }

	for _, tt := range []struct {
		name            string
		rules           []func(*model.Estate)
		who, what, path string
		ctx             model.Context
		want            string // outcome, then every rule that has a say
	}{
		{"nothing grants it", nil, "person/p", "a/x:get", box, model.Context{}, "denied"},
		{"a grant", all(grant("person/p", "", "a/x:get", box+"/**", always)), "person/p", "a/x:get", box,
			model.Context{}, "allowed g-1"},
		{"of another permission", all(grant("person/p", "", "a/x:set", box+"/**", always)), "person/p", "a/x:get", box,
			model.Context{}, "denied"},
		{"to another", all(grant("person/q", "", "a/x:get", box+"/**", always)), "person/p", "a/x:get", box,
			model.Context{}, "denied"},
		{"reaches below", all(grant("person/p", "", "a/x:get", harbour+"/**", always)), "person/p", "a/x:get", box +
			"/new/thing", model.Context{}, "allowed g-1"},
		{"not above", all(grant("person/p", "", "a/x:get", box+"/**", always)), "person/p", "a/x:get", berth,
			model.Context{}, "denied"},
		{"not beside", all(grant("person/p", "", "a/x:get", box+"/**", always)), "person/p", "a/x:get", box + "2",
			model.Context{}, "denied"},
		{"exactly is not below", all(grant("person/p", "", "a/x:get", box, always)), "person/p", "a/x:get", box + "/1",
			model.Context{}, "denied"},
		{"a wildcard inside a segment", all(grant("person/p", "", "a/x:get", "/s/harbour:o/berth:*/box:b/**", always)),
			"person/p", "a/x:get", box, model.Context{}, "allowed g-1"},
		{"a wildcard does not cross segments", all(grant("person/p", "", "a/x:get", "/s/harbour:*/box:b/**", always)),
			"person/p", "a/x:get", box, model.Context{}, "denied"},
		{"everything but", all(grant("person/p", "", "* !a/x:del", harbour+"/**", always)), "person/p", "a/x:del", box,
			model.Context{}, "denied"},
		{"a role", all(grant("person/p", "reader", "", harbour+"/**", always)), "person/p", "a/x:get", box,
			model.Context{}, "allowed g-1"},
		{"a role in a role, in a circle", all(grant("person/p", "circle", "", harbour+"/**", always)), "person/p",
			"a/x:get", box, model.Context{}, "allowed g-1"},
		{"a role that is gone gives nothing", all(grant("person/p", "gone", "", harbour+"/**", always)), "person/p",
			"a/x:get", box, model.Context{}, "denied"},
		{"by a group in a group", all(grant("group/h", "reader", "", harbour+"/**", always)), "person/p", "a/x:get",
			box, model.Context{}, "allowed g-1"},
		{"round a cycle of groups", all(grant("group/loop", "reader", "", harbour+"/**", always)), "person/p",
			"a/x:get", box, model.Context{}, "allowed g-1"},
		{"signed-in holds people", all(grant("signed-in", "reader", "", harbour+"/**", always)), "person/q", "a/x:get",
			box, model.Context{}, "allowed g-1"},
		{"and outsiders", all(grant("signed-in", "reader", "", harbour+"/**", always)), "external/x", "a/x:get", box,
			model.Context{}, "allowed g-1"},
		{"and somebody nobody lists", all(grant("signed-in", "reader", "", harbour+"/**", always)), "person/unknown",
			"a/x:get", box, model.Context{}, "allowed g-1"},
		{"but not everyone", all(grant("signed-in", "reader", "", harbour+"/**", always)), "everyone", "a/x:get", box,
			model.Context{}, "denied"},
		{"everyone holds all", all(grant("everyone", "reader", "", harbour+"/**", always)), "workload/w", "a/x:get",
			box, model.Context{}, "allowed g-1"},

		{"a condition that is met", all(grant("person/p", "reader", "", harbour+"/**", office)), "person/p", "a/x:get",
			box, atOffice, "allowed g-1"},
		{"that is not", all(grant("person/p", "reader", "", harbour+"/**", office)), "person/p", "a/x:get", box,
			outside, "denied not g-1"},
		{"that nobody knows", all(grant("person/p", "reader", "", harbour+"/**", office)), "person/p", "a/x:get", box,
			model.Context{}, "allowed if g-1?"},
		{"two ways, one certain", all(grant("person/p", "reader", "", harbour+"/**", office),
			grant("person/p", "reader", "", harbour+"/**", always)), "person/p", "a/x:get", box, model.Context{},
			"allowed g-2 g-1?"},
		{"labels of the node", all(grant("person/p", "reader", "", harbour+"/**", gold)), "person/p", "a/x:get", box,
			model.Context{}, "allowed g-1"},
		{"a node without them", all(grant("person/p", "reader", "", harbour+"/**", gold)), "person/p", "a/x:get",
			other, model.Context{}, "denied not g-1"},
		{"a path nobody lists may have them", all(grant("person/p", "reader", "", harbour+"/**", gold)), "person/p",
			"a/x:get", box + "/1", model.Context{}, "allowed if g-1?"},
		{"an opaque condition is never met", all(grant("person/p", "reader", "", harbour+"/**",
			model.Condition{Opaque: []string{"moon is full"}})), "person/p", "a/x:get", box, atOffice,
			"allowed if g-1?"},
		{"after its end", all(func(e *model.Estate) {
			e.Grants = []model.Grant{{ID: "g-1", To: model.MustID("person/p"), Role: "reader",
				Where: on(harbour + "/**"), Until: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)}}
		}), "person/p", "a/x:get", box, model.Context{Time: time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC)},
			"denied not g-1"},

		{"a denial", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("person/p", "", "a/*:*", berth+"/**", always)), "person/p", "a/x:get", box, model.Context{},
			"denied denial d-1 g-1"},
		{"elsewhere it says nothing", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("person/p", "", "a/*:*", berth+"/**", always)), "person/p", "a/x:get", other, model.Context{},
			"allowed g-1"},
		{"to a group in a group", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("group/h", "", "a/*:*", harbour+"/**", always)), "person/p", "a/x:get", box, model.Context{},
			"denied denial d-1 g-1"},
		{"that spares a group", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("signed-in", "group/loop", "a/*:*", harbour+"/**", always)), "person/p", "a/x:get", box,
			model.Context{}, "allowed g-1"},
		{"that may refuse", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("person/p", "", "a/*:*", harbour+"/**", office)), "person/p", "a/x:get", box, model.Context{},
			"allowed if denial d-1? g-1"},
		{"that does not here", all(grant("person/p", "reader", "", harbour+"/**", always),
			deny("person/p", "", "a/*:*", harbour+"/**", office)), "person/p", "a/x:get", box, outside, "allowed g-1"},
		{"may refuse and may allow", all(grant("person/p", "reader", "", harbour+"/**", factor),
			deny("person/p", "", "a/*:*", harbour+"/**", office)), "person/p", "a/x:get", box, model.Context{},
			"allowed if denial d-1? g-1?"},

		{"a guardrail", all(grant("person/p", "editor", "", harbour+"/**", always), func(e *model.Estate) {
			e.Guardrails = []model.Guardrail{{ID: "r-1", Node: model.MustPath(berth), Rights: rights("* !a/x:del")}}
		}), "person/p", "a/x:del", box, model.Context{}, "denied guardrail r-1 g-1"},
		{"admits the rest", all(grant("person/p", "editor", "", harbour+"/**", always), func(e *model.Estate) {
			e.Guardrails = []model.Guardrail{{ID: "r-1", Node: model.MustPath(berth), Rights: rights("* !a/x:del")}}
		}), "person/p", "a/x:set", box, model.Context{}, "allowed g-1"},
		{"and says nothing beside its node", all(grant("person/p", "editor", "", harbour+"/**", always),
			func(e *model.Estate) {
				e.Guardrails = []model.Guardrail{{ID: "r-1", Node: model.MustPath(berth),
					Rights: rights("* !a/x:del")}}
			}), "person/p", "a/x:del", other, model.Context{}, "allowed g-1"},
		{"and spares some", all(grant("person/p", "editor", "", harbour+"/**", always), func(e *model.Estate) {
			e.Guardrails = []model.Guardrail{{ID: "r-1", Node: model.MustPath(berth), Rights: rights("* !a/x:del"),
				Unless: ids("group/g")}}
		}), "person/p", "a/x:del", box, model.Context{}, "allowed g-1"},

		{"a ceiling cuts permissions", all(grant("person/p", "editor", "", harbour+"/**", always),
			func(e *model.Estate) {
				e.Ceilings = []model.Ceiling{{ID: "c-1", Of: model.MustID("person/p"), Rights: rights("a/x:get"),
					Where: on(harbour + "/**")}}
			}), "person/p", "a/x:set", box, model.Context{}, "denied ceiling c-1 g-1"},
		{"and places", all(grant("person/p", "editor", "", harbour+"/**", always), func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: model.MustID("person/p"), Rights: rights("*"),
				Where: on(berth + "/**")}}
		}), "person/p", "a/x:get", other, model.Context{}, "denied ceiling c-1 g-1"},
		{"of a group it cuts nobody in it", all(grant("person/p", "reader", "", harbour+"/**", always),
			func(e *model.Estate) {
				e.Ceilings = []model.Ceiling{{ID: "c-1", Of: model.MustID("group/g"), Rights: rights("b/*:*"),
					Where: on(harbour + "/**")}}
			}), "person/p", "a/x:get", box, model.Context{}, "allowed g-1"},
		{"it gives nothing", all(func(e *model.Estate) {
			e.Ceilings = []model.Ceiling{{ID: "c-1", Of: model.MustID("person/p"), Rights: rights("*"),
				Where: on(harbour + "/**")}}
		}), "person/p", "a/x:get", box, model.Context{}, "denied"},

		{"whom the source lets through", all(deny("person/p", "", "*", harbour+"/**", always),
			func(e *model.Estate) { e.Semantics.Bypass = ids("group/h") }), "person/p", "a/x:get", box,
			model.Context{}, "allowed bypass"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			e := small()
			for _, r := range tt.rules {
				r(e)
			}
			if got := say(plain.New(e).Decide(model.MustID(tt.who), model.MustPermission(tt.what),
				model.MustPath(tt.path), tt.ctx)); got != tt.want {
				t.Errorf("%s may %s on %s: %q, want %q", tt.who, tt.what, tt.path, got, tt.want)
			}
		})
	}
}

// say tells a decision in short: a '?' marks a rule whose condition is open.
func say(d access.Decision) string {
	out := []string{d.Outcome.String()}
	mark := func(s string, met model.Truth) string {
		if met == model.Open {
			s += "?"
		}
		return s
	}
	for _, r := range d.Refusals {
		out = append(out, mark(r.Layer+" "+r.ID, r.Met))
	}
	for _, w := range d.Ways {
		if w.Bypass {
			out = append(out, "bypass")
			continue
		}
		out = append(out, mark(w.Grant.ID, w.Met))
	}
	for _, w := range d.Unmet {
		out = append(out, "not "+w.Grant.ID)
	}
	return strings.Join(out, " ")
}

// TestClosureAndMasks: chains are shortest, and told from the identity on.
func TestClosureAndMasks(t *testing.T) {
	e := small()
	e.ActAs = []model.ActAs{{ID: "1", From: model.MustID("group/h"), To: model.MustID("workload/w")},
		{ID: "2", From: model.MustID("workload/w"), To: model.MustID("external/x")},
		{ID: "3", From: model.MustID("external/x"), To: model.MustID("person/p")}}
	g := plain.New(e)
	var chains []string
	for _, s := range g.Closure(model.MustID("person/p")) {
		chains = append(chains, fmt.Sprint(s.Chain))
	}
	want := "[person/p]; [person/p group/g]; [person/p group/g group/h]; [person/p group/g group/h group/loop]; " +
		"[person/p signed-in]; [person/p everyone]"
	if got := strings.Join(chains, "; "); got != want {
		t.Errorf("closure %s, want %s", got, want)
	}
	var masks []string
	for _, m := range g.Masks(model.MustID("person/p")) {
		masks = append(masks, fmt.Sprintf("%s in %d", m.ID, len(m.Steps)))
	}
	if got := strings.Join(masks, "; "); got != "workload/w in 1; external/x in 2" {
		t.Errorf("masks %s", got)
	}
}
