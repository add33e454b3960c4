package main

import (
	"fmt"
	"hash/fnv"
	"maps"
	"slices"

	"clipfence/internal/core/model"
)

// shapes are other ways to write the same life down, and to know less of it: what a draft keeps and
// breaks should hardly depend on them.
var shapes = []string{
	"objects", // each call is on a thing of its own below its node, and no inventory lists things
	"direct",  // who is in a group has by name what the group was given
	"grouped", // what somebody was given by name is given to a group, in which nobody else is
	"listed",  // grants list permissions, no roles
	"split",   // a grant of a role is a grant a permission
	"twice",   // each grant stands there twice
	"sampled", // of three calls that somebody does the log keeps one
	"gaps",    // each fourth week is missing from the logs
	"stopped", // the last 120 days of logs never came, and nothing says so
	"shed",    // the same, of a third of the projects
	"outage",  // ten days of a month ago never came
	"paused",  // nor did 45 of two months ago
	"renamed", // a third of the projects have another name since day 254, and what is in them
	"late",    // the last ten days of logs are not there yet
}

// newNames is the day on which projects are renamed.
const newNames = 254

// renamed returns what a path is called on a day.
func (l *life) renamed(p model.Path, day int) model.Path {
	project := projectOf(p)
	kind, name := project.Last()
	up, ok := project.Parent()
	if !l.known.as["renamed"] || day < newNames || !ok || kind != "project" && kind != "system" ||
		hash(project)%3 > 0 {
		return p
	}
	out := up.Child(kind, name+"-new")
	var below []model.Path
	for at := p; at != project; at, _ = at.Parent() {
		below = append(below, at)
	}
	for _, at := range slices.Backward(below) {
		out = out.Child(at.Last())
	}
	return out
}

// reshape writes a life down another way, as far as that is a matter of its calls.
func (l *life) reshape() {
	for at, class := range maps.Clone(l.logless) {
		l.logless[l.renamed(at, newNames)] = class
	}
	for i := range l.calls {
		l.calls[i].path = l.renamed(l.calls[i].path, l.calls[i].day)
	}
	if l.known.as["objects"] {
		for i := range l.estate.Catalogue {
			l.estate.Catalogue[i].Kinds = append(l.estate.Catalogue[i].Kinds, "thing")
		}
		for i := range l.calls {
			thing := hash(i) & 0xffffff
			if n := uint32(l.known.things); n > 0 {
				thing %= n
			}
			l.calls[i].path = l.calls[i].path.Child("thing", fmt.Sprintf("%06x", thing))
		}
	}
}

func hash(of ...any) uint32 {
	h := fnv.New32a()
	fmt.Fprint(h, of...) // never fails
	return h.Sum32()
}

// reshaped writes the grants of a day down another way.
func (l *life) reshaped(e *model.Estate, day int) {
	as := l.known.as
	e.Coverage = slices.Clone(e.Coverage)
	for i := range e.Coverage {
		e.Coverage[i].Node = l.renamed(e.Coverage[i].Node, day)
	}
	for i := range e.Nodes {
		e.Nodes[i].Path = l.renamed(e.Nodes[i].Path, day)
	}
	for i := range e.Grants {
		g := &e.Grants[i]
		g.Where = slices.Clone(g.Where)
		for k, on := range g.Where {
			if at, ok := on.Anchor(); ok {
				g.Where[k] = l.renamed(at, day).Below()
			}
		}
	}
	if as["direct"] {
		groups := map[model.ID][]model.Grant{}
		e.Grants = slices.DeleteFunc(e.Grants, func(g model.Grant) bool {
			if g.To.Kind == model.Group {
				groups[g.To] = append(groups[g.To], g)
			}
			return g.To.Kind == model.Group
		})
		for _, m := range e.Memberships {
			for _, g := range groups[m.Group] {
				g.To, g.ID = m.Member, fmt.Sprint(g.ID, ".", m.Member.Name)
				for _, i := range e.Identities {
					if i.ID == m.Member && i.Created.After(g.Created) {
						g.Created = i.Created
					}
				}
				e.Grants = append(e.Grants, g)
			}
		}
		e.Memberships = nil
		e.Identities = slices.DeleteFunc(e.Identities, func(i model.Identity) bool { return i.ID.Kind == model.Group })
	}
	if as["grouped"] {
		own := map[model.ID]bool{}
		for i := range e.Grants {
			g := &e.Grants[i]
			if g.To.Kind == model.Group {
				continue
			}
			to := model.ID{Kind: model.Group, Name: "own-" + g.To.Name}
			if !own[to] {
				own[to] = true
				e.Memberships = append(e.Memberships, model.Membership{Member: g.To, Group: to})
				e.Identities = append(e.Identities, model.Identity{ID: to, Created: g.Created})
			}
			g.To = to
		}
	}
	for i := range e.Grants {
		for _, r := range e.Roles {
			if as["listed"] && r.Name == e.Grants[i].Role {
				e.Grants[i].Role, e.Grants[i].Do = "", r.Do
			}
		}
	}
	if as["split"] {
		var grants []model.Grant
		for _, g := range e.Grants {
			for _, r := range e.Roles {
				for i := 0; r.Name == g.Role && i < len(r.Do); i++ {
					one := g
					one.ID, one.Role, one.Do = fmt.Sprint(g.ID, ".", i), "", r.Do[i:i+1]
					grants = append(grants, one)
				}
			}
		}
		e.Grants = grants
	}
	if as["twice"] {
		for _, g := range slices.Clone(e.Grants) {
			g.ID += "-again"
			e.Grants = append(e.Grants, g)
		}
	}
}

// kept reports whether a log that is to say less keeps a call, as of a day.
func (l *life) keeps(i int, c call, day int) bool {
	as := l.known.as
	return !(as["sampled"] && hash(i)%3 > 0 || as["gaps"] && (day-c.day)/7%4 == 3 || as["late"] && c.day > day-10 ||
		as["outage"] && c.day > day-40 && c.day <= day-30 || as["paused"] && c.day > day-95 && c.day <= day-50 ||
		as["stopped"] && c.day > day-120 || as["shed"] && c.day > day-120 && hash(projectOf(c.path))%3 == 0)
}
