package draft

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// halfLogged is a life of sixty programs that may do everything with what is in twelve projects: each
// works in three of them all the time, and every tenth also clears up there. In the first project
// no log shows clearing up, of reading no log shows anything anywhere.
func halfLogged(t *testing.T) *gauge.Input {
	t.Helper()
	e, f, now := halfLog()
	return lived(t, e, f, now)
}

// halfLog is the estate of halfLogged, and what is done there.
func halfLog() (*model.Estate, usage.Fold, time.Time) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	box := func(project, box int) model.Path {
		return model.MustPath(fmt.Sprintf("/m/org:o/project:p%d/box:%c", project, 'a'+box))
	}
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")},
		{Path: model.MustPath("/m/org:o")}}}
	for i, verb := range []string{"read", "put", "clear"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level:    []model.Level{model.Read, model.Change, model.Administer}[i],
			LogClass: verb, Kinds: []string{"box"}})
	}
	e.Roles = []model.Role{{Name: "all", Rights: model.Rights{
		Do: []model.PermissionPattern{model.MustPermissionPattern("s/box:*")}}}}
	for p := range 12 {
		project := model.MustPath(fmt.Sprintf("/m/org:o/project:p%d", p))
		e.Nodes = append(e.Nodes, model.Node{Path: project})
		for b := range 5 {
			e.Nodes = append(e.Nodes, model.Node{Path: box(p, b)})
		}
		for _, class := range []string{"read", "put", "clear"} {
			e.Coverage = append(e.Coverage, model.CoverageRecord{Node: project, Service: "s", LogClass: class,
				Written: class == "put" || class == "clear" && p > 0})
		}
	}
	f := usage.Fold{}
	for i := range 60 {
		id := model.MustID(fmt.Sprint("workload/w", i))
		e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
		e.Grants = append(e.Grants, model.Grant{ID: fmt.Sprint("g", i), To: id, Role: "all",
			Where: []model.PathPattern{model.MustPathPattern("/m/org:o/**")}, Created: now.AddDate(-2, 0, 0)})
		for d := 399 - i%3; d >= 0; d -= 3 {
			for _, p := range []int{i % 12, (i + 5) % 12, (i + 7) % 12} {
				for _, verb := range []string{"put", "clear"} {
					if verb == "clear" && (i%10 > 0 || p == 0) {
						continue
					}
					f.Add(usage.Call{Time: now.AddDate(0, 0, -d), Identity: id, Path: box(p, i%5),
						Permission: model.MustPermission("s/box:" + verb), Outcome: usage.Done})
				}
			}
		}
	}
	return e, f, now
}

// lived is an estate with what was done on it in 400 days.
func lived(t *testing.T, e *model.Estate, f usage.Fold, now time.Time) *gauge.Input {
	t.Helper()
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	begin := now.AddDate(0, 0, -400)
	return &gauge.Input{Index: x, Uses: usage.ListOf(f.Uses()...), AsOf: now, Window: 90, History: begin,
		Coverage: usage.NewCoverage(e.Coverage, usage.Read{First: begin, Ends: []time.Time{now}, Until: now})}
}

// TestPowerInTheDark: what has power goes where no log shows it of those who do nothing like it
// where logs are on, which is said so; whoever does keeps it where it works; and what no log
// shows anywhere stays, since nobody knows who does it.
func TestPowerInTheDark(t *testing.T) {
	in := halfLogged(t)
	res := gauge.Run(in)
	worth := NewWorth(in, res)
	permits := func(f *fence.Fence, verb, path string) bool {
		return slices.ContainsFunc(f.Allow, func(a fence.Allow) bool {
			do := a.Role == "all" || slices.ContainsFunc(a.Do, func(p model.PermissionPattern) bool {
				return p.Matches(model.MustPermission("s/box:" + verb))
			})
			return do && slices.ContainsFunc(a.Where, func(on model.PathPattern) bool {
				return on.Matches(model.MustPath(path))
			})
		})
	}
	const dark, lit = "/m/org:o/project:p0/box:a", "/m/org:o/project:p11/box:e"
	for _, tt := range []struct {
		who           string
		o             Options
		clears, reads bool // in the dark
		unseen        string
	}{
		// The first works there and clears nowhere, the second works elsewhere.
		{"workload/w12", Options{}, false, true, "[s/box:clear] [/m/org:o/project:p0/**]"},
		{"workload/w13", Options{}, false, true, "[s/box:clear] [/m/org:o/project:p0/**]"},
		{"workload/w0", Options{}, true, true, "[] []"}, // works there, and clears elsewhere
		{"workload/w12", Options{KeepUnobservable: true}, true, true, "[] []"},
		{"workload/w12", Options{GiveUpUnobservable: true}, false, false, "[] []"},
	} {
		tt.o.Worth = worth
		f, err := FromUse(in, res, model.MustID(tt.who), tt.o)
		if err != nil {
			t.Fatal(err)
		}
		what, where := f.Unseen()
		if got := fmt.Sprint(what, where); got != tt.unseen {
			t.Errorf("%s, %+v: for a decision: %s, want %s", tt.who, tt.o, got, tt.unseen)
		}
		if permits(f, "clear", dark) != tt.clears || permits(f, "read", dark) != tt.reads ||
			permits(f, "read", lit) != tt.reads || permits(f, "clear", lit) {
			t.Errorf("%s, %+v: clears in the dark %t, reads there %t, want %t, %t; reads elsewhere %t, clears %t:\n%v",
				tt.who, tt.o, permits(f, "clear", dark), permits(f, "read", dark), tt.clears, tt.reads,
				permits(f, "read", lit), permits(f, "clear", lit), f.Allow)
		}
	}
}

// TestAllDark: a grant of which no log shows anything is judged as the dark places of others are: whoever goes on, and
// holds only such besides, is drafted for when all are; and nobody is where nothing was learned of the dark.
func TestAllDark(t *testing.T) {
	for _, known := range []bool{true, false} {
		e, f, now := halfLog()
		if !known {
			f = usage.Fold{}
		}
		id := model.MustID("workload/blind")
		e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
		for i, on := range []string{"/m/org:o/project:p0/**", "/m/org:o/project:p1/box:a/**"} {
			g := grantOf(fmt.Sprint("b", i), id.String(), on)
			g.Role, g.Created = "", now.AddDate(-2, 0, 0)
			g.Do = []model.PermissionPattern{model.MustPermissionPattern([]string{"s/box:clear", "s/box:put"}[i])}
			e.Grants = append(e.Grants, g)
		}
		for d := range 200 {
			f.Add(usage.Call{Time: now.AddDate(0, 0, -d), Identity: id, Outcome: usage.Done,
				Path: model.MustPath("/m/org:o/project:p1/box:a"), Permission: model.MustPermission("s/box:put")})
		}
		life := lived(t, e, f, now)
		res := gauge.Run(life)
		worth := NewWorth(life, res)
		if worth.model.KnowsDark(model.Administer) != known || res.Of(id).State != gauge.Active {
			t.Fatalf("known %t, %s", worth.model.KnowsDark(model.Administer), res.Of(id).State)
		}
		if got := slices.Contains(Candidates(life, res, worth), id); got != known {
			t.Errorf("the dark is known %t: drafted for %t", known, got)
		}
	}
}

// TestMuchUsed: of a group of many whose members read each its own boxes, and of one who reads very
// many, every box stays that was read lately, and what nobody read goes.
func TestMuchUsed(t *testing.T) {
	for _, tt := range []struct{ members, boxes int }{{300, 300}, {1, 700}, {30, 900}} {
		in := readers(t, tt.members, tt.boxes)
		x := in.Index
		f, err := FromUse(in, gauge.Run(in), model.MustID("group/all"), Options{Caution: 1e-9})
		if err != nil {
			t.Fatal(err)
		}
		after, err := x.With(f.Edit("m"))
		if err != nil {
			t.Fatal(err)
		}
		may := func(i, on int, verb string) bool {
			who := model.MustID(fmt.Sprint("person/p", i%tt.members))
			return after.Decide(who, model.MustPermission("s/box:"+verb), box(on),
				model.Context{}).Outcome == access.Allowed
		}
		lost, left := 0, 0
		for i := range tt.boxes {
			if !may(i, i, "read") {
				lost++
			}
			if may(i, i+tt.boxes, "read") || may(i, i, "clear") {
				left++
			}
		}
		if lost > 0 || left > 0 {
			t.Errorf("%v: of %d boxes that are read every week %d are refused, and %d of others are not", tt, tt.boxes,
				lost, left)
		}
	}
}

// readers is a life of the members of one group, each of whom reads its own of some boxes every
// week; as many boxes again are nobody's.
func readers(t *testing.T, members, boxes int) *gauge.Input {
	t.Helper()
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	group := model.MustID("group/all")
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Identities: []model.Identity{{ID: group, Created: now.AddDate(-3, 0, 0)}},
		Grants: []model.Grant{{ID: "g", To: group, Role: "all", Created: now.AddDate(-2, 0, 0),
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}},
		Roles: []model.Role{{Name: "all", Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern("s/box:*")}}}},
		Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "all", Written: true}}}
	for i, verb := range []string{"read", "clear", "put"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level: []model.Level{model.Change, model.HandOut, model.Change}[i], Kinds: []string{"box"},
			LogClass: []string{"all", "all", "put"}[i]})
	}
	for p := range projects {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/m/project:p%d", p))})
	}
	for i := range members {
		id := model.MustID(fmt.Sprint("person/p", i))
		e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
		e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: group})
	}
	f := usage.Fold{}
	for i := range 2 * boxes {
		e.Nodes = append(e.Nodes, model.Node{Path: box(i)})
		for d := 300 - i%7; d >= 0 && i < boxes; d -= 7 {
			f.Add(usage.Call{Time: now.AddDate(0, 0, -d), Path: box(i), Outcome: usage.Done,
				Identity:   model.MustID(fmt.Sprint("person/p", i%members)),
				Permission: model.MustPermission("s/box:read")})
		}
	}
	return lived(t, e, f, now)
}

// projects is how many there are, which boxes are in turn by turn.
const projects = 240

func box(i int) model.Path {
	return model.MustPath(fmt.Sprintf("/m/project:p%d/box:%s", i%projects, word(i)))
}

// word returns a name without a number in it, another one for each i.
func word(i int) string {
	s := ""
	for range 4 {
		s += string(rune('a' + i%26))
		i /= 26
	}
	return s
}

// TestRecalled: drafts from what was learned before are those of what is learned now, and what
// cannot be read is learned anew.
func TestRecalled(t *testing.T) {
	in := halfLogged(t)
	res := gauge.Run(in)
	worth := NewWorth(in, res)
	learned, err := worth.Learned()
	if err != nil {
		t.Fatal(err)
	}
	again, anew := WorthOf(in, res, learned)
	if anew {
		t.Error("it was learned anew")
	}
	for i := range 60 {
		id := model.MustID(fmt.Sprint("workload/w", i))
		was, err1 := FromUse(in, res, id, Options{Worth: worth})
		is, err2 := FromUse(in, res, id, Options{Worth: again})
		if fmt.Sprintf("%+v %v", was, err1) != fmt.Sprintf("%+v %v", is, err2) {
			t.Fatalf("%s:\n%+v %v\n%+v %v", id, was, err1, is, err2)
		}
	}
	for _, bad := range [][]byte{nil, {}, []byte("{}"), learned[:len(learned)/2]} {
		if w, anew := WorthOf(in, res, bad); !anew || w == nil {
			t.Errorf("%.20q was taken for what was learned", bad)
		}
	}
}

// TestManyInTheDark: of a large group each member keeps reading where it works, also where no log
// shows it and nobody else works.
func TestManyInTheDark(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	group := model.MustID("group/all")
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Identities: []model.Identity{{ID: group, Created: now.AddDate(-3, 0, 0)}},
		Grants: []model.Grant{{ID: "g", To: group, Role: "all", Created: now.AddDate(-2, 0, 0),
			Where: []model.PathPattern{model.MustPathPattern("/m/**")}}},
		Roles: []model.Role{{Name: "all", Rights: model.Rights{
			Do: []model.PermissionPattern{model.MustPermissionPattern("s/box:*")}}}}}
	for _, verb := range []string{"read", "put"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission("s/box:" + verb),
			Level: model.Change, Kinds: []string{"box"}, LogClass: verb})
	}
	for p := range 60 { // reading is logged in those from 4 on, of which most are nobody's
		at := model.MustPath(fmt.Sprintf("/m/project:%s", word(p)))
		e.Nodes = append(e.Nodes, model.Node{Path: at})
		for b := range 10 {
			e.Nodes = append(e.Nodes, model.Node{Path: at.Child("box", word(10*p+b))})
		}
		for _, class := range []string{"read", "put"} {
			e.Coverage = append(e.Coverage, model.CoverageRecord{Node: at, Service: "s", LogClass: class,
				Written: class == "put" || p > 3})
		}
	}
	f, works := usage.Fold{}, map[model.ID]model.Path{}
	for i := range 320 {
		id := model.MustID(fmt.Sprintf("person/p%03d", i))
		project := 0 // where most of those are of whom no log shows that they read
		switch {
		case i >= 200:
			project = 4 + i%6
		case i <= 3:
			project = i
		}
		works[id] = model.MustPath(fmt.Sprintf("/m/project:%s", word(project))).Child("box", word(10*project+i%5))
		e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(-3, 0, 0)})
		e.Memberships = append(e.Memberships, model.Membership{Member: id, Group: group})
		for d := 390 - i%7; d >= 0; d -= 7 {
			for _, verb := range []string{"read", "put"} {
				if verb == "put" || project > 3 {
					f.Add(usage.Call{Time: now.AddDate(0, 0, -d), Identity: id, Path: works[id], Outcome: usage.Done,
						Permission: model.MustPermission("s/box:" + verb)})
				}
			}
		}
	}
	in := lived(t, e, f, now)
	x := in.Index
	fe, err := FromUse(in, gauge.Run(in), group, Options{Caution: Bold})
	if err != nil {
		t.Fatal(err)
	}
	after, err := x.With(fe.Edit("m"))
	if err != nil {
		t.Fatal(err)
	}
	read, lost := model.MustPermission("s/box:read"), 0
	for id, at := range works {
		if after.Decide(id, read, at, model.Context{}).Outcome != access.Allowed {
			lost++
		}
	}
	nobodys := model.MustPath("/m/project:"+word(50)).Child("box", word(500))
	if left := after.Decide(model.MustID("person/p000"), read, nobodys, model.Context{}).Outcome; lost > 0 ||
		left == access.Allowed {
		t.Errorf("%d of %d can no longer read where they work, and %s where nobody does:\n%v", lost, len(works), left,
			fe.Allow)
	}
}
