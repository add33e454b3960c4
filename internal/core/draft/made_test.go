package draft

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

// TestBeside: drafts that are made in order hold one after the other as they are carried out: what a group in
// another one, somebody in it, or a crowd leaves to it is what its own draft keeps, and not what it is granted.
func TestBeside(t *testing.T) {
	const verbs = 6
	own := func(i int) model.Path { return in(i).Child("box", word(0)) }
	team := func(e *model.Estate) { // p0 and p1 are a team of all
		g := model.MustID("group/team")
		e.Identities = append(e.Identities, model.Identity{ID: g, Created: e.Identities[0].Created})
		e.Memberships = append(e.Memberships, model.Membership{Member: g, Group: model.MustID("group/all")},
			model.Membership{Member: model.MustID("person/p0"), Group: g},
			model.Membership{Member: model.MustID("person/p1"), Group: g})
	}
	var does []doer
	for i := range 24 {
		who := "person/p" + string(rune('0'+i%8))
		does = append(does, doer{who: who, verb: i % verbs, at: own(i % 12)},
			doer{who: who, verb: (i + 1) % verbs, at: own((i + 5) % 12), past: true})
	}
	for _, tt := range []struct {
		name  string
		other model.Grant // beside that of all to all
	}{
		{"a team of it", grantOf("h", "group/team", "/m/**")},
		{"somebody in it", grantOf("h", "person/p1", "/m/**")},
		{"a crowd", grantOf("h", "signed-in", "/m/**", 0, 1, 2)},
	} {
		life := worked(t, verbs, []int{3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3},
			[]model.Grant{grantOf("g", "group/all", "/m/**"), tt.other}, does, team)
		// What some did long ago goes: it is not worth its danger.
		res := gauge.Run(life)
		worth := NewWorth(life, res)
		ids := Candidates(life, res, worth)
		order := Order(res, life.Index, ids)
		if len(order) != len(ids) || order[0] != model.MustID("group/all") {
			t.Fatalf("%s: in the order %v", tt.name, order)
		}
		crowd := model.MustID("signed-in")
		if late := Order(res, life.Index, append([]model.ID{crowd}, ids...)); late[len(late)-1] != crowd {
			t.Errorf("%s: a crowd is not the last one: %v", tt.name, late)
		}
		o := Options{Caution: 1e-9, Worth: worth, Made: &Made{}}
		x := life.Index
		var all []*fence.Fence
		for _, id := range order {
			f, err := FromUse(life, res, id, o)
			if err != nil {
				t.Fatal(err)
			}
			if err := o.Made.Add(life.Index, f); err != nil {
				t.Fatal(err)
			}
			all = append(all, f)
			r, err := rehearse.Run(x, f, life.Uses, res.Placement, life.Weights)
			if err != nil || !r.OK() {
				t.Errorf("%s: %s does not hold once the others are carried out: %v %+v", tt.name, id, err, r.Broken)
			}
			if x, err = x.With(f.Edit("m")); err != nil {
				t.Fatal(err)
			}
		}
		last := all[len(all)-1]
		if len(all) != 2 || !slices.Contains(last.Replaces, "h") {
			t.Errorf("%s: %d drafts, the last one %+v", tt.name, len(all), last)
		}
		r, err := rehearse.Run(life.Index, last, life.Uses, res.Placement, life.Weights)
		if err != nil || !r.OK() {
			t.Errorf("%s: %s does not hold alone: %v %+v", tt.name, last.For, err, r.Broken)
		}
	}
}

// TestLeftTo: what a crowd leaves to somebody's group is what the draft for that keeps for all its members.
func TestLeftTo(t *testing.T) {
	life := worked(t, 2, []int{1, 1}, []model.Grant{grantOf("g", "group/all", "/m/**"),
		grantOf("c", "signed-in", "/m/**")}, []doer{{who: "person/p", at: in(0).Child("box", word(0))}})
	res := gauge.Run(life)
	allow := func(a fence.Allow, verbs ...int) fence.Allow {
		a.Where = []model.PathPattern{in(0).Below()}
		a.Do = grantOf("", "everyone", "/m/**", verbs...).Do
		return a
	}
	for _, tt := range []struct {
		name string
		line fence.Allow
		want string // where verb 0 is left to the group
	}{
		{"a line for all", allow(fence.Allow{}, 0), "[/m/project:aaaa/**]"},
		{"of something else", allow(fence.Allow{}, 1), "[]"},
		{"for itself", allow(fence.Allow{To: model.MustID("person/p")}, 0), "[/m/project:aaaa/**]"},
		{"for another member", allow(fence.Allow{To: model.MustID("person/q")}, 0), "[]"},
		{"under a condition", allow(fence.Allow{When: model.Condition{SecondFactor: true}}, 0), "[]"},
		{"that ends", allow(fence.Allow{Until: life.AsOf.AddDate(0, 1, 0)}, 0), "[]"},
	} {
		made := &Made{}
		if err := made.Add(life.Index, &fence.Fence{For: model.MustID("group/all"), Replaces: []string{"g"},
			Allow: []fence.Allow{tt.line}}); err != nil {
			t.Fatal(err)
		}
		crowd, perm := res.Grants[1], 0
		for i, c := range []*Made{made, nil} {
			d := &drafter{in: life, r: res, x: life.Index, o: Options{Made: c},
				besides: map[reach][]model.PathPattern{}}
			got := fmt.Sprint(d.elsewhere(crowd, model.MustID("person/p"), perm))
			if want := []string{tt.want, "[/m/**]"}[i]; got != want {
				t.Errorf("%s, made %t: left to the group on %s, want %s", tt.name, c != nil, got, want)
			}
		}
	}
	// Nothing is left to a group that somebody leaves.
	made := &Made{}
	if err := made.Add(life.Index, &fence.Fence{For: model.MustID("person/p"),
		Leaves: []model.ID{model.MustID("group/all")}}); err != nil {
		t.Fatal(err)
	}
	d := &drafter{in: life, r: res, x: life.Index, o: Options{Made: made}, besides: map[reach][]model.PathPattern{}}
	if got := d.elsewhere(res.Grants[1], model.MustID("person/p"), 0); len(got) > 0 {
		t.Errorf("left to the group that it leaves: %v", got)
	}
}

// TestOwnElsewhere: what one member of a group alone uses, and has by a grant of its own as well, is no line of the
// group's draft where both are drafted: its own draft comes later, and keeps it. A draft alone keeps it.
func TestOwnElsewhere(t *testing.T) {
	var does []doer
	for i := range 8 {
		does = append(does, doer{who: fmt.Sprint("person/p", i), at: in(0).Child("box", word(0))})
	}
	does = append(does, doer{who: "person/p0", verb: 1, at: in(1).Child("box", word(1))})
	for _, tt := range []struct {
		name   string
		grants []model.Grant
		alone  bool // the draft of the group, with nothing beside it
		want   bool // whether the group's draft has a line for that member
	}{
		{"both", []model.Grant{grantOf("h", "person/p0", "/m/**")}, false, false},
		{"alone", []model.Grant{grantOf("h", "person/p0", "/m/**")}, true, true},
		{"it has no more than the group", []model.Grant{grantOf("h", "person/p0", "/m/**", 0, 1)}, false, true},
		{"it has nothing else", nil, false, true},
		{"it has it elsewhere", []model.Grant{grantOf("h", "person/p0", in(0).Below().String())}, false, true},
		{"the group has it twice", []model.Grant{grantOf("h", "group/all", in(1).Below().String())}, false, true},
	} {
		life := worked(t, 3, []int{4, 4, 4, 4}, append(tt.grants, grantOf("g", "group/all", "/m/**", 0, 1, 2)),
			does)
		res := gauge.Run(life)
		o := Options{Caution: 0.01, Worth: NewWorth(life, res)}
		var all []*fence.Fence
		var err error
		if tt.alone {
			all = make([]*fence.Fence, 1)
			all[0], err = FromUse(life, res, model.MustID("group/all"), o)
		} else {
			all, err = Everybody(life, res, o)
		}
		if err != nil {
			t.Fatal(err)
		}
		got := false
		for _, l := range all[0].Allow {
			got = got || l.To == model.MustID("person/p0")
		}
		if got != tt.want || all[0].For.Kind != model.Group {
			t.Errorf("%s: a line for the member %t, want %t:\n%+v", tt.name, got, tt.want, all[0].Allow)
		}
		j, err := rehearse.Together(life.Index, all, life.Uses, res.Placement, life.Weights)
		if err != nil || len(j.Broken) > 0 {
			t.Errorf("%s: together they break %+v, %v", tt.name, j.Broken, err)
		}
	}
}

// TestLast: the last person who can hand out rights somewhere keeps that there, and nothing else of what it
// does not use; of two who can, the one who is drafted later.
func TestLast(t *testing.T) {
	const verbs = 3 // the one after them hands out rights
	does := []doer{{who: "person/a", at: in(0).Child("box", word(0))},
		{who: "person/b", at: in(1).Child("box", word(0))}}
	a, b := grantOf("a", "person/a", "/m/**"), grantOf("b", "person/b", in(1).Below().String())
	wide := grantOf("b", "person/b", "/m/**")
	robot := grantOf("b", "workload/w", "/m/**")
	busy := grantOf("b", "person/b", "/m/**")
	busy.When = model.Condition{SecondFactor: true}
	for _, tt := range []struct {
		name   string
		grants []model.Grant
		keeps  []string // for whom it stays, and where
		more   []doer
	}{
		{"one alone", []model.Grant{a}, []string{"person/a [/m/**]"}, nil},
		{"who does it somewhere", []model.Grant{a}, []string{"person/a [/m/**]"},
			[]doer{{who: "person/a", verb: verbs, at: in(0)}}},
		{"another one on a part, which is drafted later", []model.Grant{a, b},
			[]string{"person/a [/m/project:aaaa/**]", "person/b [/m/project:baaa/**]"}, nil},
		{"another one everywhere", []model.Grant{a, wide}, []string{"person/b [/m/**]"}, nil},
		{"by two grants, each where it is", []model.Grant{grantOf("a", "person/a", in(0).Below().String()),
			grantOf("c", "person/a", in(1).Below().String())}, []string{"person/a [/m/project:aaaa/**]",
			"person/a [/m/project:baaa/**]"}, nil},
		{"a workload does not count", []model.Grant{a, robot}, []string{"person/a [/m/**]"}, nil},
		{"nor who may on a condition", []model.Grant{a, busy}, []string{"person/a [/m/**]"}, nil},
	} {
		all := append(tt.more, does...)
		life := worked(t, verbs, []int{2, 2}, slices.Clone(tt.grants), all, func(e *model.Estate) {
			c := &e.Catalogue[verbs]
			c.Escalates, c.Kinds = model.EditGrants, []string{"project"}
			e.Memberships = nil
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID("workload/w"),
				Created: e.Identities[0].Created})
		})
		res := gauge.Run(life)
		o := Options{Caution: 1e-9, Worth: NewWorth(life, res), Made: &Made{}}
		var keeps []string
		for _, id := range []string{"person/a", "person/b"} {
			f, err := FromUse(life, res, model.MustID(id), o)
			if errors.Is(err, ErrNothing) {
				continue
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := o.Made.Add(life.Index, f); err != nil {
				t.Fatal(err)
			}
			for _, l := range f.Allow {
				if slices.ContainsFunc(l.Do, func(p model.PermissionPattern) bool { return p.Matches(verb(verbs)) }) {
					keeps = append(keeps, fmt.Sprint(id, " ", l.Where))
					if l.Evidence.Class != "last" || len(l.Do) != 1 {
						t.Errorf("%s: %s keeps %v on %v: %s", tt.name, id, l.Do, l.Where, l.Evidence.Class)
					}
				}
			}
		}
		if !slices.Equal(keeps, tt.keeps) {
			t.Errorf("%s: %v, want %v", tt.name, keeps, tt.keeps)
		}
	}
}

// TestLastIsWhoDoes: where several can hand out rights, each on everything, it stays with the one who does, and
// neither with a group of all nor with somebody who never did, in whatever order their drafts are asked for.
func TestLastIsWhoDoes(t *testing.T) {
	const verbs = 3 // the one after them hands out rights
	people := []string{"person/a", "person/b", "person/c"}
	for i, who := range people {
		does := []doer{{who: who, verb: verbs, at: in(0), past: true}}
		grants := []model.Grant{grantOf("all", "group/all", "/m/**")}
		for k, id := range people {
			does = append(does, doer{who: id, at: in(k%2).Child("box", word(0))})
			grants = append(grants, grantOf(id, id, "/m/**"))
		}
		life := worked(t, verbs, []int{2, 2}, grants, does, func(e *model.Estate) {
			c := &e.Catalogue[verbs]
			c.Escalates, c.Kinds = model.EditGrants, []string{"project"}
		})
		res := gauge.Run(life)
		ids := []model.ID{model.MustID("group/all")}
		for k := range people {
			ids = append(ids, model.MustID(people[(i+k)%len(people)]))
		}
		order := Order(res, life.Index, ids)
		slices.Reverse(ids)
		for _, o := range [][]model.ID{order, Order(res, life.Index, ids)} {
			if len(o) != 4 || o[0] != model.MustID("group/all") || o[3] != model.MustID(who) {
				t.Errorf("%s hands out rights, and they come as %v", who, o)
			}
		}
		all, err := Everybody(life, res, Options{Caution: 1e-9})
		if err != nil {
			t.Fatal(err)
		}
		var keeps []string
		for _, f := range all {
			for _, l := range f.Allow {
				if slices.ContainsFunc(l.Do, func(p model.PermissionPattern) bool { return p.Matches(verb(verbs)) }) {
					keeps = append(keeps, f.For.Name)
				}
			}
		}
		if len(all) != 4 || !slices.Equal(slices.Compact(keeps), []string{who[len("person/"):]}) {
			t.Errorf("%s hands out rights: of %d drafts it stays with %v", who, len(all), keeps)
		}
	}
}
