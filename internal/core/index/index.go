package index

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// ErrDamaged: the bytes are no index, or one of another version.
var ErrDamaged = errors.New("not an index of this version")

// Version is that of the columns; an index of another one is built anew.
const Version = 3

const (
	none = ^uint32(0)
	hole = 255 // the level of a number that no permission has
)

// kinds numbers the kinds of identity; bypass is a bit beside the number.
var kinds = []model.IdentityKind{model.Person, model.Workload, model.Group, model.External, model.Everyone, model.SignedIn, model.Unknown}

const bypass = 128

// The kinds of place.
const (
	exactly = iota // one node
	below          // a node and everything below it
	wild           // holds a wildcard
)

// An Index answers questions about one estate. Its methods may be called from several
// goroutines.
type Index struct {
	// Nodes in depth-first order, those of the inventory and those that places name.
	nodeParent ints
	nodeEnd    ints // first number behind the subtree
	nodeSeg    texts
	realBefore ints  // how many nodes of the inventory come before; one more than nodes
	nodeSlots  slots // by the hash of the path
	labelled   ints  // nodes that have labels, in order
	labels     records[map[string]string]
	runsNode   ints // nodes whose code runs as somebody, in order
	runsAs     ints // as whom

	ids      texts // sorted
	idSlots  slots
	idRecord ints   // into identities; none: only named somewhere
	idKind   []byte // into kinds
	up       lists  // groups
	down     lists  // members
	mayAct   lists  // act-as edges from it
	ceilings lists  // of it
	denied   lists  // denials that name it

	perms      texts // sorted
	permSlots  slots
	permNumber ints   // of each; by level and service, with holes
	permRecord ints   // into catalogue
	permLevel  []byte // what each weighs as
	setOff     ints   // of distinct sets of rights, as words that are not zero
	setWord    ints
	setBits    longs

	placeText  texts // sorted by node
	placeNode  ints  // the node that it hangs on; none sorts last: a wildcard comes first
	placeKind  []byte
	placeSlots slots // the first place on a node
	span       lists // of a place: its intervals; behind all places those of places with labels
	spanStart  ints  // of all intervals, sorted, the longer ones first
	spanEnd    ints
	spanFrom   ints // nodes of the inventory before the start, and before the end
	spanTo     ints
	patterns   []atomic.Pointer[model.PathPattern]

	// The grants of an identity, some numbers for each of their places (see
	// givenWidth); and the other way round.
	given       lists
	givenAt     lists // their places, which are looked at first
	onPlace     lists
	denialOn    lists // denials on a place
	railsAt     lists // guardrails on a place
	grantSet    ints
	grantTo     ints
	grantKind   []byte
	denialSet   ints
	denialKind  []byte
	denialSpans lists // lists of intervals, as in span
	denialTo    lists
	denialBut   lists
	railSet     ints // what a guardrail refuses
	railBut     lists
	ceilSet     ints
	ceilOn      lists

	grants     records[model.Grant]
	denials    records[model.Denial]
	guardrails records[model.Guardrail]
	ceils      records[model.Ceiling]
	actAs      records[model.ActAs]
	identities records[model.Identity]
	catalogue  records[model.CatalogueEntry]
	roles      records[expanded]
	roleNames  texts // sorted
	meta       records[metaData]

	crowds  [2]uint32 // the numbers of signed-in and everyone
	masters []uint32  // whom every check lets through
	bad     atomic.Bool
	pool    sync.Pool
	modes   [2]struct {
		once     sync.Once
		prepared *prepared
	}
}

// expanded is a role with what the roles it includes give.
type expanded struct {
	Name    string         `json:"name"`
	Builtin bool           `json:"builtin,omitempty"`
	Sets    []model.Rights `json:"sets"`
}

type metaData struct {
	Source    string          `json:"source"`
	Semantics model.Semantics `json:"semantics"`
}

// Err returns [ErrDamaged] once a record could not be read.
func (x *Index) Err() error {
	if x.bad.Load() {
		return ErrDamaged
	}
	return nil
}

// Source returns the name of the estate's source.
func (x *Index) Source() string { return x.meta.at(0).Source }

// Nodes returns how many nodes the inventory has.
func (x *Index) Nodes() int { return int(x.realBefore.at(x.realBefore.len() - 1)) }

// Identities returns how many identities are known or named.
func (x *Index) Identities() int { return x.ids.len() }

// Permissions returns how many permissions the catalogue has.
func (x *Index) Permissions() int { return x.perms.len() }

// Permission returns what the catalogue knows about the permission of a number.
func (x *Index) Permission(i int) *model.CatalogueEntry {
	return x.catalogue.at(int(x.permRecord.at(i)))
}

// Entry returns what the catalogue knows about p.
func (x *Index) Entry(p model.Permission) (model.CatalogueEntry, bool) {
	i, ok := x.holds(p)
	if !ok {
		return model.CatalogueEntry{Permission: p}, false
	}
	return *x.Permission(i), true
}

// ID returns the identity of a number.
func (x *Index) ID(i int) model.ID {
	id, err := model.ParseID(string(x.ids.at(i)))
	if err != nil {
		x.bad.Store(true)
	}
	return id
}

// Identity returns what the estate knows about id.
func (x *Index) Identity(id model.ID) (model.Identity, bool) {
	if i, ok := x.Number(id); ok {
		if r := x.idRecord.at(i); r != none {
			return *x.identities.at(int(r)), true
		}
	}
	return model.Identity{ID: id}, false
}

// Path returns the path of a node's number.
func (x *Index) Path(n int) model.Path {
	var segs []string
	for i := uint32(n); i != none; i = x.nodeParent.at(int(i)) {
		segs = append(segs, string(x.nodeSeg.at(int(i))))
	}
	slices.Reverse(segs)
	p, err := model.ParsePath("/" + strings.Join(segs, "/"))
	if err != nil {
		x.bad.Store(true)
	}
	return p
}

// real reports whether a node is of the inventory.
func (x *Index) real(n int) bool { return x.realBefore.at(n+1) > x.realBefore.at(n) }

const (
	fnvBasis = 14695981039346656037
	fnvPrime = 1099511628211
)

// hash is FNV-1a (RFC 9923) of s behind what h already stands for.
func hash(h uint64, s string) uint64 {
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * fnvPrime
	}
	return h
}

// nearest returns the deepest known node at or above a path, and whether it is the
// path itself.
func (x *Index) nearest(p model.Path) (node uint32, same bool) {
	text := p.String()
	type cut struct {
		end int
		h   uint64
	}
	var stack [24]cut
	cuts := stack[:0]
	h := uint64(fnvBasis)
	for from := 0; from < len(text); {
		end := strings.IndexByte(text[from+1:], '/')
		if end < 0 {
			end = len(text)
		} else {
			end += from + 1
		}
		h = hash(h, text[from:end])
		cuts = append(cuts, cut{end, h})
		from = end
	}
	for i := len(cuts) - 1; i >= 0; i-- {
		if n := x.lookup(text[:cuts[i].end], cuts[i].h); n != none {
			return n, i == len(cuts)-1
		}
	}
	return none, false
}

func (x *Index) lookup(text string, h uint64) uint32 {
	n, _ := x.nodeSlots.lookup(h, func(n uint32) bool { return x.is(n, text) })
	return n
}

func mix(h uint64) uint64 { return h ^ h>>32 }

// is reports whether a node's path is text.
func (x *Index) is(n uint32, text string) bool {
	for n != none {
		seg := x.nodeSeg.at(int(n))
		if len(text) <= len(seg) || text[len(text)-len(seg):] != string(seg) || text[len(text)-len(seg)-1] != '/' {
			return false
		}
		text = text[:len(text)-len(seg)-1]
		n = x.nodeParent.at(int(n))
	}
	return text == ""
}

// Node returns the labels of an inventory's node, and whether it is one.
func (x *Index) Node(p model.Path) (labels map[string]string, ok bool) {
	return x.labelsOf(x.nearest(p))
}

func (x *Index) labelsOf(n uint32, same bool) (labels map[string]string, ok bool) {
	if !same || !x.real(int(n)) {
		return nil, false
	}
	if i := x.labelled.search(n); i < x.labelled.len() && x.labelled.at(i) == n {
		return *x.labels.at(i), true
	}
	return noLabels, true
}

var noLabels = map[string]string{} // never written to

// place returns the pattern of a place's number.
func (x *Index) place(i int) model.PathPattern {
	if p := x.patterns[i].Load(); p != nil {
		return *p
	}
	p, err := model.ParsePathPattern(string(x.placeText.at(i)))
	if err != nil {
		x.bad.Store(true)
	}
	x.patterns[i].Store(&p)
	return p
}

// matching calls yield with each place that matches a path, whose nearest node is n.
func (x *Index) matching(p model.Path, n uint32, same bool, yield func(place int)) {
	on := func(n uint32, at bool) {
		for i := x.firstPlace(n); i < x.placeNode.len() && x.placeNode.at(i) == n; i++ {
			switch x.placeKind[i] {
			case exactly:
				if at {
					yield(i)
				}
			case below:
				yield(i)
			default:
				if x.place(i).Matches(p) {
					yield(i)
				}
			}
		}
	}
	for at := same; n != none; n, at = x.nodeParent.at(int(n)), false {
		on(n, at)
	}
	on(none, false)
}

// firstPlace returns the first place on a node, or how many places there are if it has none.
func (x *Index) firstPlace(n uint32) int {
	i, ok := x.placeSlots.lookup(placeHash(n), func(i uint32) bool { return x.placeNode.at(int(i)) == n })
	if !ok {
		return x.placeNode.len()
	}
	return int(i)
}

// placeHash spreads node numbers over slots (Fibonacci hashing: Knuth, The Art of Computer
// Programming 3, 6.4).
func placeHash(n uint32) uint64 { return uint64(n) * 0x9e3779b97f4a7c15 }

// has reports whether a set of rights holds a permission of the catalogue.
func (x *Index) has(set uint32, perm int) bool {
	lo, hi := int(x.setOff.at(int(set))), int(x.setOff.at(int(set)+1))
	w := uint32(perm >> 6)
	for lo < hi {
		mid := (lo + hi) / 2
		switch v := x.setWord.at(mid); {
		case v == w:
			return x.setBits.at(mid)>>(perm&63)&1 == 1
		case v < w:
			lo = mid + 1
		default:
			hi = mid
		}
	}
	return false
}

// rights returns what a grant gives, as patterns.
func (x *Index) rights(g *model.Grant) []model.Rights {
	if g.Role == "" {
		return []model.Rights{g.Rights}
	}
	if i, ok := x.roleNames.find(g.Role); ok {
		return x.roles.at(i).Sets
	}
	return nil
}

// holds returns the number of a permission, and whether the catalogue lists it. Of one
// that it does not, only patterns say who has it.
func (x *Index) holds(p model.Permission) (perm int, listed bool) {
	i, ok := x.perms.named(x.permSlots, p.String())
	if !ok {
		return 0, false
	}
	return int(x.permNumber.at(i)), true
}

// bits adds a set to bits over the numbers of permissions.
func (x *Index) bits(set uint32, into engine.Bits) {
	for i := int(x.setOff.at(int(set))); i < int(x.setOff.at(int(set)+1)); i++ {
		into[x.setWord.at(i)] |= x.setBits.at(i)
	}
}

// Size returns how many bytes the columns take.
func (x *Index) Size() int {
	n := 0
	for _, s := range x.sections() {
		n += len(*s.data)
	}
	return n
}

// A section is one column by name.
type section struct {
	name string
	data *[]byte
}

func (x *Index) sections() []section {
	var out []section
	add := func(name string, data *[]byte) { out = append(out, section{name, data}) }
	num := func(name string, c *ints) { add(name, (*[]byte)(c)) }
	txt := func(name string, t *texts) { num(name+".off", &t.off); add(name, &t.data) }
	lst := func(name string, l *lists) { num(name+".off", &l.off); num(name, &l.data) }
	num("node.parent", &x.nodeParent)
	num("node.end", &x.nodeEnd)
	txt("node.segment", &x.nodeSeg)
	num("node.real", &x.realBefore)
	num("node.slots", (*ints)(&x.nodeSlots))
	num("node.labelled", &x.labelled)
	txt("node.labels", &x.labels.texts)
	num("node.runs", &x.runsNode)
	num("node.runs-as", &x.runsAs)
	txt("identity", &x.ids)
	num("identity.slots", (*ints)(&x.idSlots))
	num("identity.record", &x.idRecord)
	add("identity.kind", &x.idKind)
	lst("identity.up", &x.up)
	lst("identity.down", &x.down)
	lst("identity.act-as", &x.mayAct)
	lst("identity.ceilings", &x.ceilings)
	lst("identity.denials", &x.denied)
	lst("identity.grants", &x.given)
	lst("identity.places", &x.givenAt)
	txt("permission", &x.perms)
	num("permission.slots", (*ints)(&x.permSlots))
	num("permission.number", &x.permNumber)
	num("permission.record", &x.permRecord)
	add("permission.level", &x.permLevel)
	num("set.off", &x.setOff)
	num("set.word", &x.setWord)
	add("set.bits", (*[]byte)(&x.setBits))
	txt("place", &x.placeText)
	num("place.node", &x.placeNode)
	add("place.kind", &x.placeKind)
	num("place.slots", (*ints)(&x.placeSlots))
	lst("place.spans", &x.span)
	lst("place.grants", &x.onPlace)
	lst("place.denials", &x.denialOn)
	num("span.start", &x.spanStart)
	num("span.end", &x.spanEnd)
	num("span.from", &x.spanFrom)
	num("span.to", &x.spanTo)
	lst("rail.at", &x.railsAt)
	num("grant.set", &x.grantSet)
	num("grant.to", &x.grantTo)
	add("grant.kind", &x.grantKind)
	num("denial.set", &x.denialSet)
	add("denial.kind", &x.denialKind)
	lst("denial.spans", &x.denialSpans)
	lst("denial.to", &x.denialTo)
	lst("denial.unless", &x.denialBut)
	num("rail.set", &x.railSet)
	lst("rail.unless", &x.railBut)
	num("ceiling.set", &x.ceilSet)
	lst("ceiling.on", &x.ceilOn)
	txt("record.grant", &x.grants.texts)
	txt("record.denial", &x.denials.texts)
	txt("record.guardrail", &x.guardrails.texts)
	txt("record.ceiling", &x.ceils.texts)
	txt("record.act-as", &x.actAs.texts)
	txt("record.identity", &x.identities.texts)
	txt("record.permission", &x.catalogue.texts)
	txt("record.role", &x.roles.texts)
	txt("role", &x.roleNames)
	txt("meta", &x.meta.texts)
	return out
}

// Sections yields the columns by name, in an order that never changes.
func (x *Index) Sections(yield func(name string, data []byte) bool) {
	for _, s := range x.sections() {
		if !yield(s.name, *s.data) {
			return
		}
	}
}

// Load returns the index whose columns are given; they must not change while it is in
// use. The caller has checked that they are as they were written.
func Load(column func(name string) ([]byte, bool)) (*Index, error) {
	x := &Index{}
	for _, s := range x.sections() {
		data, ok := column(s.name)
		if !ok {
			return nil, fmt.Errorf("%w: column %s is missing", ErrDamaged, s.name)
		}
		*s.data = data
	}
	for _, t := range []*texts{&x.nodeSeg, &x.ids, &x.perms, &x.placeText, &x.roleNames, &x.labels.texts, &x.grants.texts, &x.denials.texts, &x.guardrails.texts, &x.ceils.texts, &x.actAs.texts, &x.identities.texts, &x.catalogue.texts, &x.roles.texts, &x.meta.texts} {
		if n := t.off.len(); n == 0 || int(t.off.at(n-1)) != len(t.data) {
			return nil, fmt.Errorf("%w: a column of texts does not end where it should", ErrDamaged)
		}
	}
	for _, t := range []slots{x.nodeSlots, x.idSlots, x.permSlots, x.placeSlots} {
		if n := ints(t).len(); n == 0 || n&(n-1) != 0 {
			return nil, fmt.Errorf("%w: a table by hash has no power of two of slots", ErrDamaged)
		}
	}
	if x.meta.texts.len() != 1 || x.realBefore.len() != x.nodeParent.len()+1 {
		return nil, fmt.Errorf("%w: columns do not fit each other", ErrDamaged)
	}
	x.ready()
	return x, x.Err()
}

// ready makes what is kept beside the columns.
func (x *Index) ready() {
	load(&x.labels, &x.bad)
	load(&x.grants, &x.bad)
	load(&x.denials, &x.bad)
	load(&x.guardrails, &x.bad)
	load(&x.ceils, &x.bad)
	load(&x.actAs, &x.bad)
	load(&x.identities, &x.bad)
	load(&x.catalogue, &x.bad)
	load(&x.roles, &x.bad)
	load(&x.meta, &x.bad)
	for i, kind := range bothCrowds {
		x.crowds[i] = none
		if n, ok := x.ids.named(x.idSlots, string(kind)); ok {
			x.crowds[i] = uint32(n)
		}
	}
	for i, k := range x.idKind {
		if k&bypass != 0 {
			x.masters = append(x.masters, uint32(i))
		}
	}
	x.patterns = make([]atomic.Pointer[model.PathPattern], x.placeText.len())
	x.pool.New = func() any { return newScratch(x) }
}

func load[T any](r *records[T], bad *atomic.Bool) {
	if r.cache == nil {
		r.load(r.texts, bad)
	}
}

// words returns how many words a set over the numbers of permissions has.
func (x *Index) words() int { return (len(x.permLevel) + 63) / 64 }

// NewBits returns an empty set over the numbers of permissions.
func (x *Index) NewBits() engine.Bits { return make(engine.Bits, x.words()) }

// Numbers yields the number of each permission of the catalogue.
func (x *Index) Numbers() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, l := range x.permLevel {
			if l != hole && !yield(i) {
				return
			}
		}
	}
}

// Level returns the level that the permission of a number weighs as.
func (x *Index) Level(i int) model.Level { return model.Level(x.permLevel[i]) }
