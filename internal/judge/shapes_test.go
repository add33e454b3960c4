package judge

import (
	"fmt"
	"slices"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/model"
)

// shape is an estate that is large in one way, and what is to be asked of it.
type shape struct {
	name  string
	build func(e *model.Estate, small bool)
	who   []string
	paths []string
}

func grantTo(e *model.Estate, id, to, do, on string) {
	e.Grants = append(e.Grants, model.Grant{ID: id, To: model.MustID(to),
		Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(do)}},
		Where:  []model.PathPattern{model.MustPathPattern(on)}})
}

var shapes = []shape{
	{"two hundred nested groups", func(e *model.Estate, _ bool) {
		for i := range 200 {
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(fmt.Sprintf("group/g%d", i))})
			member := "person/p"
			if i > 0 {
				member = fmt.Sprintf("group/g%d", i-1)
			}
			e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID(member),
				Group: model.MustID(fmt.Sprintf("group/g%d", i))})
		}
		grantTo(e, "g", "group/g199", "svc0/n0:v0", "/l/harbour:o/**")
	}, []string{"person/p", "group/g5"}, []string{"/l/harbour:o/a:b"}},
	{"a cycle through 1,000 identities", func(e *model.Estate, _ bool) {
		for i := range 1000 {
			a, b := fmt.Sprintf("workload/w%d", i), fmt.Sprintf("workload/w%d", (i+1)%1000)
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(a)},
				model.Identity{ID: model.MustID(fmt.Sprintf("group/g%d", i))})
			e.ActAs = append(e.ActAs, model.ActAs{ID: fmt.Sprint(i), From: model.MustID(a), To: model.MustID(b)})
			e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID(fmt.Sprintf("group/g%d", i)),
				Group: model.MustID(fmt.Sprintf("group/g%d", (i+1)%1000))})
		}
		e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID("workload/w3"),
			Group: model.MustID("group/g7")})
		grantTo(e, "g", "group/g6", "svc0/n0:*", "/l/harbour:o/a:b")
	}, []string{"workload/w3", "workload/w999", "group/g500"}, []string{"/l/harbour:o/a:b", "/l/harbour:o"}},
	{"a node with a million children", func(e *model.Estate, small bool) {
		n := 1_000_000
		if small {
			n = 20_000
		}
		for i := range n {
			e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/l/harbour:o/a:%07d", i))})
		}
		grantTo(e, "g", "person/p", "svc0/*:*", "/l/harbour:o/**")
		grantTo(e, "h", "person/p", "svc1/*:*", "/l/harbour:o/a:0000123")
		grantTo(e, "i", "person/p", "svc2/*:*", "/l/harbour:o/a:00001*")
	}, []string{"person/p"}, []string{"/l/harbour:o/a:0000123", "/l/harbour:o/a:0000124", "/l/harbour:o/a:0019999",
		"/l/harbour:o/a:x"}},
	{"a role with every permission", func(e *model.Estate, _ bool) {
		e.Roles = append(e.Roles, model.Role{Name: "all",
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("*")}}})
		e.Grants = append(e.Grants, model.Grant{ID: "g", To: model.MustID("person/p"), Role: "all",
			Where: []model.PathPattern{model.MustPathPattern("/l/harbour:o/**")}})
	}, []string{"person/p"}, []string{"/l/harbour:o", "/l/harbour:o/x"}},
	{"10,000 grants on one resource", func(e *model.Estate, _ bool) {
		for i := range 10_000 {
			id := fmt.Sprintf("person/q%d", i%2000)
			if i < 2000 {
				e.Identities = append(e.Identities, model.Identity{ID: model.MustID(id)})
			}
			grantTo(e, fmt.Sprint(i), id, fmt.Sprintf("svc%d/n0:v%d", i%4, i%20), "/l/harbour:o/a:b/**")
		}
	}, []string{"person/q1", "person/q1999", "person/p"}, []string{"/l/harbour:o/a:b", "/l/harbour:o/a:b/c"}},
	{"an identity with 5,000 memberships", func(e *model.Estate, _ bool) {
		for i := range 5000 {
			g := fmt.Sprintf("group/g%d", i)
			e.Identities = append(e.Identities, model.Identity{ID: model.MustID(g)})
			e.Memberships = append(e.Memberships, model.Membership{Member: model.MustID("person/p"),
				Group: model.MustID(g)})
			grantTo(e, fmt.Sprint(i), g, fmt.Sprintf("svc%d/n%d:v%d", i%4, i%50, i%20),
				fmt.Sprintf("/l/harbour:o/a:%d/**", i%700))
		}
	}, []string{"person/p", "group/g17"}, []string{"/l/harbour:o/a:17", "/l/harbour:o/a:699/x", "/l/harbour:o"}},
}

func (s *shape) estate(small bool) *model.Estate {
	e := &model.Estate{Source: "l", Nodes: []model.Node{{Path: model.MustPath("/l/harbour:o")}},
		Identities: []model.Identity{{ID: model.MustID("person/p")}}}
	for i := range 12_000 { // 12 services of 50 nouns of 20 verbs
		e.Catalogue = append(e.Catalogue,
			model.CatalogueEntry{Permission: model.MustPermission(fmt.Sprintf("svc%d/n%d:v%d", i/1000, i/20%50, i%20)),
				Level: model.Level(1 + i%5)})
	}
	s.build(e, small)
	return e
}

// TestHardShapes holds the index against the plain engine where an estate is large in
// one way.
func TestHardShapes(t *testing.T) {
	for _, s := range shapes {
		t.Run(s.name, func(t *testing.T) {
			e := s.estate(true)
			plain := plain.New(e)
			x, err := index.Build(e)
			if err != nil {
				t.Fatal(err)
			}
			some := 0
			for _, who := range s.who {
				id := model.MustID(who)
				want := 0
				if len(e.ActAs) > 0 && id.Kind == model.Workload { // everybody else in the cycle
					want = len(e.ActAs) - 1
				}
				if got := len(x.Masks(id)); got != want {
					t.Errorf("%s can act as %d, want %d", who, got, want)
				}
				for _, at := range s.paths {
					path := model.MustPath(at)
					a := x.Effective(id, path)
					some += a.Certain.Count()
					for i := 0; i < len(e.Catalogue); i += 401 {
						p := e.Catalogue[i].Permission
						want, got := told(plain.Decide(id, p, path, model.Context{})), told(x.Decide(id, p, path,
							model.Context{}))
						if want != got {
							t.Fatalf("%s %s %s:\nplain: %s\nindex: %s", who, p, at, want, got)
						}
					}
				}
				var pairs uint64
				swept := newSweep(plain)
				closure := plain.Closure(id)
				for i, n := range e.Nodes {
					if len(e.Nodes) < 1000 || i%97 == 0 {
						certain, _ := swept.effective(closure, n.Path)
						pairs += uint64(certain.Count())
					}
				}
				total := x.NewWalk(index.Certain).Totals(id)
				sum := uint64(0)
				for _, n := range total.Pairs {
					sum += n
				}
				if len(e.Nodes) < 1000 && sum != pairs || sum < pairs {
					t.Errorf("%s has %d pairs, want %d", who, sum, pairs)
				}
			}
			if some == 0 {
				t.Error("nobody may do anything: this says nothing")
			}
			if len(e.ActAs) > 0 { // the plain engine takes minutes to ask everybody in it
				who := x.Who(model.MustPermission("svc0/n0:v0"), model.MustPath(s.paths[0]))
				if len(who) != 1 || x.ID(who[0].Identity) != model.MustID("workload/w3") {
					t.Errorf("%d may, want the one who is in a group", len(who))
				}
				return
			}
			for _, at := range s.paths {
				for _, p := range []string{"svc0/n0:v0", "svc1/n0:v1", "svc3/n3:v3"} {
					whoAgrees(t, 0, plain, x, model.MustPermission(p), model.MustPath(at))
				}
			}
		})
	}
}

// BenchmarkHardShapes asks the same at full size.
func BenchmarkHardShapes(b *testing.B) {
	for _, s := range shapes {
		e := s.estate(false)
		x, err := index.Build(e)
		if err != nil {
			b.Fatal(err)
		}
		id, path := model.MustID(s.who[0]), model.MustPath(s.paths[0])
		p := e.Catalogue[slices.IndexFunc(e.Catalogue,
			func(c model.CatalogueEntry) bool {
				return c.Permission == model.MustPermission(
					"svc0/n0:v0")
			})].Permission
		b.Run(s.name+"/why", func(b *testing.B) {
			for b.Loop() {
				x.Decide(id, p, path, model.Context{})
			}
		})
		b.Run(s.name+"/who", func(b *testing.B) {
			for b.Loop() {
				x.Who(p, path)
			}
		})
		b.Run(s.name+"/sums", func(b *testing.B) {
			w := x.NewWalk(index.Possible)
			for b.Loop() {
				w.Totals(id)
			}
		})
	}
}
