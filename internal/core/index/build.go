package index

import (
	"cmp"
	"errors"
	"maps"
	"math"
	"slices"
	"strings"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// ErrLarge: an estate has more of something than numbers of 32 bits can name.
var ErrLarge = errors.New("estate is too large to be indexed")

// A span is an interval of nodes.
type span struct{ from, to uint32 }

// builder keeps what is needed while an index is made.
type builder struct {
	*Index
	e        *model.Estate
	plain    *engine.Engine // for roles and rights, which it expands
	nodeAt   map[model.Path]uint32
	paths    []model.Path // by node
	ids      map[model.ID]uint32
	places   map[model.PathPattern]uint32
	byLabels map[labelPlace]uint32
	sets     map[string]uint32 // by their words
	roles    map[string]uint32 // their sets
	setOff   []uint32
	setW     []uint32
	setB     []uint64
	perms    []model.CatalogueEntry // in order
}

// Build indexes an estate, which must not change while the index is in use. It does
// not validate it: references that lead nowhere give nothing.
func Build(e *model.Estate) (*Index, error) {
	if len(e.Nodes) > math.MaxInt32 || len(e.Grants) > math.MaxInt32 {
		return nil, ErrLarge
	}
	b := &builder{Index: &Index{}, e: e, sets: map[string]uint32{}, roles: map[string]uint32{}, setOff: []uint32{0}}
	b.plain = engine.New(&model.Estate{Catalogue: e.Catalogue, Roles: e.Roles})
	if err := b.records(); err != nil {
		return nil, err
	}
	b.catalogueColumns()
	b.identityColumns()
	b.nodeColumns()
	b.placeColumns()
	b.ruleColumns()
	b.Index.setOff, b.setWord, b.setBits = packInts(b.setOff), packInts(b.setW), packLongs(b.setB)
	b.ready()
	return b.Index, nil
}

func (b *builder) records() error {
	var err error
	keep := func(e error) { err = errors.Join(err, e) }
	var e error
	b.grants, e = packRecords(b.e.Grants, &b.bad)
	keep(e)
	b.denials, e = packRecords(b.e.Denials, &b.bad)
	keep(e)
	b.guardrails, e = packRecords(b.e.Guardrails, &b.bad)
	keep(e)
	b.ceils, e = packRecords(b.e.Ceilings, &b.bad)
	keep(e)
	b.actAs, e = packRecords(b.e.ActAs, &b.bad)
	keep(e)
	b.identities, e = packRecords(b.e.Identities, &b.bad)
	keep(e)
	b.catalogue, e = packRecords(b.e.Catalogue, &b.bad)
	keep(e)
	names := map[string]bool{}
	for _, r := range b.e.Roles {
		names[r.Name] = true
	}
	sorted := slices.Sorted(maps.Keys(names))
	roles := make([]expanded, len(sorted))
	for i, n := range sorted {
		roles[i] = expanded{n, b.plain.RoleSets(n)}
	}
	b.Index.roles, e = packRecords(roles, &b.bad)
	keep(e)
	b.roleNames = packTexts(len(sorted), func(i int) string { return sorted[i] })
	b.meta, e = packRecords([]metaData{{b.e.Source, b.e.Semantics, len(b.e.Nodes)}}, &b.bad)
	keep(e)
	for _, t := range []int{len(b.grants.data), len(b.identities.data), len(b.catalogue.data)} {
		if t > math.MaxUint32 {
			keep(ErrLarge)
		}
	}
	return err
}

// catalogueColumns numbers the permissions; a service's come together.
func (b *builder) catalogueColumns() {
	type one struct {
		text string
		at   int
	}
	list := make([]one, 0, len(b.e.Catalogue))
	for i, c := range b.e.Catalogue {
		list = append(list, one{c.Permission.String(), i})
	}
	slices.SortStableFunc(list, func(x, y one) int { return cmp.Compare(x.text, y.text) })
	// Of one listed twice the last counts, as in the plain engine.
	kept := list[:0]
	for i, o := range list {
		if i+1 < len(list) && list[i+1].text == o.text {
			continue
		}
		kept = append(kept, o)
	}
	records := make([]uint32, len(kept))
	b.permLevel = make([]byte, len(kept))
	for i, o := range kept {
		records[i] = uint32(o.at)
		b.permLevel[i] = byte(b.e.Catalogue[o.at].Weighs())
		b.perms = append(b.perms, b.e.Catalogue[o.at])
	}
	b.Index.perms = packTexts(len(kept), func(i int) string { return kept[i].text })
	b.permRecord = packInts(records)
}

// set returns the number of a union of rights.
func (b *builder) set(sets []model.Rights) uint32 {
	bits := engine.NewBits(len(b.perms))
	for _, s := range sets {
		for _, d := range s.Do {
			if one, ok := d.Exact(); ok {
				if i, ok := b.Index.perms.find(one.String()); ok && s.Has(one) {
					bits.Set(i)
				}
				continue
			}
			for i := range b.perms {
				if p := b.perms[i].Permission; !bits.Has(i) && d.Matches(p) && s.Has(p) {
					bits.Set(i)
				}
			}
		}
	}
	var key strings.Builder
	var words []uint32
	var values []uint64
	for w, v := range bits {
		if v != 0 {
			words, values = append(words, uint32(w)), append(values, v)
			for i := range 4 {
				key.WriteByte(byte(w >> (8 * i)))
			}
			for i := range 8 {
				key.WriteByte(byte(v >> (8 * i)))
			}
		}
	}
	if n, ok := b.sets[key.String()]; ok {
		return n
	}
	n := uint32(len(b.setOff) - 1)
	b.sets[key.String()] = n
	b.setW, b.setB = append(b.setW, words...), append(b.setB, values...)
	b.setOff = append(b.setOff, uint32(len(b.setW)))
	return n
}

func (b *builder) setOf(g *model.Grant) uint32 {
	if g.Role == "" {
		return b.set([]model.Rights{g.Rights})
	}
	n, ok := b.roles[g.Role]
	if !ok {
		n = b.set(b.plain.RoleSets(g.Role))
		b.roles[g.Role] = n
	}
	return n
}

func (b *builder) identityColumns() {
	b.ids = map[model.ID]uint32{}
	e := b.e
	see := func(ids ...model.ID) {
		for _, id := range ids {
			b.ids[id] = 0
		}
	}
	see(model.ID{Kind: model.Everyone}, model.ID{Kind: model.SignedIn})
	see(e.Semantics.Bypass...)
	for _, i := range e.Identities {
		see(i.ID)
	}
	for _, m := range e.Memberships {
		see(m.Member, m.Group)
	}
	for _, a := range e.ActAs {
		see(a.From, a.To)
	}
	for _, g := range e.Grants {
		see(g.To)
	}
	for _, d := range e.Denials {
		see(d.To...)
		see(d.Unless...)
	}
	for _, g := range e.Guardrails {
		see(g.Unless...)
	}
	for _, c := range e.Ceilings {
		see(c.Of)
	}
	type one struct {
		text string
		id   model.ID
	}
	list := make([]one, 0, len(b.ids))
	for id := range b.ids {
		list = append(list, one{id.String(), id})
	}
	slices.SortFunc(list, func(x, y one) int { return cmp.Compare(x.text, y.text) })
	for i, o := range list {
		b.ids[o.id] = uint32(i)
	}
	n := len(list)
	b.Index.ids = packTexts(n, func(i int) string { return list[i].text })
	records := slices.Repeat([]uint32{none}, n)
	for i, id := range e.Identities {
		records[b.ids[id.ID]] = uint32(i)
	}
	b.idRecord = packInts(records)
	b.up = packLists(n, func(yield func(int, uint32)) {
		for _, m := range e.Memberships {
			yield(int(b.ids[m.Member]), b.ids[m.Group])
		}
	})
	b.down = packLists(n, func(yield func(int, uint32)) {
		for _, m := range e.Memberships {
			yield(int(b.ids[m.Group]), b.ids[m.Member])
		}
	})
	b.mayAct = packLists(n, func(yield func(int, uint32)) {
		for i, a := range e.ActAs {
			yield(int(b.ids[a.From]), uint32(i))
		}
	})
	b.ceilings = packLists(n, func(yield func(int, uint32)) {
		for i, c := range e.Ceilings {
			yield(int(b.ids[c.Of]), uint32(i))
		}
	})
	b.denied = packLists(n, func(yield func(int, uint32)) {
		for i, d := range e.Denials {
			for _, to := range d.To {
				yield(int(b.ids[to]), uint32(i))
			}
		}
	})
	crowd := func(n int, of func(i int) []model.ID) lists {
		return packLists(n, func(yield func(int, uint32)) {
			for i := range n {
				for _, id := range of(i) {
					yield(i, b.ids[id])
				}
			}
		})
	}
	b.denialTo = crowd(len(e.Denials), func(i int) []model.ID { return e.Denials[i].To })
	b.denialBut = crowd(len(e.Denials), func(i int) []model.ID { return e.Denials[i].Unless })
	b.railBut = crowd(len(e.Guardrails), func(i int) []model.ID { return e.Guardrails[i].Unless })
}

// eachPlace yields every pattern of the estate's rules.
func (b *builder) eachPlace(yield func(model.PathPattern)) {
	for i := range b.e.Grants {
		for _, on := range b.e.Grants[i].On {
			yield(on)
		}
	}
	for i := range b.e.Denials {
		for _, on := range b.e.Denials[i].On {
			yield(on)
		}
	}
	for i := range b.e.Ceilings {
		for _, on := range b.e.Ceilings[i].On {
			yield(on)
		}
	}
	for i := range b.e.Guardrails {
		yield(b.e.Guardrails[i].Node.Below())
	}
}

// nodeColumns numbers nodes in depth-first order, with every node that a place hangs
// on and every one above.
func (b *builder) nodeColumns() {
	real := make(map[model.Path]bool, len(b.e.Nodes))
	paths := make([]model.Path, 0, len(b.e.Nodes)+16)
	for i := range b.e.Nodes {
		if p := b.e.Nodes[i].Path; !real[p] {
			real[p] = true
			paths = append(paths, p)
		}
	}
	named := map[model.Path]bool{}
	name := func(p model.Path) {
		for ok := true; ok && !real[p] && !named[p]; p, ok = p.Parent() {
			named[p] = true
			paths = append(paths, p)
		}
	}
	b.eachPlace(func(on model.PathPattern) {
		if at, ok := on.Anchor(); ok {
			name(at)
		}
	})
	for i := range b.e.Nodes { // those above that nobody lists
		if up, ok := b.e.Nodes[i].Path.Parent(); ok {
			name(up)
		}
	}
	slices.SortFunc(paths, model.Path.Compare)
	n := len(paths)
	b.paths = paths
	b.nodeAt = make(map[model.Path]uint32, n)
	parent, end, count := make([]uint32, n), make([]uint32, n), make([]uint32, n+1)
	slots := 64
	for slots < 2*n {
		slots *= 2
	}
	table, mask := make([]uint32, slots), uint64(slots-1)
	hashes := make([]uint64, n)
	var open []uint32 // the nodes above the one at hand
	segs := make([]string, n)
	for i, p := range paths {
		b.nodeAt[p] = uint32(i)
		for len(open) > 0 && !paths[open[len(open)-1]].Covers(p) {
			end[open[len(open)-1]] = uint32(i)
			open = open[:len(open)-1]
		}
		up, h := none, uint64(fnvBasis)
		if len(open) > 0 {
			up = open[len(open)-1]
			h = hashes[up]
		}
		text := p.String()
		seg := text[strings.LastIndexByte(text, '/')+1:]
		segs[i] = seg
		h = hash(hash(h, "/"), seg)
		hashes[i], parent[i] = h, up
		at := mix(h) & mask
		for table[at] != 0 {
			at = (at + 1) & mask
		}
		table[at] = uint32(i) + 1
		count[i+1] = count[i]
		if real[p] {
			count[i+1]++
		}
		open = append(open, uint32(i))
	}
	for _, o := range open {
		end[o] = uint32(n)
	}
	b.nodeParent, b.nodeEnd, b.realBefore, b.nodeSlots = packInts(parent), packInts(end), packInts(count), packInts(table)
	b.nodeSeg = packTexts(n, func(i int) string { return segs[i] })
	var nodes []uint32
	var labels []map[string]string
	order := make([]uint32, len(b.e.Nodes))
	for i := range order {
		order[i] = uint32(i)
	}
	slices.SortStableFunc(order, func(x, y uint32) int {
		return cmp.Compare(b.nodeAt[b.e.Nodes[x].Path], b.nodeAt[b.e.Nodes[y].Path])
	})
	for _, i := range order {
		if l := b.e.Nodes[i].Labels; len(l) > 0 {
			nodes, labels = append(nodes, b.nodeAt[b.e.Nodes[i].Path]), append(labels, l)
		}
	}
	b.labelled = packInts(nodes)
	b.labels, _ = packRecords(labels, &b.bad) // a map of texts cannot fail
}

func (b *builder) placeColumns() {
	b.places = map[model.PathPattern]uint32{}
	b.eachPlace(func(on model.PathPattern) { b.places[on] = 0 })
	type one struct {
		on   model.PathPattern
		node uint32
		text string
	}
	list := make([]one, 0, len(b.places))
	for on := range b.places {
		o := one{on, none, on.String()}
		if at, ok := on.Anchor(); ok {
			o.node = b.nodeAt[at]
		}
		list = append(list, o)
	}
	slices.SortFunc(list, func(x, y one) int { return cmp.Or(cmp.Compare(x.node, y.node), cmp.Compare(x.text, y.text)) })
	n := len(list)
	nodes := make([]uint32, n)
	b.placeKind = make([]byte, n)
	spans := make([][]span, n)
	all := map[span]uint32{}
	for i, o := range list {
		b.places[o.on] = uint32(i)
		nodes[i] = o.node
		if _, ok := o.on.Node(); !ok {
			b.placeKind[i] = wild
			spans[i] = b.wildSpans(o.on, o.node)
		} else if o.on.Deep() {
			b.placeKind[i] = below
			spans[i] = []span{{o.node, b.nodeEnd.at(int(o.node))}}
		} else {
			spans[i] = []span{{o.node, o.node + 1}}
		}
		for _, s := range spans[i] {
			all[s] = 0
		}
	}
	b.byLabels = map[labelPlace]uint32{}
	b.eachLabelled(func(on model.PathPattern, c model.Condition) {
		k := labelOf(b.places[on], c)
		if _, ok := b.byLabels[k]; ok {
			return
		}
		b.byLabels[k] = uint32(len(spans))
		var list []span
		for _, s := range spans[b.places[on]] {
			for i := b.labelled.search(s.from); i < b.labelled.len() && b.labelled.at(i) < s.to; i++ {
				n := b.labelled.at(i)
				if met, _ := (model.Condition{Labels: c.Labels}).Eval(model.Context{Labels: *b.labels.at(i)}); met == model.True && b.real(int(n)) {
					list = append(list, span{n, n + 1})
					all[span{n, n + 1}] = 0
				}
			}
		}
		spans = append(spans, list)
	})
	b.placeNode = packInts(nodes)
	b.placeText = packTexts(n, func(i int) string { return list[i].text })
	sorted := make([]span, 0, len(all))
	for s := range all {
		sorted = append(sorted, s)
	}
	slices.SortFunc(sorted, func(x, y span) int { return cmp.Or(cmp.Compare(x.from, y.from), cmp.Compare(y.to, x.to)) })
	starts, ends := make([]uint32, len(sorted)), make([]uint32, len(sorted))
	for i, s := range sorted {
		all[s] = uint32(i)
		starts[i], ends[i] = s.from, s.to
	}
	b.spanStart, b.spanEnd = packInts(starts), packInts(ends)
	b.span = packLists(len(spans), func(yield func(int, uint32)) {
		for i, list := range spans {
			for _, s := range list {
				yield(i, all[s])
			}
		}
	})
}

// wildSpans returns the intervals of the nodes that a pattern with wildcards matches.
// They nest with all others: each is a node alone or a subtree.
func (b *builder) wildSpans(on model.PathPattern, node uint32) []span {
	from, to := uint32(0), uint32(b.nodeParent.len())
	if node != none {
		from, to = node, b.nodeEnd.at(int(node))
	}
	var out []span
	deep := on.Deep()
	for n := from; n < to; {
		if !on.Matches(b.paths[n]) {
			n++
			continue
		}
		if deep {
			end := b.nodeEnd.at(int(n))
			out = append(out, span{n, end})
			n = end
			continue
		}
		out = append(out, span{n, n + 1})
		n++
	}
	return out
}

// The kinds of condition, once the labels of the node are known.
const (
	always = iota
	open   // the call decides
)

func kindOf(c model.Condition) uint32 {
	c.Labels = nil
	if c.IsZero() {
		return always
	}
	return open
}

// What the list of an identity's grants holds for each place of each grant.
const (
	givenPlace = iota
	givenSet
	givenGrant
	givenKind
	givenSpans // which list of intervals
	givenWidth
)

// labelPlace is a place for resources with some labels only.
type labelPlace struct {
	place  uint32
	labels string
}

// spansFor returns which list of intervals stands for a place under a condition.
func (b *builder) spansFor(on model.PathPattern, c model.Condition) uint32 {
	if len(c.Labels) == 0 {
		return b.places[on]
	}
	return b.byLabels[labelOf(b.places[on], c)]
}

func labelOf(place uint32, c model.Condition) labelPlace {
	var l strings.Builder
	for _, k := range slices.Sorted(maps.Keys(c.Labels)) {
		l.WriteString(k + "\x00" + c.Labels[k] + "\x00")
	}
	return labelPlace{place, l.String()}
}

// eachLabelled yields the places of rules that ask for labels.
func (b *builder) eachLabelled(yield func(model.PathPattern, model.Condition)) {
	for i := range b.e.Grants {
		if g := &b.e.Grants[i]; len(g.When.Labels) > 0 {
			for _, on := range g.On {
				yield(on, g.When)
			}
		}
	}
	for i := range b.e.Denials {
		if d := &b.e.Denials[i]; len(d.When.Labels) > 0 {
			for _, on := range d.On {
				yield(on, d.When)
			}
		}
	}
}

func (b *builder) ruleColumns() {
	e := b.e
	grantSet := make([]uint32, len(e.Grants))
	kinds := make([]uint32, len(e.Grants))
	for i := range e.Grants {
		grantSet[i], kinds[i] = b.setOf(&e.Grants[i]), kindOf(e.Grants[i].Condition())
	}
	b.grantSet = packInts(grantSet)
	b.given = packLists(b.Index.ids.len(), func(yield func(int, uint32)) {
		for i := range e.Grants {
			to := int(b.ids[e.Grants[i].To])
			for _, on := range e.Grants[i].On {
				for _, v := range [givenWidth]uint32{b.places[on], grantSet[i], uint32(i), kinds[i], b.spansFor(on, e.Grants[i].When)} {
					yield(to, v)
				}
			}
		}
	})
	b.onPlace = packLists(len(b.places), func(yield func(int, uint32)) {
		for i := range e.Grants {
			for _, on := range e.Grants[i].On {
				yield(int(b.places[on]), uint32(i))
			}
		}
	})
	denialSet := make([]uint32, len(e.Denials))
	for i := range e.Denials {
		denialSet[i] = b.set([]model.Rights{e.Denials[i].Rights})
	}
	b.denialSet = packInts(denialSet)
	b.denialKind = make([]byte, len(e.Denials))
	for i := range e.Denials {
		b.denialKind[i] = byte(kindOf(e.Denials[i].When))
	}
	b.denialSpans = packLists(len(e.Denials), func(yield func(int, uint32)) {
		for i := range e.Denials {
			for _, on := range e.Denials[i].On {
				yield(i, b.spansFor(on, e.Denials[i].When))
			}
		}
	})
	b.denialOn = packLists(len(b.places), func(yield func(int, uint32)) {
		for i := range e.Denials {
			for _, on := range e.Denials[i].On {
				yield(int(b.places[on]), uint32(i))
			}
		}
	})
	railSet := make([]uint32, len(e.Guardrails))
	type pair struct{ place, rail uint32 }
	var rails []pair
	for i := range e.Guardrails {
		railSet[i] = b.set([]model.Rights{e.Guardrails[i].Rights})
		rails = append(rails, pair{b.places[e.Guardrails[i].Node.Below()], uint32(i)})
	}
	b.railSet = packInts(railSet)
	b.railsAt = packLists(len(b.places), func(yield func(int, uint32)) {
		for _, r := range rails {
			yield(int(r.place), r.rail)
		}
	})
	ceilSet := make([]uint32, len(e.Ceilings))
	for i := range e.Ceilings {
		ceilSet[i] = b.set([]model.Rights{e.Ceilings[i].Rights})
	}
	b.ceilSet = packInts(ceilSet)
	b.ceilOn = packLists(len(e.Ceilings), func(yield func(int, uint32)) {
		for i := range e.Ceilings {
			for _, on := range e.Ceilings[i].On {
				yield(i, b.places[on])
			}
		}
	})
}
