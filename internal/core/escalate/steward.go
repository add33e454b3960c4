package escalate

import (
	"math"
	"slices"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// Stewarded is where people can hand out rights on a node: unaided, with no condition that
// has to be met, by a permission that applies to that kind of node. Workloads do not count.
type Stewarded struct {
	People []model.ID // who can anywhere
	x      *index.Index
	where  map[int]index.Region // by the kinds that a permission applies to
}

// Stewards returns where people can hand out rights, but for some who do not count.
func Stewards(x *index.Index, but []model.ID) *Stewarded {
	return stewards(x, people(x, but), math.MaxInt)
}

// FewStewards returns where people can hand out rights, and whether those are no more than so many.
func FewStewards(x *index.Index, most int) (*Stewarded, bool) {
	s := stewards(x, people(x, nil), most)
	return s, len(s.People) <= most
}

// people returns who may count.
func people(x *index.Index, but []model.ID) (out []model.ID) {
	for _, id := range x.Everybody() {
		if id.ID.Kind == model.Person && !id.Disabled && !slices.Contains(but, id.ID) {
			out = append(out, id.ID)
		}
	}
	return out
}

// StewardsOf returns where some people can.
func StewardsOf(x *index.Index, people []model.ID) *Stewarded {
	return stewards(x, people, math.MaxInt)
}

// stewards looks at people until more than so many can.
func stewards(x *index.Index, people []model.ID, most int) *Stewarded {
	edit := x.NewSet()
	for i := range x.Numbers() {
		if x.Permission(i).Escalates == model.EditGrants {
			edit.Add(i)
		}
	}
	s := &Stewarded{x: x, where: map[int]index.Region{}}
	walk := x.NewWalk(index.Certain)
	walk.Only(edit, model.Path{})
	for _, id := range people {
		can := false
		for _, p := range walk.Pieces(id) {
			for i := range p.Permissions() {
				if edit.Has(i) {
					c := x.Class(i)
					s.where[c] = append(s.where[c], index.Interval{From: uint32(p.From), To: uint32(p.To)})
					can = true
				}
			}
		}
		if can {
			s.People = append(s.People, id)
		}
		if len(s.People) > most {
			break
		}
	}
	for c, r := range s.where {
		s.where[c] = r.Or(nil)
	}
	return s
}

// In returns where people can by permissions that apply to the same kinds of node.
func (s *Stewarded) In(class int) index.Region { return s.where[class] }

// of reports whether somebody can hand out rights on a node by number.
func (s *Stewarded) of(node int) bool {
	for c, r := range s.where {
		if r.Has(uint32(node)) && s.x.Applies(c, node) {
			return true
		}
	}
	return false
}

// Orphans returns the nodes on which somebody can hand out rights before and nobody can
// after. The two may be read one after the other, and list other nodes.
func Orphans(before, after *index.Index, but []model.ID) []model.Path {
	was, is := Stewards(before, but), Stewards(after, but)
	shared := after.Shares(before)
	var all index.Region
	for c, r := range was.where {
		if shared {
			r = r.AndNot(is.where[c])
		}
		all = all.Or(r)
	}
	var out []model.Path
	for n := range before.Within(all) {
		if !was.of(n) {
			continue
		}
		now, there := n, true
		p := before.Path(n)
		if !shared {
			now, there = after.NodeNumber(p)
		}
		if there && !is.of(now) {
			out = append(out, p)
		}
	}
	return out
}
