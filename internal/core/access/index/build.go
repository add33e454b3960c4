package index

import (
	"bytes"
	"cmp"
	"errors"
	"maps"
	"math"
	"math/bits"
	"slices"
	"strings"
	"sync/atomic"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// How an index is made
//
// Everything that a question compares becomes a number first, so that the rest is made of
// numbers alone; each step needs those before it:
//
//	records    what answers show as the model has it: grants, denials, roles, each a text that is
//	           decoded when it is shown; roles with what they include already put together
//	catalogue  permissions, a service's together and in order, so that the rights of a role are
//	           few words of a bitmap; equal sets of rights, which roles and lists give, get one
//	           number (builder.number); lists of kinds get one too, a permission's class
//	identities groups upwards and members downwards as lists of numbers, and what acts as whom
//	nodes      every node of the inventory and every node that a rule names, sorted as paths are:
//	           that is depth-first order, so a subtree is an interval; whether a node is of the
//	           inventory is a column of its own (realBefore: how many are before it)
//	places     every distinct pattern, hung on its deepest node without a wildcard, with the
//	           spans that it stands for: one, unless it holds a wildcard
//	rules      what is granted to each identity, once a place, beside it the place alone, in
//	           order, so that most of them are passed over without being looked at (givenAt)
//
// The names of nodes are not kept as paths but as their last segments with the number of the
// node above, and found by hash: a path is put together when it is shown.

// ErrLarge: an estate has more of something than the index has numbers for: a column of
// 4 GiB (2^30 nodes), 2^22 permissions, 2^30 distinct sets of rights.
var ErrLarge = errors.New("estate is too large to be indexed")

// A span is an interval of nodes: a node alone or with everything below it. It is named by
// twice its node, and one more for a node alone, so that sorting spans is a walk in
// depth-first order in which what holds others comes first.
func spanOf(node uint32, alone bool) uint32 {
	if alone {
		return 2*node + 1
	}
	return 2 * node
}

// builder keeps what is needed while an index is made.
type builder struct {
	*Index
	e        *model.Estate
	paths    []model.Path // by node
	ids      map[model.ID]uint32
	places   map[model.PathPattern]uint32
	byLabels map[labelPlace]uint32
	sets     map[string]uint32 // by their words
	roles    map[string]uint32 // their sets
	roleAt   map[string]uint32
	kindAt   map[string]uint32
	setOff   []uint32
	setW     []uint32
	setB     []uint64
	filler   filler
	perms    []model.CatalogueEntry // in order
}

// Build indexes an estate, which must not change while the index is in use. It does
// not validate it: references that lead nowhere give nothing.
func Build(e *model.Estate) (*Index, error) {
	if len(e.Nodes) > 1<<30 || len(e.Grants) > 1<<30 {
		return nil, ErrLarge
	}
	b := &builder{Index: &Index{columns: columns{bad: new(atomic.Bool)}}, e: e, sets: map[string]uint32{},
		roles: map[string]uint32{}, roleAt: map[string]uint32{}, kindAt: map[string]uint32{}, setOff: []uint32{0}}
	b.filler = filler{b.Index, map[model.PermissionPattern]access.Set{}}
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
	byName := map[string]*model.Role{}
	for i := range b.e.Roles {
		byName[b.e.Roles[i].Name] = &b.e.Roles[i]
	}
	missing := map[string]bool{}
	for i := range b.e.Grants {
		if name := b.e.Grants[i].Role; name != "" && byName[name] == nil {
			missing[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(byName))
	names = append(names, slices.Collect(maps.Keys(missing))...)
	slices.Sort(names)
	roles := make([]expanded, len(names))
	for i, n := range names {
		b.roleAt[n] = uint32(i)
		if roles[i] = (expanded{Role: model.Role{Name: n}, Missing: missing[n]}); !missing[n] {
			roles[i] = expanded{*byName[n], false, expand(n, func(name string) (model.Rights, []string, bool) {
				in := byName[name]
				if in == nil {
					return model.Rights{}, nil, false
				}
				return in.Rights, in.Includes, true
			})}
		}
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
		keep(&b.coverage, b.e.Coverage, b),
		keep(&b.meta, []metaData{{b.e.Source, b.e.Semantics}}, b))
}

// expand returns the rights of a role and of those that it includes, each once, its own
// first.
func expand(name string, of func(name string) (own model.Rights, includes []string, ok bool)) []model.Rights {
	var out []model.Rights
	seen := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		own, includes, ok := of(name)
		if !ok || seen[name] {
			return
		}
		seen[name] = true
		out = append(out, own)
		for _, in := range includes {
			add(in)
		}
	}
	add(name)
	return out
}

func keep[T any](to *records[T], list []T, b *builder) (err error) {
	*to, err = packRecords(list, b.bad)
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
		return cmp.Or(cmp.Compare(of(x).Weighs(), of(y).Weighs()),
			cmp.Compare(of(x).Permission.Service(), of(y).Permission.Service()))
	})
	number := make([]uint32, len(kept))
	var records []uint32
	for i, at := range order {
		for i > 0 && len(records)&63 != 0 && of(order[i-1]).Weighs() != of(at).Weighs() {
			records, b.permLevel, b.perms = append(records, none), append(b.permLevel, hole), append(b.perms,
				model.CatalogueEntry{})
		}
		number[at] = uint32(len(records))
		records, b.permLevel, b.perms = append(records, uint32(kept[at].at)), append(b.permLevel,
			byte(of(at).Weighs())), append(b.perms, *of(at))
	}
	b.Index.perms = packTexts(len(kept), func(i int) string { return kept[i].text })
	b.permSlots = b.Index.perms.hashed()
	b.permNumber, b.permRecord = packInts(number), packInts(records)
	b.classColumns()
}

// classColumns numbers the lists of kinds of node that permissions apply to. The first is
// that of every kind.
func (b *builder) classColumns() {
	names := map[string]bool{}
	for i := range b.e.Nodes {
		kind, _ := b.e.Nodes[i].Path.Last()
		names[kind] = true
	}
	for _, c := range b.perms {
		for _, k := range c.Kinds {
			names[k] = true
		}
	}
	kinds := slices.Sorted(maps.Keys(names))
	for i, k := range kinds {
		b.kindAt[k] = uint32(i)
	}
	b.kindNames = packTexts(len(kinds), func(i int) string { return kinds[i] })
	classes := [][]uint32{nil}
	byKinds := map[string]uint32{"": 0}
	of := make([]uint32, len(b.perms))
	for i, c := range b.perms {
		list := slices.Compact(slices.Sorted(slices.Values(c.Kinds)))
		key := strings.Join(list, "\x00")
		if len(list) > 0 {
			key += "\x00"
		}
		n, ok := byKinds[key]
		if !ok {
			n = uint32(len(classes))
			byKinds[key] = n
			var numbers []uint32
			for _, k := range list {
				numbers = append(numbers, b.kindAt[k])
			}
			classes = append(classes, numbers)
		}
		of[i] = n
	}
	b.permClass = packInts(of)
	b.classKinds = packLists(len(classes), func(yield func(int, uint32)) {
		for i, list := range classes {
			for _, k := range list {
				yield(i, k)
			}
		}
	})
}

// set returns the number of a union of rights.
func (b *builder) set(sets []model.Rights) uint32 { return b.number(b.filler.of(sets)) }

// filler turns rights into sets of permissions by number.
type filler struct {
	x       *Index
	matched map[model.PermissionPattern]access.Set // what was asked for before
}

// of returns a union of rights.
func (f *filler) of(sets []model.Rights) access.Set {
	out := f.x.NewSet()
	for _, s := range sets {
		one := f.x.NewSet()
		for _, d := range s.Do {
			f.add(one, d)
		}
		if len(s.Except) > 0 {
			but := f.x.NewSet()
			for _, d := range s.Except {
				f.add(but, d)
			}
			one.AndNot(but)
		}
		out.Or(one)
	}
	return out
}

// but returns everything that rights do not hold.
func (f *filler) but(r model.Rights) access.Set {
	out := f.x.NewSet()
	for i := range f.x.Numbers() {
		out.Add(i)
	}
	out.AndNot(f.of([]model.Rights{r}))
	return out
}

// add adds the permissions that a pattern matches.
func (f *filler) add(to access.Set, d model.PermissionPattern) {
	if one, ok := d.Exact(); ok {
		if i, ok := f.x.holds(one); ok {
			to.Add(i)
		}
		return
	}
	found, ok := f.matched[d]
	if !ok {
		found = f.x.NewSet()
		for i := range f.x.Numbers() {
			if d.Matches(f.x.Permission(i).Permission) {
				found.Add(i)
			}
		}
		f.matched[d] = found
	}
	to.Or(found)
}

// number returns the number of a set, the same for the same set.
func (b *builder) number(bits access.Set) uint32 {
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
	return b.setOfRole(g.Role)
}

func (b *builder) setOfRole(name string) uint32 {
	n, ok := b.roles[name]
	if !ok {
		n = b.set(b.Index.roles.at(int(b.roleAt[name])).Sets)
		b.roles[name] = n
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
	b.idKind.flat = make([]byte, n)
	for i, o := range list {
		b.idKind.flat[i] = byte(slices.Index(kinds, o.id.Kind))
		if slices.Contains(e.Semantics.Bypass, o.id) {
			b.idKind.flat[i] |= bypass
		}
	}
	records := slices.Repeat([]uint32{none}, n)
	for i, id := range e.Identities {
		records[b.ids[id.ID]] = uint32(i)
	}
	b.idRecord.flat = packInts(records)
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
	b.kindColumns(paths, real)
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
	type run struct{ node, as uint32 }
	var runs []run
	for i := range b.e.Nodes {
		if as := b.e.Nodes[i].RunsAs; !as.IsZero() {
			runs = append(runs, run{b.node(b.e.Nodes[i].Path), b.ids[as]})
		}
	}
	slices.SortFunc(runs, func(x, y run) int { return cmp.Compare(x.node, y.node) })
	var runsNode, runsAs []uint32
	for _, r := range runs {
		runsNode, runsAs = append(runsNode, r.node), append(runsAs, r.as)
	}
	b.runsNode, b.runsAs = packInts(runsNode), packInts(runsAs)
	for _, o := range list {
		nodes, labels = append(nodes, o.node), append(labels, o.labels)
	}
	b.labelled = packInts(nodes)
	b.labels, _ = packRecords(labels, b.bad) // a map of texts cannot fail
}

// kindColumns marks which nodes of the inventory are of which kind.
func (b *builder) kindColumns(paths []model.Path, real []bool) {
	words := len(paths)/64 + 1
	bitmaps, rank := make([]uint64, words*b.kindNames.len()), make([]uint32, words*b.kindNames.len())
	for i, p := range paths {
		if real[i] {
			kind, _ := p.Last()
			bitmaps[int(b.kindAt[kind])*words+i/64] |= 1 << (i % 64)
		}
	}
	for k := range b.kindNames.len() {
		n := uint32(0)
		for w := k * words; w < (k+1)*words; w++ {
			rank[w] = n
			n += uint32(bits.OnesCount64(bitmaps[w]))
		}
	}
	b.kindBits, b.kindRank = packLongs(bitmaps), packInts(rank)
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
	slices.SortFunc(list, func(x, y one) int {
		return cmp.Or(cmp.Compare(x.node, y.node),
			cmp.Compare(x.text, y.text))
	})
	n := len(list)
	nodes := make([]uint32, n)
	b.placeKind = make([]byte, n)
	spans := make([][]uint32, n)
	for i, o := range list {
		b.places[o.on] = uint32(i)
		nodes[i] = o.node
		switch _, ok := o.on.Node(); {
		case !ok:
			b.placeKind[i] = wild
			spans[i] = b.spansLike(o.on, o.node, func(n int) model.Path { return b.paths[n] })
		case o.on.Deep():
			b.placeKind[i] = below
			spans[i] = []uint32{spanOf(o.node, false)}
		default:
			spans[i] = []uint32{spanOf(o.node, true)}
		}
	}
	b.byLabels = map[labelPlace]uint32{}
	b.eachLabelled(func(on model.PathPattern, c model.Condition) {
		k := labelOf(b.places[on], c)
		if _, ok := b.byLabels[k]; !ok {
			b.byLabels[k] = uint32(len(spans))
			spans = append(spans, b.labelledIn(spans[b.places[on]], c))
		}
	})
	b.placeNode = packInts(nodes)
	b.placeSlots = firstOf(nodes)
	b.placeText = packTexts(n, func(i int) string { return list[i].text })
	b.span = packLists(len(spans), func(yield func(int, uint32)) {
		for i, list := range spans {
			for _, s := range list {
				yield(i, s)
			}
		}
	})
}

// labelledIn returns the nodes of the inventory in some spans whose labels fulfil a
// condition.
func (x *Index) labelledIn(spans []uint32, c model.Condition) []uint32 {
	var out []uint32
	for _, s := range spans {
		from, to := x.bounds(s)
		for i := x.labelled.search(from); i < x.labelled.len() && x.labelled.at(i) < to; i++ {
			n := x.labelled.at(i)
			if met, _ := (model.Condition{Labels: c.Labels}).Eval(model.Context{Labels: *x.labels.at(
				i)}); met == model.True && x.real(int(n)) {
				out = append(out, spanOf(n, true))
			}
		}
	}
	return out
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

// spansLike returns the spans of the nodes that a pattern with wildcards matches, which
// hangs on a node or on none. It goes down level by level, along what matches so far.
func (x *Index) spansLike(on model.PathPattern, node uint32, path func(int) model.Path) []uint32 {
	prefixes := on.Prefixes()
	level := []uint32{node}
	depth := 0
	if node != none {
		depth = path(int(node)).Depth()
	}
	var literal []byte
	for _, prefix := range prefixes[depth:] {
		var next []uint32
		literal = prefix.AppendLiteral(literal[:0]) // which few of thousands beside each other begin with
		for _, up := range level {
			from, to := 0, x.nodeParent.len()
			if up != none {
				from, to = int(up)+1, int(x.nodeEnd.at(int(up)))
			}
			for n := from; n < to; n = int(x.nodeEnd.at(n)) {
				if bytes.HasPrefix(x.nodeSeg.at(n), literal) && prefix.Matches(path(n)) {
					next = append(next, uint32(n))
				}
			}
		}
		level = next
	}
	var out []uint32
	for _, n := range level {
		if n != none {
			out = append(out, spanOf(n, !on.Deep()))
			continue
		}
		for n := 0; n < x.nodeParent.len(); n = int(x.nodeEnd.at(n)) { // all there is
			out = append(out, spanOf(uint32(n), false))
		}
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
	grantRole := slices.Repeat([]uint32{none}, len(e.Grants))
	b.grantKind.flat = make([]byte, len(e.Grants))
	for i := range e.Grants {
		g := &e.Grants[i]
		grantSet[i], grantTo[i], b.grantKind.flat[i] = b.setOf(g), b.ids[g.To], byte(kindOf(g.Condition()))
		if len(g.When.Labels) > 0 {
			b.grantKind.flat[i] |= labelled
		}
		if g.Role != "" {
			grantRole[i] = b.roleAt[g.Role]
		}
	}
	b.grantTo.flat = packInts(grantTo)
	b.grantRole.flat = packInts(grantRole)
	b.grantSlots = packSlots(len(e.Grants), func(i int) (uint32, uint64) {
		return uint32(i),
			hash(fnvBasis, e.Grants[i].ID)
	})
	b.ofRole = packLists(b.Index.roles.count(), func(yield func(int, uint32)) {
		for i, r := range grantRole {
			if r != none {
				yield(int(r), uint32(i))
			}
		}
	})
	b.grantSet.flat = packInts(grantSet)
	roleSet := slices.Repeat([]uint32{none}, b.Index.roles.count())
	for i := range roleSet {
		if r := b.Index.roles.at(i); !r.Missing {
			roleSet[i] = b.setOfRole(r.Role.Name)
		}
	}
	b.roleSet = packInts(roleSet)
	b.given = packLists(b.Index.ids.len(), func(yield func(int, uint32)) {
		for i := range e.Grants {
			to := int(b.ids[e.Grants[i].To])
			for _, on := range e.Grants[i].Where {
				for _, v := range [givenWidth]uint32{grantSet[i], uint32(i), uint32(b.grantKind.flat[i] &^ labelled),
					b.spansFor(on, e.Grants[i].When)} {
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
	b.denialSet.flat = packInts(denialSet)
	b.denialKind.flat = make([]byte, len(e.Denials))
	for i := range e.Denials {
		b.denialKind.flat[i] = byte(kindOf(e.Denials[i].When))
	}
	b.ends = packLists(kindsOfEnds, func(yield func(int, uint32)) {
		ending := func(kind int, c model.Condition, i int) {
			if !c.Until.IsZero() {
				yield(kind, uint32(i))
				yield(kind, secondOf(c.Until))
			}
		}
		for i := range e.Grants {
			ending(endsGrants, e.Grants[i].Condition(), i)
		}
		for i := range e.Denials {
			ending(endsDenials, e.Denials[i].When, i)
		}
		for i := range e.ActAs {
			ending(endsActAs, e.ActAs[i].Condition(), i)
		}
	})
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
		railSet[i] = b.number(b.filler.but(e.Guardrails[i].Rights))
		rails = append(rails, pair{b.places[e.Guardrails[i].Node.Below()], uint32(i)})
	}
	b.railSet.flat = packInts(railSet)
	b.railsAt = packLists(len(b.places), func(yield func(int, uint32)) {
		for _, r := range rails {
			yield(int(r.place), r.rail)
		}
	})
	ceilSet := make([]uint32, len(e.Ceilings))
	for i := range e.Ceilings {
		ceilSet[i] = b.set([]model.Rights{e.Ceilings[i].Rights})
	}
	b.ceilSet.flat = packInts(ceilSet)
	b.ceilOn = packLists(len(e.Ceilings), func(yield func(int, uint32)) {
		for i := range e.Ceilings {
			for _, on := range e.Ceilings[i].Where {
				yield(i, b.places[on])
			}
		}
	})
}
