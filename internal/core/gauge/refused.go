package gauge

import (
	"cmp"
	"slices"
	"sync"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// What rules refuse
//
// A grant may give what a denial, a guardrail or a ceiling refuses to everybody who has it. Nobody can do
// anything by that, so it has no danger, and a draft that takes it out of the grant takes nothing away. Only
// what is certain counts: a rule without a condition, that spares nobody who has the grant. Where it holds on
// a part of the places only, the nodes of that part do not count.

// refusal is what one rule refuses.
type refusal struct {
	perms  access.Set
	places []model.PathPattern
	where  *model.Patterns // of them
	unless []model.ID

	once   sync.Once
	spared []uint64 // by number, who is one of unless or in one; see spares
}

// rail is what one guardrail refuses on a node and below.
type rail struct {
	refusal
	on index.Region
}

// ceiling is what one refuses on its places; on others it refuses everything.
type ceiling struct {
	perms access.Set
	where []model.PathPattern
}

// rules are those that hold at any time.
type rules struct {
	denials  map[model.ID][]*refusal // by whom they name
	ceilings map[model.ID][]ceiling  // of whom
	rails    map[model.Path][]*rail
	below    []*rail // in the order of nodes
}

// ruled notes the rules that hold at any time.
func (r *runner) ruled() {
	r.rules = rules{denials: map[model.ID][]*refusal{}, ceilings: map[model.ID][]ceiling{},
		rails: map[model.Path][]*rail{}}
	for d := range r.x.Denials() {
		if !d.When.IsZero() {
			continue
		}
		no := &refusal{perms: r.x.SetPerms([]model.Rights{d.Rights}), places: d.Where,
			where: model.PatternsOf(d.Where), unless: d.Unless}
		for _, to := range d.To {
			r.rules.denials[to] = append(r.rules.denials[to], no)
		}
	}
	for c := range r.x.Ceilings() {
		r.rules.ceilings[c.Of] = append(r.rules.ceilings[c.Of], ceiling{r.outside(c.Rights), c.Where})
	}
	for g := range r.x.Guardrails() {
		no := &rail{refusal: refusal{perms: r.outside(g.Rights), unless: g.Unless}, on: r.x.Region(g.Node.Below())}
		r.rules.rails[g.Node] = append(r.rules.rails[g.Node], no)
		if len(no.on) > 0 {
			r.rules.below = append(r.rules.below, no)
		}
	}
	slices.SortFunc(r.rules.below, func(a, b *rail) int { return cmp.Compare(a.on[0].From, b.on[0].From) })
}

// outside returns every permission that some rights do not hold.
func (r *runner) outside(rights model.Rights) access.Set {
	out := r.x.SetPerms([]model.Rights{rights})
	for p := range r.x.Numbers() {
		if out.Has(p) {
			out.Remove(p)
		} else {
			out.Add(p)
		}
	}
	return out
}

// refusals returns the denials that name whoever has what is granted to an identity.
func (r *runner) refusals(to model.ID) []*refusal {
	if len(r.rules.denials) == 0 {
		return nil
	}
	out := slices.Clone(r.rules.denials[to])
	for _, n := range r.x.Givers(to) {
		if of := r.x.ID(n); of != to {
			out = append(out, r.rules.denials[of]...)
		}
	}
	return out
}

// refused works out what rules refuse to all who have a grant, the denials being those that name all of them:
// the permissions that they refuse on all its places, and bars on some of them. Of a crowd, and of a group in
// which nobody is known to be, a rule that spares somebody says nothing; and a ceiling is of whom it names, not
// of the members of a group.
func (r *part) refused(res *GrantResult, denials []*refusal) {
	to := res.Grant.To
	ceilings := r.rules.ceilings[to]
	if len(denials)+len(ceilings)+len(r.rules.rails) == 0 || len(res.Grant.Where) == 0 {
		return
	}
	all, each := r.all, []bar(nil)
	for i, on := range res.Grant.Where {
		here := r.here
		clear(here)
		for _, no := range denials {
			if !no.perms.Meets(res.Perms) {
				continue
			}
			if no.where.One(on) {
				if r.sparesNone(no, res) {
					here.Or(no.perms)
				}
			} else if parts := no.in(on); len(parts) > 0 && r.sparesNone(no, res) {
				res.bar(no.perms, r.x.Region(parts...))
			}
		}
		for i := range ceilings {
			c := &ceilings[i]
			if here.Or(c.perms); !slices.ContainsFunc(c.where, on.Overlaps) {
				here.Or(res.Perms)
			} else if !model.PathPatternsContain(c.where, on) {
				res.bar(res.Perms, r.x.Region(on).AndNot(r.x.Region(c.where...)))
			}
		}
		r.railed(res, on, here)
		if len(res.Grant.Where) > 1 && here.Meets(res.Perms) {
			each = append(each, bar{here.Clone(), r.x.Region(on)})
		}
		if i == 0 {
			copy(all, here)
		} else {
			all.And(here)
		}
	}
	all.And(res.Perms)
	for _, no := range each { // what stays on other places
		for p := range all.All() {
			no.perms.Remove(p)
		}
		if no.perms.Meets(res.Perms) {
			res.bar(no.perms, no.on)
		}
	}
	switch {
	case !all.Meets(res.Perms) && len(res.bars) == 0:
	case r.x.Bypasses(to) || slices.ContainsFunc(res.Holders, r.x.Bypasses):
		res.bars = nil
	case all.Count() > 0:
		res.Refused = all.Few()
	}
}

// in returns the places of a denial that have something in common with one of a grant.
func (no *refusal) in(on model.PathPattern) (out []model.PathPattern) {
	for _, w := range no.places {
		if w.Overlaps(on) {
			out = append(out, w)
		}
	}
	return out
}

// railed notes what guardrails refuse on a place of a grant: those above it on all of it, those further down on
// theirs.
func (r *part) railed(res *GrantResult, on model.PathPattern, here access.Set) {
	if len(r.rules.rails) == 0 {
		return
	}
	holds := func(no *rail) bool { return no.perms.Meets(res.Perms) && r.sparesNone(&no.refusal, res) }
	anchor, anchored := on.Anchor()
	for at, ok := anchor, anchored; ok; at, ok = at.Parent() {
		for _, no := range r.rules.rails[at] {
			if holds(no) {
				here.Or(no.perms)
			}
		}
	}
	_, one := on.Node()
	for _, in := range r.x.Region(on) {
		if !one { // between what all its nodes lie in and one of them
			at, ok := r.x.Path(int(in.From)).Parent()
			for ; ok && at != anchor; at, ok = at.Parent() {
				for _, no := range r.rules.rails[at] {
					if holds(no) {
						res.bar(no.perms, no.on)
					}
				}
			}
		}
		from, _ := slices.BinarySearchFunc(r.rules.below, in.From, func(no *rail, at uint32) int {
			return cmp.Compare(no.on[0].From, at)
		})
		for _, no := range r.rules.below[from:] {
			if no.on[0].From >= in.To {
				break
			}
			if holds(no) {
				res.bar(no.perms, no.on)
			}
		}
	}
}

// bar is what a rule refuses on some nodes of a grant's places to all who have it.
type bar struct {
	perms access.Set
	on    index.Region
}

func (r *GrantResult) bar(perms access.Set, on index.Region) {
	if len(on) > 0 {
		r.bars = append(r.bars, bar{perms, on})
	}
}

// Of measures some permissions of a grant on its places, without the nodes on which a rule refuses them to all
// who have it.
func (s *Scale) Of(g *GrantResult, perms access.Set) float64 {
	type part struct { // permissions of which the same is left
		perms access.Set
		on    index.Region
	}
	parts := []part{{perms, s.on(g.Grant.Where)}}
	for i := range g.bars {
		no := &g.bars[i]
		for j := range parts {
			p := &parts[j]
			if !no.perms.Meets(p.perms) {
				continue
			}
			left := p.on.AndNot(no.on)
			if slices.Equal(left, p.on) {
				continue
			}
			less, more := p.perms.Clone(), s.x.NewSet()
			less.And(no.perms)
			for w := range more {
				more[w] = p.perms[w] &^ less[w]
			}
			was := p.on
			if p.perms, p.on = less, left; more.Count() > 0 {
				parts = append(parts, part{more, was})
			}
		}
	}
	d := 0.0
	for _, p := range parts {
		d += s.sum(p.perms, p.on)
	}
	return d
}

// sparesNone reports whether a rule spares nobody who has a grant.
func (r *part) sparesNone(no *refusal, res *GrantResult) bool {
	if len(no.unless) == 0 {
		return true
	}
	to := res.Grant.To
	if to.Open() || len(res.Holders) == 0 {
		return false
	}
	if r.sparedOf != to {
		r.sparedOf = to
		clear(r.spared)
	}
	none, known := r.spared[no]
	if !known {
		none = r.spares(no, res)
		r.spared[no] = none
	}
	return none
}

// spares does what sparesNone does where it is not known yet. A rule may hold for thousands of grants: whom it spares
// is worked out once.
func (r *runner) spares(no *refusal, res *GrantResult) bool {
	no.once.Do(func() {
		no.spared = make([]uint64, (r.x.Identities()+63)/64)
		for _, but := range no.unless {
			n, known := r.x.Number(but)
			if but.Open() || !known {
				continue
			}
			no.spared[n/64] |= 1 << (n % 64)
			r.x.Members(n, func(i int) { no.spared[i/64] |= 1 << (i % 64) })
		}
	})
	spared := func(id model.ID) bool {
		if n, known := r.x.Number(id); known && no.spared[n/64]>>(n%64)&1 != 0 {
			return true
		}
		return slices.ContainsFunc(no.unless, func(but model.ID) bool {
			return id == but || but.Open() && r.x.In(id, but)
		})
	}
	return !spared(res.Grant.To) && !slices.ContainsFunc(res.Holders, spared)
}
