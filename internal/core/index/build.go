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

// ErrLarge: an estate has more of something than the index has numbers for: a column of
// 4 GiB (2^30 nodes), 2^22 permissions, 2^30 distinct sets of rights.
var ErrLarge = errors.New("estate is too large to be indexed")

// A span is an interval of nodes.
type span struct{ from, to uint32 }

// builder keeps what is needed while an index is made.
type builder struct {
	*Index
	e        *model.Estate
	plain    *engine.Engine // for roles and rights, which it expands
	paths    []model.Path   // by node
	ids      map[model.ID]uint32
	places   map[model.PathPattern]uint32
	byLabels map[labelPlace]uint32
	sets     map[string]uint32 // by their words
	roles    map[string]uint32 // their sets
	setOff   []uint32
	setW     []uint32
	setB     []uint64
	matched  map[model.PermissionPattern]engine.Bits
	perms    []model.CatalogueEntry // in order
}

// Build indexes an estate, which must not change while the index is in use. It does
// not validate it: references that lead nowhere give nothing.
func Build(e *model.Estate) (*Index, error) {
	if len(e.Nodes) > 1<<30 || len(e.Grants) > 1<<30 {
		return nil, ErrLarge
	}
	b := &builder{Index: &Index{}, e: e, sets: map[string]uint32{}, roles: map[string]uint32{}, matched: map[model.PermissionPattern]engine.Bits{}, setOff: []uint32{0}}
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
	if !b.fits() {
		return nil, ErrLarge
	}
	b.ready()
	return b.Index, nil
}

// records packs what is kept as the model has it.
func (b *builder) records() error {
	builtin := map[string]bool{}
	for _, r := range b.e.Roles {
		builtin[r.Name] = r.Builtin
	}
	names := slices.Sorted(maps.Keys(builtin))
	roles := make([]expanded, len(names))
	for i, n := range names {
		roles[i] = expanded{n, builtin[n], b.plain.RoleSets(n)}
	}
	b.roleNames = packTexts(len(names), func(i int) string { return names[i] })
	return errors.Join(
		keep(&b.grants, b.e.Grants, b),
		keep(&b.denials, b.e.Denials, b),
		keep(&b.guardrails, b.e.Guardrails, b),
		keep(&b.ceils, b.e.Ceilings, b),
		keep(&b.actAs, b.e.ActAs, b),
		keep(&b.identities, b.e.Identities, b),
		keep(&b.catalogue, b.e.Catalogue, b),
		keep(&b.Index.roles, roles, b),
		keep(&b.meta, []metaData{{b.e.Source, b.e.Semantics}}, b))
}

func keep[T any](to *records[T], list []T, b *builder) (err error) {
	*to, err = packRecords(list, &b.bad)
	return err
}

// fits reports whether what was built can be named by the numbers that are used: offsets
// of 32 bits, words of 16 bits in a walk, sets of 30.
func (b *builder) fits() bool {
	for _, s := range b.sections() {
		if len(*s.data) > math.MaxUint32 {
			return false
		}
	}
	return b.words() <= 1<<16 && len(b.setOff) <= 1<<itemSetBits
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
	// Numbers go by level and service, and every level begins a word: so a word holds
	// one level, and a service's permissions few words.
	order := make([]uint32, len(kept))
	for i := range order {
		order[i] = uint32(i)
	}
	of := func(i uint32) *model.CatalogueEntry { return &b.e.Catalogue[kept[i].at] }
	slices.SortStableFunc(order, func(x, y uint32) int {
		return cmp.Or(cmp.Compare(of(x).Weighs(), of(y).Weighs()), cmp.Compare(of(x).Permission.Service(), of(y).Permission.Service()))
	})
	number := make([]uint32, len(kept))
	var records []uint32
	for i, at := range order {
		for i > 0 && len(records)&63 != 0 && of(order[i-1]).Weighs() != of(at).Weighs() {
			records, b.permLevel, b.perms = append(records, none), append(b.permLevel, hole), append(b.perms, model.CatalogueEntry{})
		}
		number[at] = uint32(len(records))
		records, b.permLevel, b.perms = append(records, uint32(kept[at].at)), append(b.permLevel, byte(of(at).Weighs())), append(b.perms, *of(at))
	}
	b.Index.perms = packTexts(len(kept), func(i int) string { return kept[i].text })
	b.permSlots = b.Index.perms.hashed()
	b.permNumber, b.permRecord = packInts(number), packInts(records)
}

// set returns the number of a union of rights.
func (b *builder) set(sets []model.Rights) uint32 { return b.number(b.bitsOf(sets)) }

// refusal returns the number of everything that rights do not hold.
func (b *builder) refusal(r model.Rights) uint32 {
	admitted := b.bitsOf([]model.Rights{r})
	out := engine.NewBits(len(b.perms))
	for i := range b.perms {
		if b.permLevel[i] != hole && !admitted.Has(i) {
			out.Set(i)
		}
	}
	return b.number(out)
}

func (b *builder) bitsOf(sets []model.Rights) engine.Bits {
	out := engine.NewBits(len(b.perms))
	for _, s := range sets {
		one := engine.NewBits(len(b.perms))
		for _, d := range s.Do {
			b.add(one, d)
		}
		if len(s.Except) > 0 {
			but := engine.NewBits(len(b.perms))
			for _, d := range s.Except {
				b.add(but, d)
			}
			one.AndNot(but)
		}
		out.Or(one)
	}
	return out
}

// add adds the permissions that a pattern matches.
func (b *builder) add(to engine.Bits, d model.PermissionPattern) {
	if one, ok := d.Exact(); ok {
		if i, ok := b.holds(one); ok {
			to.Set(i)
		}
		return
	}
	found, ok := b.matched[d]
	if !ok {
		found = engine.NewBits(len(b.perms))
		for i := range b.perms {
			if b.permLevel[i] != hole && d.Matches(b.perms[i].Permission) {
				found.Set(i)
			}
		}
		b.matched[d] = found
	}
	to.Or(found)
}

// number returns the number of a set, the same for the same set.
func (b *builder) number(bits engine.Bits) uint32 {
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
	for i := range e.Nodes {
		if as := e.Nodes[i].RunsAs; !as.IsZero() {
			see(as)
		}
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
	b.idSlots = b.Index.ids.hashed()
	b.idKind = make([]byte, n)
	for i, o := range list {
		b.idKind[i] = byte(slices.Index(kinds, o.id.Kind))
		if slices.Contains(e.Semantics.Bypass, o.id) {
			b.idKind[i] |= bypass
		}
	}
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
		for _, on := range b.e.Grants[i].Where {
			yield(on)
		}
	}
	for i := range b.e.Denials {
		for _, on := range b.e.Denials[i].Where {
			yield(on)
		}
	}
	for i := range b.e.Ceilings {
		for _, on := range b.e.Ceilings[i].Where {
			yield(on)
		}
	}
	for i := range b.e.Guardrails {
		yield(b.e.Guardrails[i].Node.Below())
	}
}

// inOrder returns the nodes of the inventory and those that places hang on, each once
// and in depth-first order, and which are of the inventory.
func (b *builder) inOrder() (paths []model.Path, real []bool) {
	listed := make([]model.Path, len(b.e.Nodes))
	for i := range b.e.Nodes {
		listed[i] = b.e.Nodes[i].Path
	}
	if !slices.IsSortedFunc(listed, model.Path.Compare) {
		slices.SortFunc(listed, model.Path.Compare)
	}
	anchors := map[model.Path]bool{}
	b.eachPlace(func(on model.PathPattern) {
		if at, ok := on.Anchor(); ok {
			anchors[at] = true
		}
	})
	named := slices.SortedFunc(maps.Keys(anchors), model.Path.Compare)
	paths, real = make([]model.Path, 0, len(listed)+len(named)), make([]bool, 0, len(listed)+len(named))
	var open []model.Path // the nodes above the one at hand
	add := func(p model.Path, is bool) {
		if n := len(paths); n > 0 && paths[n-1] == p {
			real[n-1] = real[n-1] || is
			return
		}
		for len(open) > 0 && !open[len(open)-1].Covers(p) {
			open = open[:len(open)-1]
		}
		var missing []model.Path // above it, and listed by nobody
		for up, ok := p.Parent(); ok && (len(open) == 0 || up != open[len(open)-1]); up, ok = up.Parent() {
			missing = append(missing, up)
		}
		for _, up := range slices.Backward(missing) {
			paths, real, open = append(paths, up), append(real, false), append(open, up)
		}
		paths, real, open = append(paths, p), append(real, is), append(open, p)
	}
	for i, j := 0, 0; i < len(listed) || j < len(named); {
		if j == len(named) || i < len(listed) && listed[i].Compare(named[j]) <= 0 {
			add(listed[i], true)
			i++
		} else {
			add(named[j], false)
			j++
		}
	}
	return paths, real
}

// node returns the number of a path that is one's.
func (b *builder) node(p model.Path) uint32 {
	n, _ := b.nearest(p)
	return n
}

// nodeColumns numbers nodes in depth-first order, with every node that a place hangs
// on and every one above.
func (b *builder) nodeColumns() {
	paths, real := b.inOrder()
	n := len(paths)
	b.paths = paths
	parent, end, count := make([]uint32, n), make([]uint32, n), make([]uint32, n+1)
	hashes := make([]uint64, n)
	var open []uint32 // the nodes above the one at hand
	segOff, segs := make([]uint32, 1, n+1), make([]byte, 0, 8*n)
	for i, p := range paths {
		for len(open) > 0 && !paths[open[len(open)-1]].Covers(p) {
			end[open[len(open)-1]] = uint32(i)
			open = open[:len(open)-1]
		}
		up, h := none, uint64(fnvBasis)
		if len(open) > 0 {
			up = open[len(open)-1]
			h = hashes[up]
		}
		from := len(segs)
		segs = p.AppendLast(segs)
		segOff = append(segOff, uint32(len(segs)))
		h = hash(hash(h, "/"), string(segs[from:]))
		hashes[i], parent[i] = h, up
		count[i+1] = count[i]
		if real[i] {
			count[i+1]++
		}
		open = append(open, uint32(i))
	}
	for _, o := range open {
		end[o] = uint32(n)
	}
	b.nodeParent, b.nodeEnd, b.realBefore = packInts(parent), packInts(end), packInts(count)
	b.nodeSlots = packSlots(n, func(i int) (uint32, uint64) { return uint32(i), hashes[i] })
	b.nodeSeg = texts{packInts(segOff), segs}
	var nodes []uint32
	var labels []map[string]string
	type one struct {
		node   uint32
		labels map[string]string
	}
	var list []one
	for i := range b.e.Nodes {
		if l := b.e.Nodes[i].Labels; len(l) > 0 {
			list = append(list, one{b.node(b.e.Nodes[i].Path), l})
		}
	}
	slices.SortStableFunc(list, func(x, y one) int { return cmp.Compare(x.node, y.node) })
	var runs []span // a node, and as whom it runs
	for i := range b.e.Nodes {
		if as := b.e.Nodes[i].RunsAs; !as.IsZero() {
			runs = append(runs, span{b.node(b.e.Nodes[i].Path), b.ids[as]})
		}
	}
	slices.SortFunc(runs, func(x, y span) int { return cmp.Compare(x.from, y.from) })
	var runsNode, runsAs []uint32
	for _, r := range runs {
		runsNode, runsAs = append(runsNode, r.from), append(runsAs, r.to)
	}
	b.runsNode, b.runsAs = packInts(runsNode), packInts(runsAs)
	for _, o := range list {
		nodes, labels = append(nodes, o.node), append(labels, o.labels)
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
			o.node = b.node(at)
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
	b.placeSlots = firstOf(nodes)
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
	for i, s := range sorted {
		starts[i], ends[i] = b.realBefore.at(int(s.from)), b.realBefore.at(int(s.to))
	}
	b.spanFrom, b.spanTo = packInts(starts), packInts(ends)
	b.span = packLists(len(spans), func(yield func(int, uint32)) {
		for i, list := range spans {
			for _, s := range list {
				yield(i, all[s])
			}
		}
	})
}

// firstOf returns a table of where each number of a sorted list first stands.
func firstOf(sorted []uint32) slots {
	var first []uint32
	for i, v := range sorted {
		if i == 0 || sorted[i-1] != v {
			first = append(first, uint32(i))
		}
	}
	return packSlots(len(first), func(i int) (uint32, uint64) { return first[i], placeHash(sorted[first[i]]) })
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
	always   = 0
	open     = 1 // the call decides
	labelled = 2 // a bit: labels decide, too
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
	givenSet = iota
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
			for _, on := range g.Where {
				yield(on, g.When)
			}
		}
	}
	for i := range b.e.Denials {
		if d := &b.e.Denials[i]; len(d.When.Labels) > 0 {
			for _, on := range d.Where {
				yield(on, d.When)
			}
		}
	}
}

func (b *builder) ruleColumns() {
	e := b.e
	grantSet := make([]uint32, len(e.Grants))
	grantTo := make([]uint32, len(e.Grants))
	b.grantKind = make([]byte, len(e.Grants))
	for i := range e.Grants {
		g := &e.Grants[i]
		grantSet[i], grantTo[i], b.grantKind[i] = b.setOf(g), b.ids[g.To], byte(kindOf(g.Condition()))
		if len(g.When.Labels) > 0 {
			b.grantKind[i] |= labelled
		}
	}
	b.grantTo = packInts(grantTo)
	b.grantSet = packInts(grantSet)
	b.given = packLists(b.Index.ids.len(), func(yield func(int, uint32)) {
		for i := range e.Grants {
			to := int(b.ids[e.Grants[i].To])
			for _, on := range e.Grants[i].Where {
				for _, v := range [givenWidth]uint32{grantSet[i], uint32(i), uint32(b.grantKind[i] &^ labelled), b.spansFor(on, e.Grants[i].When)} {
					yield(to, v)
				}
			}
		}
	})
	b.givenAt = packLists(b.Index.ids.len(), func(yield func(int, uint32)) {
		for i := range e.Grants {
			to := int(b.ids[e.Grants[i].To])
			for _, on := range e.Grants[i].Where {
				yield(to, b.places[on])
			}
		}
	})
	b.onPlace = packLists(len(b.places), func(yield func(int, uint32)) {
		for i := range e.Grants {
			for _, on := range e.Grants[i].Where {
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
			for _, on := range e.Denials[i].Where {
				yield(i, b.spansFor(on, e.Denials[i].When))
			}
		}
	})
	b.denialOn = packLists(len(b.places), func(yield func(int, uint32)) {
		for i := range e.Denials {
			for _, on := range e.Denials[i].Where {
				yield(int(b.places[on]), uint32(i))
			}
		}
	})
	railSet := make([]uint32, len(e.Guardrails))
	type pair struct{ place, rail uint32 }
	var rails []pair
	for i := range e.Guardrails {
		railSet[i] = b.refusal(e.Guardrails[i].Rights)
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
			for _, on := range e.Ceilings[i].Where {
				yield(i, b.places[on])
			}
		}
	})
}
