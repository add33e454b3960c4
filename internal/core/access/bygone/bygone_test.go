package bygone_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/bygone"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// record is a part of an estate with the surveys that show it.
type record struct {
	model.Estate
	first, last int64
}

// history is made of what surveys of a made-up source showed, some of it for a while only.
type history struct {
	surveys []int64
	records []record
	sighted []model.Membership
}

func random(seed uint64) (*history, []bygone.Question, []model.Permission) {
	r := rand.New(rand.NewPCG(seed, 25))
	h := &history{}
	for i := range int64(2 + r.IntN(9)) {
		h.surveys = append(h.surveys, 10*i+1+r.Int64N(10)) // there are surveys of other sources between
	}
	add := func(e model.Estate) {
		from := r.IntN(len(h.surveys))
		last := int64(math.MaxInt64)
		if to := from + r.IntN(5); to < len(h.surveys) {
			last = h.surveys[to]
		}
		h.records = append(h.records, record{e, h.surveys[from], last})
	}
	id := func(kind model.IdentityKind, n int) model.ID {
		return model.ID{Kind: kind, Name: fmt.Sprint(kind, r.IntN(n))}
	}
	who := func() model.ID { return id(model.Person, 20) }
	group := func() model.ID { return id(model.Group, 6) }
	anybody := func() model.ID {
		switch r.IntN(8) {
		case 0:
			return model.ID{Kind: model.Everyone}
		case 1:
			return model.ID{Kind: model.SignedIn}
		case 2, 3, 4:
			return group()
		}
		return who()
	}
	perms := []model.Permission{}
	for _, text := range []string{"a/x:get", "a/x:put", "a/y:get", "b/z:run"} {
		p, err := model.ParsePermission(text)
		if err != nil {
			panic(err)
		}
		perms = append(perms, p)
	}
	place := func() model.Path {
		return model.MustPath(fmt.Sprintf("/s/unit:u%d/box:b%d", r.IntN(3), r.IntN(3)))
	}
	where := func() []model.PathPattern {
		switch r.IntN(3) {
		case 0:
			return []model.PathPattern{model.MustPathPattern(fmt.Sprintf("/s/unit:u%d/**", r.IntN(3)))}
		case 1:
			return []model.PathPattern{place().Exactly(), place().Exactly()}
		}
		return []model.PathPattern{model.MustPathPattern("/s/**")}
	}
	rights := func() model.Rights {
		if r.IntN(4) == 0 {
			p, _ := model.ParsePermissionPattern([]string{"a/*:get", "a/x:*", "*/*:*"}[r.IntN(3)])
			return model.Rights{Do: []model.PermissionPattern{p}}
		}
		return model.Permissions(perms[r.IntN(4)])
	}
	when := func() (c model.Condition) {
		if r.IntN(3) == 0 {
			c.Labels = map[string]string{"use": []string{"test", "real"}[r.IntN(2)]}
		}
		return c
	}
	for range 1 + r.IntN(4) {
		add(model.Estate{Memberships: []model.Membership{{Member: who(), Group: group()}}})
		add(model.Estate{Memberships: []model.Membership{{Member: group(), Group: group()}}})
	}
	for range 3 + r.IntN(10) {
		add(model.Estate{Memberships: []model.Membership{{Member: who(), Group: group()}}})
	}
	for _, p := range perms[:3+r.IntN(2)] {
		from := h.surveys[r.IntN(2)*r.IntN(len(h.surveys))]
		h.records = append(h.records, record{model.Estate{
			Catalogue: model.Catalogue{{Permission: p, Level: model.Change}}}, from, math.MaxInt64})
	}
	add(model.Estate{Semantics: model.Semantics{Bypass: []model.ID{anybody()}}})
	for n := range 3 {
		for range 1 + r.IntN(2) {
			o := model.Role{Name: fmt.Sprint("role", n), Rights: rights()}
			if r.IntN(2) == 0 {
				o.Includes = []string{fmt.Sprint("role", r.IntN(4))}
			}
			add(model.Estate{Roles: []model.Role{o}})
		}
	}
	for n := range 4 + r.IntN(8) {
		g := model.Grant{ID: fmt.Sprint("g", n), To: anybody(), Where: where(), When: when()}
		if r.IntN(3) > 0 {
			g.Role = fmt.Sprint("role", r.IntN(4))
		} else {
			g.Rights = rights()
		}
		add(model.Estate{Grants: []model.Grant{g}})
	}
	for n := range r.IntN(5) {
		add(model.Estate{Denials: []model.Denial{{ID: fmt.Sprint("d", n), To: []model.ID{anybody()},
			Unless: []model.ID{anybody()}, Rights: rights(), Where: where(), When: when()}}})
		add(model.Estate{Ceilings: []model.Ceiling{{ID: fmt.Sprint("c", n), Of: who(), Rights: rights(),
			Where: where()}}})
		add(model.Estate{Guardrails: []model.Guardrail{{ID: fmt.Sprint("r", n),
			Node: model.MustPath("/s/unit:u1"), Rights: rights(), Unless: []model.ID{anybody()}}}})
	}
	for range r.IntN(8) {
		n := model.Node{Path: place()}
		if r.IntN(3) > 0 {
			n.Labels = map[string]string{"use": []string{"test", "real"}[r.IntN(2)]}
		}
		add(model.Estate{Nodes: []model.Node{n}})
	}
	for range r.IntN(3) * r.IntN(2) {
		h.sighted = append(h.sighted, model.Membership{Member: who(), Group: group()})
	}
	var of []bygone.Question
	var do []model.Permission
	for range 60 {
		q := bygone.Question{Who: who(), At: []model.Path{place()}}
		if r.IntN(4) == 0 {
			q.At = append(q.At, place()) // it was moved
		}
		of, do = append(of, q), append(do, perms[r.IntN(4)])
	}
	return h, of, do
}

// at puts a whole survey together.
func (h *history) at(survey int64) *model.Estate {
	e := &model.Estate{Source: "s"}
	for _, o := range h.records {
		if survey < o.first || survey > o.last {
			continue
		}
		e.Catalogue = append(e.Catalogue, o.Catalogue...)
		e.Nodes = append(e.Nodes, o.Nodes...)
		e.Memberships = append(e.Memberships, o.Memberships...)
		e.Roles = append(e.Roles, o.Roles...)
		e.Grants = append(e.Grants, o.Grants...)
		e.Denials = append(e.Denials, o.Denials...)
		e.Ceilings = append(e.Ceilings, o.Ceilings...)
		e.Guardrails = append(e.Guardrails, o.Guardrails...)
		if len(o.Semantics.Bypass) > 0 {
			e.Semantics = o.Semantics
		}
	}
	listed := slices.Clone(e.Memberships)
	for _, m := range h.sighted {
		if !slices.ContainsFunc(listed, func(o model.Membership) bool { return o.Group == m.Group }) {
			e.Memberships = append(e.Memberships, m)
		}
	}
	return e
}

func (h *history) asked(of []bygone.Question) *bygone.Records {
	r := bygone.New("s", h.surveys, of)
	for _, m := range h.sighted {
		r.Sighted(m.Member, m.Group)
	}
	for _, members := range []bool{true, false} { // memberships come first
		for i := range h.records {
			o := &h.records[i]
			switch {
			case members != (len(o.Memberships) > 0):
			case len(o.Semantics.Bypass) > 0:
				r.AddSemantics(o.Semantics, o.first, o.last)
			default:
				r.Add(&o.Estate, o.first, o.last)
			}
		}
	}
	return r
}

// allows reports whether an index lets a question's call through, on one of its places.
func allows(of []bygone.Question, do []model.Permission) func(*index.Index, int) bool {
	return func(x *index.Index, i int) bool {
		return slices.ContainsFunc(of[i].At, func(at model.Path) bool {
			return x.Decide(of[i].Who, do[i], at, model.Context{}).Outcome != access.Denied
		})
	}
}

// TestAsWholeSurveys: the answers are those of an index of each whole survey, on random histories.
func TestAsWholeSurveys(t *testing.T) {
	n := uint64(500)
	if testing.Short() {
		n = 100
	}
	yes, no := 0, 0
	for seed := range n {
		h, of, do := random(seed)
		is := allows(of, do)
		got, err := h.asked(of).Allowed(t.Context(), is)
		if err != nil {
			t.Fatal(err)
		}
		var whole []*index.Index
		for _, survey := range h.surveys {
			x, err := index.Build(h.at(survey))
			if err != nil {
				t.Fatal(err)
			}
			whole = append(whole, x)
		}
		for i := range of {
			want := slices.ContainsFunc(whole, func(x *index.Index) bool { return is(x, i) })
			if got[i] != want {
				t.Fatalf("seed %d: %s %s on %v: %v, and by whole surveys %v", seed, of[i].Who, do[i], of[i].At, got[i],
					want)
			}
			if want {
				yes++
			} else {
				no++
			}
		}
	}
	if yes < int(n)*5 || no < int(n)*5 {
		t.Errorf("%d are allowed and %d are not: too few of one", yes, no)
	}
}

// TestOnlyInTheMiddle: what one survey alone shows allowed is found, whatever it is that keeps it from being so in
// those before and after it.
func TestOnlyInTheMiddle(t *testing.T) {
	p, _ := model.ParsePermission("a/x:get")
	me, team, all := model.MustID("person/me"), model.MustID("group/team"), model.ID{Kind: model.SignedIn}
	box := model.MustPath("/s/unit:u/box:b")
	everywhere := []model.PathPattern{model.MustPathPattern("/s/**")}
	standing := model.Estate{Catalogue: model.Catalogue{{Permission: p, Level: model.Read}},
		Grants: []model.Grant{{ID: "g", To: me, Role: "reader", Where: everywhere}},
		Roles:  []model.Role{{Name: "reader", Rights: model.Permissions(p)}}}
	without := func(edit func(e *model.Estate)) model.Estate { e := standing; edit(&e); return e }
	some := func(to model.ID) []model.Grant {
		return []model.Grant{{ID: "g", To: to, Role: "reader", Where: everywhere}}
	}
	labelled := func(to string) []model.Grant {
		g := some(me)
		g[0].When.Labels = map[string]string{"use": to}
		return g
	}
	for _, c := range []struct {
		name        string
		always      model.Estate
		around, mid model.Estate // in all but the third survey, and in that alone
		sighted     bool
	}{
		{"a denial is lifted", standing, model.Estate{Denials: []model.Denial{{ID: "d", To: []model.ID{all},
			Rights: model.Permissions(p), Where: everywhere}}}, model.Estate{}, false},
		{"a ceiling is lifted", standing, model.Estate{Ceilings: []model.Ceiling{{ID: "c", Of: me,
			Where: everywhere}}}, model.Estate{}, false},
		{"a guardrail is lifted", standing, model.Estate{Guardrails: []model.Guardrail{{ID: "r",
			Node: model.MustPath("/s/unit:u")}}}, model.Estate{}, false},
		{"a grant", without(func(e *model.Estate) { e.Grants = nil }), model.Estate{},
			model.Estate{Grants: some(me)}, false},
		{"a grant to all", without(func(e *model.Estate) { e.Grants = nil }), model.Estate{},
			model.Estate{Grants: some(all)}, false},
		{"a role", without(func(e *model.Estate) { e.Roles = nil }),
			model.Estate{Roles: []model.Role{{Name: "reader"}}}, model.Estate{Roles: standing.Roles}, false},
		{"a role that a role includes", without(func(e *model.Estate) {
			e.Roles = []model.Role{{Name: "reader", Includes: []string{"looker"}}}
		}), model.Estate{}, model.Estate{Roles: []model.Role{{Name: "looker", Rights: model.Permissions(p)}}}, false},
		{"a membership", without(func(e *model.Estate) { e.Grants = some(team) }), model.Estate{},
			model.Estate{Memberships: []model.Membership{{Member: me, Group: team}}}, false},
		{"a group in a group", without(func(e *model.Estate) {
			e.Grants = some(team)
		}), model.Estate{Memberships: []model.Membership{{Member: me, Group: model.MustID("group/part")}}},
			model.Estate{Memberships: []model.Membership{{Member: me, Group: model.MustID("group/part")},
				{Member: model.MustID("group/part"), Group: team}}}, false},
		{"a log that shows a member, of a group that is listed else", without(func(e *model.Estate) {
			e.Grants = some(team)
		}), model.Estate{Memberships: []model.Membership{{Member: model.MustID("person/other"), Group: team}}},
			model.Estate{}, true},
		{"whom every check lets through", without(func(e *model.Estate) { e.Grants = nil }), model.Estate{},
			model.Estate{Semantics: model.Semantics{Bypass: []model.ID{me}}}, false},
		{"a label that a grant asks for", without(func(e *model.Estate) { e.Grants = labelled("test") }),
			model.Estate{Nodes: []model.Node{{Path: box, Labels: map[string]string{"use": "real"}}}},
			model.Estate{Nodes: []model.Node{{Path: box, Labels: map[string]string{"use": "test"}}}}, false},
		{"a label that a denial asks for", without(func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d", To: []model.ID{me}, Rights: model.Permissions(p), Where: everywhere,
				When: model.Condition{Labels: map[string]string{"use": "real"}}}}
		}), model.Estate{Nodes: []model.Node{{Path: box, Labels: map[string]string{"use": "real"}}}},
			model.Estate{Nodes: []model.Node{{Path: box, Labels: map[string]string{"use": "test"}}}}, false},
	} {
		for _, surveys := range [][]int64{{2, 4, 6, 8, 10}, {2, 4, 8, 10}} { // with the third and without it
			of := []bygone.Question{{Who: me, At: []model.Path{box}}}
			h := &history{surveys: surveys}
			add := func(e model.Estate, first, last int64) {
				parts := e
				parts.Memberships = nil
				h.records = append(h.records, record{model.Estate{Memberships: e.Memberships}, first, last},
					record{parts, first, last})
			}
			add(c.always, 1, math.MaxInt64)
			add(c.around, 1, 4)
			add(c.mid, 6, 6)
			add(c.around, 8, math.MaxInt64)
			if c.sighted {
				h.sighted = []model.Membership{{Member: me, Group: team}}
			}
			got, err := h.asked(of).Allowed(t.Context(), allows(of, []model.Permission{p}))
			if want := len(surveys) == 5; err != nil || got[0] != want {
				t.Errorf("%s: %v %v, and surveys %v", c.name, got, err, surveys)
			}
		}
	}
}

// TestFewAreBuilt: what somebody is asked about costs as many estates as something of its own changed, however
// many surveys there are and however many others something changed of.
func TestFewAreBuilt(t *testing.T) {
	p, _ := model.ParsePermission("a/x:get")
	everywhere := []model.PathPattern{model.MustPathPattern("/s/**")}
	me := model.MustID("person/me")
	of := []bygone.Question{{Who: me, At: []model.Path{model.MustPath("/s/box:b")}}}
	var surveys []int64
	for i := range int64(300) {
		surveys = append(surveys, i+1)
	}
	r := bygone.New("s", surveys, of)
	r.Add(&model.Estate{Catalogue: model.Catalogue{{Permission: p, Level: model.Read}}}, 1, math.MaxInt64)
	grant := func(to model.ID, first, last int64) {
		r.Add(&model.Estate{Grants: []model.Grant{{ID: fmt.Sprint(to, first), To: to, Rights: model.Permissions(p),
			Where: everywhere}}}, first, last)
	}
	for i := range int64(300) {
		grant(model.MustID(fmt.Sprint("person/other", i)), i+1, i+3)
	}
	grant(me, 100, 120)
	grant(me, 200, 200)
	asked := map[*index.Index]bool{}
	got, err := r.Allowed(t.Context(), func(x *index.Index, i int) bool {
		asked[x] = true
		return len(asked) == 6 // the first one is that of all that ever was, which has to allow it
	})
	if err != nil || got[0] || len(asked) != 1 {
		t.Errorf("%v %v, %d estates: what nothing ever allows is asked of one", got, err, len(asked))
	}
	clear(asked)
	if got, err = r.Allowed(t.Context(), func(x *index.Index, i int) bool {
		asked[x] = true
		return len(asked) == 1
	}); err != nil || got[0] || len(asked) != 6 {
		t.Errorf("%v %v, %d estates: one of all, and of five runs", got, err, len(asked))
	}
	if got, err = r.Allowed(t.Context(), allows(of, []model.Permission{p})); err != nil || !got[0] {
		t.Errorf("%v %v: a survey shows it allowed", got, err)
	}
}

// TestAllowedStops: asking stops when it is told to.
func TestAllowedStops(t *testing.T) {
	h, of, _ := random(1)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := h.asked(of).Allowed(ctx, func(*index.Index, int) bool { return true }); !errors.Is(err,
		context.Canceled) {
		t.Errorf("it was cancelled: %v", err)
	}
}
