package bygone

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"sync"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// A shown is a record with the surveys that showed it, both included.
type shown[T any] struct {
	it          T
	first, last int64
}

func (s *shown[T]) at(survey int64) bool { return s.first <= survey && survey <= s.last }

// pick returns of some records those that a survey showed.
func pick[T any](list []shown[T], survey int64) []T {
	var out []T
	for i := range list {
		if list[i].at(survey) {
			out = append(out, list[i].it)
		}
	}
	return out
}

// A Question is about a call of somebody, which was on one of some places.
type Question struct {
	Who model.ID
	At  []model.Path
}

// Records are what surveys showed of whatever has a say about some identities. It is filled by one goroutine.
type Records struct {
	source  string
	surveys []int64 // in order
	of      []Question

	up      map[model.ID][]shown[model.Membership] // by member
	down    map[model.ID][]shown[struct{}]         // of groups that logs tell of: when somebody was listed in them
	sighted map[model.ID][]model.ID                // by who is in them, the groups that logs tell of
	concern map[model.ID]bool                      // who is asked about, their groups and crowds; nil: not known yet

	grants     map[model.ID][]shown[model.Grant] // by whom they name
	ceilings   map[model.ID][]shown[model.Ceiling]
	denials    []shown[model.Denial]
	guardrails []shown[model.Guardrail]
	roles      map[string][]shown[model.Role]
	catalogue  map[model.Permission]model.CatalogueEntry // every one that ever was: what is listed decides nothing
	semantics  []shown[model.Semantics]
	nodes      map[model.Path][]shown[model.Node]
}

// New begins with the surveys of a source, in order, and with the questions about what they showed.
func New(source string, surveys []int64, of []Question) *Records {
	return &Records{source: source, surveys: surveys, of: of, up: map[model.ID][]shown[model.Membership]{},
		down: map[model.ID][]shown[struct{}]{}, sighted: map[model.ID][]model.ID{},
		grants:   map[model.ID][]shown[model.Grant]{},
		ceilings: map[model.ID][]shown[model.Ceiling]{}, roles: map[string][]shown[model.Role]{},
		catalogue: map[model.Permission]model.CatalogueEntry{}, nodes: map[model.Path][]shown[model.Node]{}}
}

// Sighted notes that logs show somebody in a group; that counts as of surveys that show nobody in it. It comes
// before all records.
func (r *Records) Sighted(who, group model.ID) {
	r.sighted[who] = append(r.sighted[who], group)
	r.down[group] = r.down[group][:0]
}

// Add takes in the records of an estate, which some surveys showed, both included: all that a decision looks at,
// but for [Records.AddSemantics]. Memberships come before all others: of those only what concerns somebody who is
// asked about is kept.
func (r *Records) Add(e *model.Estate, first, last int64) {
	for _, m := range e.Memberships {
		r.up[m.Member] = append(r.up[m.Member], shown[model.Membership]{m, first, last})
		if _, by := r.down[m.Group]; by {
			r.down[m.Group] = append(r.down[m.Group], shown[struct{}]{first: first, last: last})
		}
	}
	if len(e.Memberships) > 0 {
		return
	}
	if r.concern == nil {
		var who []model.ID
		for i := range r.of {
			who = append(who, r.of[i].Who)
		}
		r.concern = r.closure(who)
	}
	for _, g := range e.Grants {
		if r.concern[g.To] {
			r.grants[g.To] = append(r.grants[g.To], shown[model.Grant]{g, first, last})
		}
	}
	for _, c := range e.Ceilings {
		if r.concern[c.Of] {
			r.ceilings[c.Of] = append(r.ceilings[c.Of], shown[model.Ceiling]{c, first, last})
		}
	}
	for _, d := range e.Denials {
		if slices.ContainsFunc(d.To, func(id model.ID) bool { return r.concern[id] }) {
			r.denials = append(r.denials, shown[model.Denial]{d, first, last})
		}
	}
	for _, g := range e.Guardrails {
		r.guardrails = append(r.guardrails, shown[model.Guardrail]{g, first, last})
	}
	for _, o := range e.Roles {
		r.roles[o.Name] = append(r.roles[o.Name], shown[model.Role]{o, first, last})
	}
	for _, c := range e.Catalogue {
		r.catalogue[c.Permission] = c
	}
	for _, n := range e.Nodes {
		r.nodes[n.Path] = append(r.nodes[n.Path], shown[model.Node]{n, first, last})
	}
}

// AddSemantics takes in how the rules of the source differ, which some surveys showed.
func (r *Records) AddSemantics(s model.Semantics, first, last int64) {
	r.semantics = append(r.semantics, shown[model.Semantics]{s, first, last})
}

// closure returns some identities, all groups that they ever were in, and the crowds.
func (r *Records) closure(of []model.ID) map[model.ID]bool {
	out := map[model.ID]bool{{Kind: model.Everyone}: true, {Kind: model.SignedIn}: true}
	var list []model.ID
	join := func(id model.ID) {
		if !out[id] {
			out[id] = true
			list = append(list, id)
		}
	}
	for _, id := range of {
		join(id)
	}
	for i := 0; i < len(list); i++ {
		for _, m := range r.up[list[i]] {
			join(m.it.Group)
		}
		for _, group := range r.sighted[list[i]] {
			join(group)
		}
	}
	return out
}

// atOnce is how many identities share an estate. Of more, more changes between two surveys, so that more have to be
// built; of fewer, what is the same for all of them is put together more often.
const atOnce = 16

// Allowed says of each question whether it is allowed by what some survey showed, as allows says of an index of it.
// Allows is asked several at once.
func (r *Records) Allowed(ctx context.Context, allows func(x *index.Index, question int) bool) ([]bool, error) {
	by := map[model.ID][]int{}
	for i := range r.of {
		by[r.of[i].Who] = append(by[r.of[i].Who], i)
	}
	who := slices.SortedFunc(maps.Keys(by), model.ID.Compare)
	batches := slices.Collect(slices.Chunk(who, atOnce))
	out := make([]bool, len(r.of))
	var mu sync.Mutex
	var failed []error
	parallel.Each(len(batches), func(_, i int) {
		var open []int
		for _, id := range batches[i] {
			open = append(open, by[id]...)
		}
		allowed, err := r.batch(ctx, batches[i], open, allows)
		mu.Lock()
		defer mu.Unlock()
		for _, q := range allowed {
			out[q] = true
		}
		failed = append(failed, err)
	})
	return out, errors.Join(failed...)
}

// batch returns which of some questions about some identities are allowed.
func (r *Records) batch(ctx context.Context, who []model.ID, open []int,
	allows func(x *index.Index, question int) bool) ([]int, error) {
	b := r.about(who)
	ever, err := index.Build(b.ever())
	if err != nil {
		return nil, err
	}
	open = slices.DeleteFunc(open, func(q int) bool { return !allows(ever, q) })
	if b.labels { // else it is the same whether a node is listed
		for _, q := range open {
			for _, at := range r.of[q].At {
				b.nodes[at] = r.nodes[at]
			}
		}
	}
	var out []int
	runs := b.runs()
	for i := len(runs) - 1; i >= 0 && len(open) > 0; i-- {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		x, err := index.Build(b.at(runs[i]))
		if err != nil {
			return nil, err
		}
		open = slices.DeleteFunc(open, func(q int) bool {
			is := allows(x, q)
			if is {
				out = append(out, q)
			}
			return is
		})
	}
	return out, nil
}

// about is what concerns a few identities.
type about struct {
	*Records
	concern     map[model.ID]bool
	memberships []shown[model.Membership]
	byLog       []model.Membership
	grants      []shown[model.Grant]
	ceilings    []shown[model.Ceiling]
	denials     []shown[model.Denial]
	roles       []shown[model.Role] // that the grants give, and those that they include
	nodes       map[model.Path][]shown[model.Node]
	labels      bool // something holds only on nodes with some labels
}

func (r *Records) about(who []model.ID) *about {
	b := &about{Records: r, concern: r.closure(who), nodes: map[model.Path][]shown[model.Node]{}}
	for _, id := range slices.SortedFunc(maps.Keys(b.concern), model.ID.Compare) {
		b.memberships = append(b.memberships, r.up[id]...)
		for _, group := range r.sighted[id] {
			b.byLog = append(b.byLog, model.Membership{Member: id, Group: group})
		}
		b.grants = append(b.grants, r.grants[id]...)
		b.ceilings = append(b.ceilings, r.ceilings[id]...)
	}
	for _, d := range r.denials {
		if slices.ContainsFunc(d.it.To, func(id model.ID) bool { return b.concern[id] }) {
			b.denials = append(b.denials, d)
			b.labels = b.labels || len(d.it.When.Labels) > 0
		}
	}
	for name := range b.given() {
		b.roles = append(b.roles, r.roles[name]...)
	}
	for i := range b.grants {
		b.labels = b.labels || len(b.grants[i].it.When.Labels) > 0
	}
	return b
}

// given returns the names of the roles that the grants ever gave, and those that those included.
func (b *about) given() map[string]bool {
	out := map[string]bool{}
	var list []string
	note := func(name string) {
		if name != "" && !out[name] {
			out[name] = true
			list = append(list, name)
		}
	}
	for i := range b.grants {
		note(b.grants[i].it.Role)
	}
	for i := 0; i < len(list); i++ {
		for _, o := range b.Records.roles[list[i]] {
			for _, name := range o.it.Includes {
				note(name)
			}
		}
	}
	return out
}

// runs returns one survey of each run of them that shows the same, in order.
func (b *about) runs() []int64 {
	cut := make([]bool, len(b.surveys)+1)
	note := func(first, last int64) {
		from, _ := slices.BinarySearch(b.surveys, first)
		to, shows := slices.BinarySearch(b.surveys, last)
		if shows {
			to++
		}
		cut[from], cut[to] = true, true
	}
	cuts(b.memberships, note)
	cuts(b.grants, note)
	cuts(b.ceilings, note)
	cuts(b.denials, note)
	cuts(b.roles, note)
	cuts(b.guardrails, note)
	cuts(b.semantics, note)
	for _, list := range b.nodes {
		cuts(list, note)
	}
	for _, m := range b.byLog {
		cuts(b.down[m.Group], note)
	}
	var out []int64
	for i, survey := range b.surveys {
		if cut[i] || i == 0 {
			out = append(out, survey)
		}
	}
	return out
}

func (r *Records) listed() model.Catalogue {
	return slices.SortedFunc(maps.Values(r.catalogue), func(a, b model.CatalogueEntry) int {
		return cmp.Compare(a.Permission.String(), b.Permission.String())
	})
}

func cuts[T any](list []shown[T], note func(first, last int64)) {
	for i := range list {
		note(list[i].first, list[i].last)
	}
}

// at returns what a survey showed of all that concerns them.
func (b *about) at(survey int64) *model.Estate {
	e := &model.Estate{Source: b.source, Catalogue: b.listed(),
		Memberships: pick(b.memberships, survey), Roles: pick(b.roles, survey), Grants: pick(b.grants, survey),
		Denials: pick(b.denials, survey), Ceilings: pick(b.ceilings, survey),
		Guardrails: pick(b.guardrails, survey)}
	for _, s := range pick(b.semantics, survey) {
		e.Semantics = s
	}
	for _, list := range b.nodes {
		e.Nodes = append(e.Nodes, pick(list, survey)...)
	}
	for _, m := range b.byLog {
		if len(pick(b.down[m.Group], survey)) == 0 {
			e.Memberships = append(e.Memberships, m)
		}
	}
	return e
}

// ever returns all that ever was as if it had been at one time, and without anything that refuses or depends: it
// allows what any survey did.
func (b *about) ever() *model.Estate {
	e := &model.Estate{Source: b.source, Catalogue: b.listed(), Memberships: slices.Clone(b.byLog)}
	for _, s := range b.semantics {
		e.Semantics.Bypass = append(e.Semantics.Bypass, s.it.Bypass...)
	}
	for _, m := range b.memberships {
		e.Memberships = append(e.Memberships, m.it)
	}
	within := map[string][]model.Rights{} // of a role, as it ever was, and of those that it ever included
	for _, g := range b.grants {
		rights := []model.Rights{g.it.Rights}
		if name := g.it.Role; name != "" {
			if _, known := within[name]; !known {
				within[name] = b.everIn(name)
			}
			rights = within[name]
		}
		for _, has := range rights {
			e.Grants = append(e.Grants, model.Grant{ID: g.it.ID, To: g.it.To, Rights: has, Where: g.it.Where})
		}
	}
	return e
}

func (b *about) everIn(name string) []model.Rights {
	var out []model.Rights
	list, seen := []string{name}, map[string]bool{name: true}
	for i := 0; i < len(list); i++ {
		for _, o := range b.Records.roles[list[i]] {
			out = append(out, o.it.Rights)
			for _, in := range o.it.Includes {
				if !seen[in] {
					seen[in] = true
					list = append(list, in)
				}
			}
		}
	}
	return out
}
