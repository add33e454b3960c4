// Package check looks at a rehearsal a second time, by other means.
//
// Package rehearse proves and replays with the engine that everything else asks. Were the engine
// wrong, draft, proof and replay would be wrong together, and somebody would be locked out. So
// this package does both again, the long way: it reads the records, follows groups and roles by
// itself, spells patterns out ([names]) and tries what they match one by one. It knows less:
// of places and permissions with stars it tries examples, it takes what may hold for what holds,
// and of denials only those that the fence brings are its business. What it finds is a fault
// of Clip Fence or of this package, and no fence is put up until it is known which.
package check

import (
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A Doubt is something that was proven or replayed otherwise.
type Doubt struct {
	Line       int // of allow, from 0; -1: of a use
	Identity   model.ID
	Permission string
	Path       string
	Denied     bool // by what the fence denies
}

// String says it in a sentence.
func (d Doubt) String() string {
	if d.Line >= 0 {
		return fmt.Sprintf("line %d of allow gives %s on %s, which nothing that it replaces gives", d.Line+1,
			d.Permission, d.Path)
	}
	if d.Denied {
		return fmt.Sprintf("%s would be denied %s on %s, which it used", d.Identity, d.Permission, d.Path)
	}
	return fmt.Sprintf("%s would have no grant left for %s on %s, which it used", d.Identity, d.Permission, d.Path)
}

// mostDoubts is how many are told.
const mostDoubts = 20

// An Estate is one on which fences are checked, one after the other. It is not for several goroutines.
type Estate struct {
	x      *index.Index
	grants map[int]*given          // spelled out
	inside map[model.ID][]model.ID // who is in a group, at any distance; nil: nobody asked yet
}

// Of returns an estate to check fences on.
func Of(x *index.Index) *Estate { return &Estate{x: x, grants: map[int]*given{}} }

// Fence checks that a fence widens nothing, and that each of the uses keeps a grant; broken says
// which of them are known to be refused, or were before. Uses that nobody whom the fence touches
// made are left out.
func (e *Estate) Fence(f *fence.Fence, uses *usage.Uses, broken func(i int) bool) []Doubt {
	c := &checker{Estate: e, f: f, who: f.For.In(e.x.Source()), stay: map[holding][]*given{},
		in: map[model.ID][]model.ID{}}
	out := c.lines()
	if uses == nil {
		return out[:min(len(out), mostDoubts)]
	}
	tried := uses.All()
	if !c.who.Open() {
		tried = uses.AsEach(e.within(c.who))
	}
	for i, u := range tried {
		if !u.Outcome.Allowed() || broken(i) || len(out) >= mostDoubts || c.keeps(&u) {
			continue
		}
		d := Doubt{Line: -1, Identity: u.Principal(), Permission: u.Permission.String(), Path: u.Path.String()}
		d.Denied = c.refuses(u.Principal(), permission(d.Permission), path(d.Path))
		if !slices.Contains(out, d) { // the same from elsewhere is another use
			out = append(out, d)
		}
	}
	return out[:min(len(out), mostDoubts)]
}

// checker has spelled out what it looked at.
type checker struct {
	*Estate
	f    *fence.Fence
	who  model.ID
	come []*given
	stay map[holding][]*given
	in   map[model.ID][]model.ID // in which groups somebody is after the fence; nil: not touched
}

// within returns who has what is given to somebody: itself, and the members of a group.
func (e *Estate) within(to model.ID) []model.ID {
	if e.inside == nil {
		e.inside = map[model.ID][]model.ID{}
		for n := range e.x.Identities() {
			who := e.x.ID(n)
			for _, g := range e.groups(who)[1:] {
				e.inside[g] = append(e.inside[g], who)
			}
		}
	}
	return append([]model.ID{to}, e.inside[to]...)
}

// groups returns in which groups somebody is, itself first.
func (e *Estate) groups(id model.ID) []model.ID {
	out := []model.ID{id}
	for i := 0; i < len(out); i++ {
		for _, g := range e.x.GroupsOf(out[i]) {
			if !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// holding is somebody and a permission, cut.
type holding struct {
	to model.ID
	do [3]string
}

// given is a grant, or a line of a fence, spelled out.
type given struct {
	to    model.ID
	sets  [][2][]pattern // permissions, and those left out
	where []pattern
	when  model.Condition

	perms map[[3]string]bool // answers of has
}

// grant spells a grant out.
func (c *checker) grant(n int) *given {
	g := c.grants[n]
	if g == nil {
		rec := c.x.Grant(n)
		g = &given{to: rec.To, where: spell(rec.Where, path), when: rec.Condition(),
			perms: map[[3]string]bool{}}
		if rec.Role != "" {
			g.sets = c.role(rec.Role, map[string]bool{})
		} else {
			g.sets = [][2][]pattern{{spell(rec.Do, permission), spell(rec.Except, permission)}}
		}
		c.grants[n] = g
	}
	return g
}

// role returns the sets of a role and of those that it includes.
func (c *checker) role(name string, seen map[string]bool) [][2][]pattern {
	r, ok := c.x.Role(name)
	if !ok || seen[name] {
		return nil
	}
	seen[name] = true
	out := [][2][]pattern{{spell(r.Do, permission), spell(r.Except, permission)}}
	for _, other := range r.Includes {
		out = append(out, c.role(other, seen)...)
	}
	return out
}

// line spells a line of the fence out.
func (c *checker) line(a *fence.Allow) *given {
	g := &given{to: c.f.Receiver(a, c.x.Source()), where: spell(a.Where, path), when: a.When.WithUntil(a.Until),
		perms: map[[3]string]bool{}}
	if a.Role != "" {
		g.sets = c.role(a.Role, map[string]bool{})
	} else {
		g.sets = [][2][]pattern{{spell(a.Do, permission), nil}}
	}
	return g
}

// has reports whether it gives a permission anywhere, under whatever condition.
func (g *given) has(do []string) bool {
	key := [3]string(do)
	out, known := g.perms[key]
	if !known {
		out = slices.ContainsFunc(g.sets, func(set [2][]pattern) bool {
			return some(set[0], do) && !some(set[1], do)
		})
		g.perms[key] = out
	}
	return out
}

// lines tries examples of what each line allows on what the fence replaces.
func (c *checker) lines() []Doubt {
	var old []*given
	for _, n := range c.x.GrantsTo(c.who) {
		if slices.Contains(c.f.Replaces, c.x.Grant(n).ID) {
			old = append(old, c.grant(n))
		}
	}
	var out []Doubt
	for i := range c.f.Allow {
		g := c.line(&c.f.Allow[i])
		c.come = append(c.come, g)
		if c.f.Widens != "" {
			continue // it says so itself, and what it gives is shown
		}
		var places []pattern
		for _, o := range old {
			places = append(places, o.where...)
		}
		type spot struct {
			at []string
			in []*given // what is replaced and holds there
		}
		var spots []spot
		for _, on := range g.where {
			for _, at := range on.examples(places) {
				x := spot{at: at}
				for _, o := range old {
					if g.when.Implies(o.when) && some(o.where, at) {
						x.in = append(x.in, o)
					}
				}
				spots = append(spots, x)
			}
		}
		for _, set := range g.sets {
			for _, p := range set[0] {
				for _, do := range c.permissions(p, set[1]) {
					for _, x := range spots {
						given := func(o *given) bool { return o.has(do) }
						if !slices.ContainsFunc(x.in, given) && len(out) < mostDoubts {
							out = append(out, Doubt{Line: i, Permission: do[0] + "/" + do[1] + do[2],
								Path: "/" + strings.Join(x.at, "/")})
						}
					}
				}
			}
		}
	}
	return out
}

// permissions returns the permissions of the catalogue that a pattern matches, and one that no
// catalogue has, but for those that are left out.
func (c *checker) permissions(p pattern, but []pattern) [][]string {
	var out [][]string
	add := func(do []string) {
		if p.matches(do) && !some(but, do) {
			out = append(out, do)
		}
	}
	for n := range c.x.Numbers() {
		add(permission(c.x.Permission(n).Permission.String()))
	}
	for _, made := range p.examples(nil) {
		add(made)
	}
	return out
}

// after returns in which groups somebody is after the fence, itself included.
func (c *checker) after(id model.ID) []model.ID {
	out := []model.ID{id}
	for i := 0; i < len(out); i++ {
		for _, g := range c.x.GroupsOf(out[i]) {
			if left := out[i] == c.who && slices.Contains(c.f.Leaves, g); !left && !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// touched returns in which groups somebody is after a fence that is for it, or for a group or
// crowd that it is in; else none.
func (c *checker) touched(id model.ID) []model.ID {
	in, known := c.in[id]
	if !known {
		if c.who.Open() || slices.Contains(c.groups(id), c.who) {
			in = c.after(id)
		}
		c.in[id] = in
	}
	return in
}

// left returns the grants to somebody that stay and give a permission.
func (c *checker) left(to model.ID, do []string) []*given {
	key := holding{to, [3]string(do)}
	out, known := c.stay[key]
	if !known {
		for _, n := range c.x.GrantsTo(to) {
			if to == c.who && slices.Contains(c.f.Replaces, c.x.Grant(n).ID) {
				continue
			}
			if g := c.grant(n); g.has(do) {
				out = append(out, g)
			}
		}
		c.stay[key] = out
	}
	return out
}

// refuses reports whether the fence denies a permission on a path to somebody whom it touches.
func (c *checker) refuses(id model.ID, do, at []string) bool {
	for i := range c.f.Denies {
		d := &c.f.Denies[i]
		spared := slices.ContainsFunc(d.Unless, func(who model.ID) bool {
			return slices.Contains(c.touched(id), who.In(c.x.Source()))
		})
		if !spared && some(spell(d.Do, permission), do) && some(spell(d.Where, path), at) {
			return true
		}
	}
	return false
}

// keeps reports whether some grant or line is left for a use.
func (c *checker) keeps(u *usage.Use) bool {
	do, at := permission(u.Permission.String()), path(u.Path.String())
	if c.refuses(u.Principal(), do, at) {
		return false
	}
	now := func(g *given) bool {
		holds, _ := g.when.Eval(u.Context())
		return holds != model.False && some(g.where, at)
	}
	in := c.touched(u.Principal())
	for _, g := range c.come {
		if (g.to.Open() || slices.Contains(in, g.to)) && g.has(do) && now(g) {
			return true
		}
	}
	everybody := []model.ID{{Kind: model.Everyone}, {Kind: model.SignedIn}}
	for _, to := range slices.Concat(in, everybody) {
		if slices.ContainsFunc(c.left(to, do), now) {
			return true
		}
	}
	return false
}
