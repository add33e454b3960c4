package main

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"clipfence/internal/core/model"
)

// sizes of the whole estate; a share of it has that share of each.
const (
	nodes       = 2_000_000
	identities  = 50_000
	groups      = 5_000
	permissions = 12_000
	roles       = 3_000
	grants      = 300_000
	denials     = 5_000
	guardrails  = 500
)

var (
	nouns = []string{"account", "bucket", "table", "topic", "machine", "image", "key", "rule", "job", "report"}
	verbs = []string{"list", "get", "read", "create", "update", "delete", "attach", "detach", "start", "stop",
		"export", "import", "tag", "untag", "lock", "unlock", "share", "grant", "audit", "reset"}
	levels = map[string]model.Level{"list": model.See, "get": model.Read, "read": model.Read, "export": model.Read,
		"audit": model.Read, "delete": model.Administer, "lock": model.Administer, "unlock": model.Administer,
		"share": model.Administer, "reset": model.Administer, "grant": model.HandOut}
)

// generate makes an estate of one part in so many of the whole, from a seed: an
// organisation of units of projects of resources, with groups that nest, and about
// 900 grants an identity at any size.
func generate(part int, seed uint64) *model.Estate {
	r := rand.New(rand.NewPCG(seed, 7))
	e := &model.Estate{Source: "large"}
	cut := func(n int) int { return max(1, n/part) }
	pick := func(n int) int { return r.IntN(n) }
	perms := catalogue(e, max(2000, cut(permissions)))
	services := len(perms)

	root := model.MustPath("/large/harbour:o")
	node := func(p model.Path) model.Path { e.Nodes = append(e.Nodes, model.Node{Path: p}); return p }
	node(root)
	var units, projects []model.Path
	resources := make([][]model.Path, 0, 2500)
	want := cut(nodes)
	for u := 0; len(e.Nodes) < want; u++ {
		unit := node(root.Child("unit", fmt.Sprintf("u%d", u)))
		units = append(units, unit)
		for p := 0; p < 50 && len(e.Nodes) < want; p++ {
			project := node(unit.Child("project", fmt.Sprintf("p%d", p)))
			projects = append(projects, project)
			var mine []model.Path
			for i := 0; i < 40 && len(e.Nodes) < want; i++ {
				x := node(project.Child(nouns[i%len(nouns)], fmt.Sprintf("r%d", i)))
				if i%20 == 0 {
					e.Nodes[len(e.Nodes)-1].Labels = map[string]string{"tier": []string{"gold", "tin"}[i/20]}
				}
				mine = append(mine, x)
				for k := 0; k < 19 && len(e.Nodes) < want; k++ {
					node(x.Child("part", fmt.Sprintf("%d", k)))
				}
			}
			resources = append(resources, mine)
		}
	}

	group := func(i int) model.ID { return model.ID{Kind: model.Group, Name: fmt.Sprintf("g%d", i)} }
	// Three tiers: six of ten groups at the bottom, which people join, each in two of
	// the middle, each of those in one of the top.
	nGroups := max(80, cut(groups))
	bottom, middle := nGroups*6/10, nGroups*9/10
	for i := range nGroups {
		e.Identities = append(e.Identities, model.Identity{ID: group(i)})
		switch {
		case i < bottom:
			for range 2 {
				e.Memberships = append(e.Memberships,
					model.Membership{Member: group(i), Group: group(bottom + pick(middle-bottom))})
			}
		case i < middle:
			e.Memberships = append(e.Memberships, model.Membership{Member: group(i),
				Group: group(middle + pick(nGroups-middle))})
		}
	}
	nIDs := cut(identities)
	id := func(i int) model.ID {
		return model.ID{Kind: []model.IdentityKind{model.Person, model.Person, model.Person, model.Workload,
			model.Workload}[i%5], Name: fmt.Sprintf("i%d", i)}
	}
	for i := range nIDs {
		e.Identities = append(e.Identities, model.Identity{ID: id(i)})
		for range 4 {
			e.Memberships = append(e.Memberships, model.Membership{Member: id(i), Group: group(pick(bottom))})
		}
	}
	for i := range cut(2000) {
		// a workload
		e.ActAs = append(e.ActAs, model.ActAs{ID: fmt.Sprintf("a-%d", i), From: group(pick(nGroups)),
			To: id(pick(nIDs)/5*5 + 3)})
	}
	for i := range cut(2000) {
		e.Nodes[pick(len(e.Nodes))].RunsAs = id(i%nIDs/5*5 + 3)
	}
	nRoles := max(100, cut(roles))
	for i := range nRoles {
		role := model.Role{Name: fmt.Sprintf("r%d", i)}
		from := perms[pick(services)]
		switch {
		case i == 0:
			role.Do = []model.PermissionPattern{model.MustPermissionPattern("*")}
		case i%10 == 0:
			role.Do = []model.PermissionPattern{model.MustPermissionPattern(from[0].Service() + "/*:*")}
		case i%10 == 1:
			for range 3 {
				s := perms[pick(services)][0].Service()
				role.Do = append(role.Do, model.MustPermissionPattern(s+"/*:get"),
					model.MustPermissionPattern(s+"/*:list"), model.MustPermissionPattern(s+"/*:read"))
			}
		default:
			for range 20 + pick(180) {
				role.Do = append(role.Do, from[pick(len(from))].Pattern())
			}
		}
		e.Roles = append(e.Roles, role)
	}
	place := func() model.PathPattern {
		p := pick(len(projects))
		switch n := pick(1000); {
		case n < 2:
			return root.Below()
		case n < 40:
			return units[pick(len(units))].Below()
		case n < 700 || len(resources[p]) == 0:
			return projects[p].Below()
		case n < 995:
			return resources[p][pick(len(resources[p]))].Below()
		}
		return model.MustPathPattern(projects[p].String() + "/box:*/**")
	}
	condition := func() model.Condition {
		switch pick(20) {
		case 0:
			return model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}
		case 1:
			return model.Condition{SecondFactor: true}
		case 2:
			return model.Condition{Labels: map[string]string{"tier": "gold"}}
		}
		return model.Condition{}
	}
	// The grants of groups reach many: a share of all keeps to 900 an identity or so at
	// any size, since there are as many groups fewer.
	for i := range cut(grants) {
		g := model.Grant{ID: fmt.Sprintf("g-%d", i), Role: fmt.Sprintf("r%d", 1+pick(nRoles-1)),
			Where: []model.PathPattern{place()}, When: condition()}
		if g.To = id(pick(nIDs)); i%10 < 8 {
			g.To = group(pick(nGroups))
		}
		if i%2000 == 0 {
			g.Role = "r0"
		}
		e.Grants = append(e.Grants, g)
	}
	for i := range cut(denials) {
		s := perms[pick(services)][0].Service()
		e.Denials = append(e.Denials, model.Denial{ID: fmt.Sprintf("d-%d", i), To: []model.ID{group(pick(nGroups))},
			Unless: []model.ID{id(pick(nIDs))}, Where: []model.PathPattern{place()},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern(s + "/*:delete")}}})
	}
	for i := range cut(guardrails) {
		s := perms[pick(services)][0].Service()
		e.Guardrails = append(e.Guardrails, model.Guardrail{ID: fmt.Sprintf("l-%d", i),
			Node: projects[pick(len(projects))], Unless: []model.ID{group(pick(nGroups))},
			Rights: model.Rights{Do: []model.PermissionPattern{model.MustPermissionPattern("*")},
				Except: []model.PermissionPattern{model.MustPermissionPattern(s + "/*:*")}}})
	}
	return e
}

// catalogue adds so many permissions and returns them by service.
func catalogue(e *model.Estate, n int) [][]model.Permission {
	var out [][]model.Permission
	for s := 0; len(e.Catalogue) < n; s++ {
		var mine []model.Permission
		for k := range 50 {
			noun := fmt.Sprintf("%s%d", nouns[k%len(nouns)], k/len(nouns))
			for _, verb := range verbs {
				if len(e.Catalogue) == n {
					break
				}
				p := model.MustPermission(fmt.Sprintf("s%03d/%s:%s", s, noun, verb))
				level := levels[verb]
				if level == 0 {
					level = model.Change
				}
				entry := model.CatalogueEntry{LogClass: "all", Permission: p, Level: level}
				if k == 0 && s == 0 { // of one noun of the service that keeps rights
					entry.Escalates = map[string]string{"grant": model.EditGrants, "reset": model.MintCredential,
						"attach": model.RunAs, "share": model.JoinGroup}[verb]
				}
				e.Catalogue = append(e.Catalogue, entry)
				mine = append(mine, p)
			}
		}
		out = append(out, mine)
	}
	return out
}
