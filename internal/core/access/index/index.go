package index

import (
	"bytes"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// ErrDamaged: the bytes are no index, or one of another version.
var ErrDamaged = errors.New("not an index of this version")

// Version is that of the columns; an index of another one is built anew.
const Version = 7

const (
	none = ^uint32(0)
	hole = 255 // the level of a number that no permission has
)

// kinds numbers the kinds of identity; bypass and absent are bits beside the number.
var kinds = []model.IdentityKind{model.Person, model.Workload, model.Group, model.External, model.Everyone,
	model.SignedIn, model.Unknown}

const (
	bypass = 128
	absent = 64 // an edit took it away
)

// The kinds of place.
const (
	exactly = iota // one node
	below          // a node and everything below it
	wild           // holds a wildcard
)

// An Index answers questions about one estate, or about an edited view of one. Its methods
// may be called from several goroutines.
type Index struct {
	columns
	more *added // of an edited view; nil

	crowds   [2]uint32  // the numbers of signed-in and everyone
	masters  []uint32   // whom every check lets through
	pool     *sync.Pool // of scratch; views share that of the estate
	shared   sync.Map   // permissions by number of their set, see SharedPerms
	fewer    sync.Map   // the same, see SharedFew
	bundles  sync.Map   // what is granted to one, by its number, see bundleOf
	deniedBy sync.Map   // what denials refuse, by their number
	rails    struct {   // guardrails by their node, see railsAbove
		once sync.Once
		by   map[model.Path][]int
	}
	besides sync.Map // by a parent's number and a kind's, see ListsBeside
	kinds   struct { // of which nodes are listed, see ListsKind
		once   sync.Once
		listed map[string]bool
	}
	modes [2]struct {
		once     sync.Once
		prepared *prepared
	}
	before *Index // of an edited view: what it is a view of
}

// columns are what an index is made of. A copy of them shares the bytes.
type columns struct {
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

	// Which nodes of the inventory are of which kind: a bitmap a kind, and how many bits
	// come before each of its words (Jacobson, Space-efficient static trees and graphs,
	// 1989).
	kindNames texts // sorted
	kindBits  longs
	kindRank  ints

	ids      texts // sorted
	idSlots  slots
	idRecord numbers // into identities; none: only named somewhere
	idKind   marks   // into kinds
	up       lists   // groups
	down     lists   // members
	mayAct   lists   // act-as edges from it
	ceilings lists   // of it
	denied   lists   // denials that name it

	perms      texts // sorted
	permSlots  slots
	permNumber ints   // of each; by level and service, with holes
	permRecord ints   // into catalogue
	permLevel  []byte // what each weighs as
	permClass  ints   // which kinds of node each applies to
	classKinds lists  // of a class: its kinds; the first one is for every kind
	setOff     ints   // of distinct sets of rights, as words that are not zero
	setWord    ints
	setBits    longs

	placeText  texts // sorted by node
	placeNode  ints  // the node that it hangs on; none sorts last: a wildcard comes first
	placeKind  []byte
	placeSlots slots // the first place on a node
	span       lists // of a place: its intervals; behind all places those of places with labels
	patterns   []atomic.Pointer[model.PathPattern]

	// The grants of an identity, some numbers for each of their places (see
	// givenWidth); and the other way round.
	given       lists
	givenAt     lists // their places, which are looked at first
	onPlace     lists
	denialOn    lists // denials on a place
	railsAt     lists // guardrails on a place
	grantSet    numbers
	grantTo     numbers // none: it is gone
	grantRole   numbers // into roles; none: a list of its own
	roleSet     ints    // of each role; none: nobody says what it gives
	grantKind   marks
	grantSlots  slots // by the hash of the id
	ofRole      lists // grants of a role
	denialSet   numbers
	denialKind  marks
	denialSpans lists // lists of intervals, as in span
	denialTo    lists
	denialBut   lists
	railSet     numbers // what a guardrail refuses
	railBut     lists
	ceilSet     numbers
	ceilOn      lists
	ends        lists // what has an end, and its second, kind by kind (see ended.go)

	grants     records[model.Grant]
	denials    records[model.Denial]
	guardrails records[model.Guardrail]
	ceils      records[model.Ceiling]
	actAs      records[model.ActAs]
	identities records[model.Identity]
	catalogue  records[model.CatalogueEntry]
	roles      records[expanded] // sorted by name
	roleNames  texts
	coverage   records[model.CoverageRecord]
	meta       records[metaData]

	bad *atomic.Bool // a record could not be read
}

// expanded is a role with what the roles it includes give.
type expanded struct {
	Role    model.Role     `json:"role"`
	Missing bool           `json:"missing,omitempty"` // grants name it, and the estate does not list it
	Sets    []model.Rights `json:"sets"`              // its own first
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
func (x *Index) Identities() int { return x.idKind.len() }

// Permissions returns how many permissions the catalogue has.
func (x *Index) Permissions() int { return x.perms.len() }

// Catalogue yields what the catalogue knows, permission by permission.
func (x *Index) Catalogue() iter.Seq[*model.CatalogueEntry] {
	return func(yield func(*model.CatalogueEntry) bool) {
		for i := range x.catalogue.count() {
			if !yield(x.catalogue.at(i)) {
				return
			}
		}
	}
}

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
	if n := x.ids.len(); i >= n {
		return x.more.ids.at(i - n)
	}
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
	var nodes [32]uint32
	var room [256]byte
	up, text := nodes[:0], room[:0]
	for i := uint32(n); i != none; i = x.nodeParent.at(int(i)) {
		up = append(up, i)
	}
	for _, i := range slices.Backward(up) {
		text = append(append(text, '/'), x.nodeSeg.at(int(i))...)
	}
	p, err := model.ParsePath(string(text))
	if err != nil {
		x.bad.Store(true)
	}
	return p
}

// A Spot is a path that is looked up: many questions about one path are then asked of its nearest node.
type Spot struct {
	path model.Path
	x    *Index
	node uint32 // the deepest known one at or above the path; none
	same bool   // it is the path itself
}

// Spot looks a path up.
func (x *Index) Spot(p model.Path) Spot {
	n, same := x.nearest(p)
	return Spot{p, x, n, same}
}

// Spots are many paths that are looked up, each once.
type Spots struct {
	x  *Index
	at []spotted
}

// spotted is a spot without what all have in common: of millions that is most.
type spotted struct {
	node uint32
	same bool
}

// Spots looks paths up, of which path tells each; it is asked for several at once.
func (x *Index) Spots(n int, path func(i int) model.Path) *Spots {
	s := &Spots{x, make([]spotted, n)}
	parallel.Blocks(n, func(i int) { s.at[i].node, s.at[i].same = x.nearest(path(i)) })
	return s
}

// At returns one of them, whose path is given again.
func (s *Spots) At(i int, p model.Path) Spot { return Spot{p, s.x, s.at[i].node, s.at[i].same} }

// Nearest returns the number of the deepest node of the inventory at or above the spot, and whether there
// is one.
func (s *Spot) Nearest() (uint32, bool) {
	for n := s.node; n != none; n = s.x.nodeParent.at(int(n)) {
		if s.x.real(int(n)) {
			return n, true
		}
	}
	return 0, false
}

// ListedDepth returns the depth of the deepest node of the inventory at or above the spot; 0: there is none.
func (s *Spot) ListedDepth() int {
	depth := 0
	for n, ok := s.Nearest(); ok && n != none; n = s.x.nodeParent.at(int(n)) {
		depth++
	}
	return depth
}

// ListedDepth returns [Spot.ListedDepth] of a path.
func (x *Index) ListedDepth(p model.Path) int {
	s := x.Spot(p)
	return s.ListedDepth()
}

// ListsBeside reports whether a node has one of a kind right below it in the inventory.
func (x *Index) ListsBeside(parent model.Path, kind string) bool {
	n, same := x.nearest(parent)
	k := -1
	for i := range x.kindNames.len() {
		if string(x.kindNames.at(i)) == kind {
			k = i
		}
	}
	if !same || k < 0 {
		return false
	}
	key := uint64(n)<<32 | uint64(k)
	if is, known := x.besides.Load(key); known {
		return is.(bool)
	}
	is := false
	for at, end := int(n)+1, int(x.nodeEnd.at(int(n))); !is; {
		if at = x.nextOf(k, at, end); at >= end {
			break
		}
		child := at
		for up := x.nodeParent.at(at); up != n; up = x.nodeParent.at(child) {
			child = int(up)
		}
		is, at = child == at, int(x.nodeEnd.at(child)) // of the others below the same child none is meant either
	}
	x.besides.Store(key, is)
	return is
}

// ListsKind reports whether there is any node of a kind in the inventory.
func (x *Index) ListsKind(kind string) bool {
	x.kinds.once.Do(func() {
		x.kinds.listed = map[string]bool{}
		nodes := x.nodeParent.len()
		for k := range x.kindNames.len() {
			x.kinds.listed[string(x.kindNames.at(k))] = x.nextOf(k, 0, nodes) < nodes
		}
	})
	return x.kinds.listed[kind]
}

// real reports whether a node is of the inventory.
func (x *Index) real(n int) bool { return x.realBefore.at(n+1) > x.realBefore.at(n) }

const (
	fnvBasis = 14695981039346656037
	fnvPrime = 1099511628211
)

// hash is FNV-1a (RFC 9923) of s behind what h already stands for.
func hash[T string | []byte](h uint64, s T) uint64 {
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * fnvPrime
	}
	return h
}

// nearest returns the deepest known node at or above a path, and whether it is the
// path itself.
func (x *Index) nearest(p model.Path) (node uint32, same bool) {
	var room [128]byte
	text := p.AppendString(room[:0])
	type cut struct {
		end int
		h   uint64
	}
	var stack [24]cut
	cuts := stack[:0]
	h := uint64(fnvBasis)
	for from := 0; from < len(text); {
		end := bytes.IndexByte(text[from+1:], '/')
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

func (x *Index) lookup(text []byte, h uint64) uint32 {
	n, _ := x.nodeSlots.lookup(h, func(n uint32) bool { return x.is(n, text) })
	return n
}

func mix(h uint64) uint64 { return h ^ h>>32 }

// is reports whether a node's path is text.
func (x *Index) is(n uint32, text []byte) bool {
	for n != none {
		seg := x.nodeSeg.at(int(n))
		end := len(text) - len(seg) - 1
		if end < 0 || text[end] != '/' || string(text[end+1:]) != string(seg) {
			return false
		}
		text = text[:end]
		n = x.nodeParent.at(int(n))
	}
	return len(text) == 0
}

// NearestNumber returns the number of the inventory's node that [Index.Nearest] returns.
func (x *Index) NearestNumber(p model.Path) (uint32, bool) {
	s := x.Spot(p)
	return s.Nearest()
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
	if n := len(x.patterns); i >= n {
		return x.more.places.at(i - n)
	}
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
		if x.more != nil {
			for _, i := range x.more.placesOn.at(n) {
				if x.place(int(i)).Matches(p) {
					yield(int(i))
				}
			}
		}
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

// rights is a set of permissions by number, as words that are not zero, and which those are.
type rights struct {
	word ints
	bits longs
}

// rightsOf returns a set of rights.
func (x *Index) rightsOf(set int) rights {
	if n := x.setOff.len() - 1; set >= n {
		return *x.more.sets.at(set - n)
	}
	lo, hi := x.setOff.at(set), x.setOff.at(set+1)
	return rights{x.setWord[4*lo : 4*hi], x.setBits[8*lo : 8*hi]}
}

// sets returns how many sets of rights there are.
func (x *Index) sets() int {
	n := x.setOff.len() - 1
	if x.more != nil {
		n += x.more.sets.len()
	}
	return n
}

// has reports whether a set of rights holds a permission of the catalogue.
func (x *Index) has(set uint32, perm int) bool {
	r := x.rightsOf(int(set))
	lo, hi := 0, r.word.len()
	w := uint32(perm >> 6)
	for lo < hi {
		mid := (lo + hi) / 2
		switch v := r.word.at(mid); {
		case v == w:
			return r.bits.at(mid)>>(perm&63)&1 == 1
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
	return x.RoleSets(g.Role)
}

// RoleSets returns the rights of a role and of the roles that it includes; their union
// counts.
func (x *Index) RoleSets(name string) []model.Rights {
	if r := x.role(name); r != nil {
		return r.Sets
	}
	return nil
}

// role returns what is known about a role; nil: the estate does not list it.
func (x *Index) role(name string) *expanded {
	i, ok := x.roleNumber(name)
	if !ok {
		return nil
	}
	if r := x.roles.at(i); !r.Missing {
		return r
	}
	return nil
}

// roleNumber returns where what is known about a role stands.
func (x *Index) roleNumber(name string) (int, bool) {
	if x.more != nil {
		if i, ok := x.more.roles.get(name); ok {
			return i, true
		}
	}
	return x.roleNames.find(name)
}

// PermNumber returns the number of a permission of the catalogue.
func (x *Index) PermNumber(p model.Permission) (int, bool) { return x.holds(p) }

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
func (x *Index) bits(set uint32, into access.Set) {
	r := x.rightsOf(int(set))
	for i := range r.word.len() {
		into[r.word.at(i)] |= r.bits.at(i)
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
	txt("kind", &x.kindNames)
	add("kind.bits", (*[]byte)(&x.kindBits))
	num("kind.rank", &x.kindRank)
	num("node.runs", &x.runsNode)
	num("node.runs-as", &x.runsAs)
	txt("identity", &x.ids)
	num("identity.slots", (*ints)(&x.idSlots))
	num("identity.record", &x.idRecord.flat)
	add("identity.kind", &x.idKind.flat)
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
	num("permission.class", &x.permClass)
	lst("class.kinds", &x.classKinds)
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
	lst("rail.at", &x.railsAt)
	num("grant.set", &x.grantSet.flat)
	num("grant.to", &x.grantTo.flat)
	num("grant.role", &x.grantRole.flat)
	add("grant.kind", &x.grantKind.flat)
	num("grant.slots", (*ints)(&x.grantSlots))
	lst("role.grants", &x.ofRole)
	num("role.set", &x.roleSet)
	num("denial.set", &x.denialSet.flat)
	add("denial.kind", &x.denialKind.flat)
	lst("denial.spans", &x.denialSpans)
	lst("denial.to", &x.denialTo)
	lst("denial.unless", &x.denialBut)
	num("rail.set", &x.railSet.flat)
	lst("rail.unless", &x.railBut)
	num("ceiling.set", &x.ceilSet.flat)
	lst("ceiling.on", &x.ceilOn)
	lst("ends", &x.ends)
	txt("record.grant", &x.grants.texts)
	txt("record.denial", &x.denials.texts)
	txt("record.guardrail", &x.guardrails.texts)
	txt("record.ceiling", &x.ceils.texts)
	txt("record.act-as", &x.actAs.texts)
	txt("record.identity", &x.identities.texts)
	txt("record.permission", &x.catalogue.texts)
	txt("record.role", &x.roles.texts)
	txt("role", &x.roleNames)
	txt("record.coverage", &x.coverage.texts)
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
	x := &Index{columns: columns{bad: new(atomic.Bool)}}
	for _, s := range x.sections() {
		data, ok := column(s.name)
		if !ok {
			return nil, fmt.Errorf("%w: column %s is missing", ErrDamaged, s.name)
		}
		*s.data = data
	}
	for _, t := range []*texts{&x.nodeSeg, &x.ids, &x.perms, &x.placeText, &x.roleNames, &x.labels.texts,
		&x.grants.texts, &x.denials.texts, &x.guardrails.texts, &x.ceils.texts, &x.actAs.texts, &x.identities.texts,
		&x.catalogue.texts, &x.roles.texts, &x.kindNames, &x.coverage.texts, &x.meta.texts} {
		if n := t.off.len(); n == 0 || int(t.off.at(n-1)) != len(t.data) {
			return nil, fmt.Errorf("%w: a column of texts does not end where it should", ErrDamaged)
		}
	}
	for _, t := range []slots{x.nodeSlots, x.idSlots, x.permSlots, x.placeSlots, x.grantSlots} {
		if n := ints(t).len(); n == 0 || n&(n-1) != 0 {
			return nil, fmt.Errorf("%w: a table by hash has no power of two of slots", ErrDamaged)
		}
	}
	if x.meta.texts.len() != 1 || x.roleSet.len() != x.roleNames.len() || x.realBefore.len() != x.nodeParent.len()+1 {
		return nil, fmt.Errorf("%w: columns do not fit each other", ErrDamaged)
	}
	x.ready()
	return x, x.Err()
}

// ready makes what is kept beside the columns.
func (x *Index) ready() {
	load(&x.labels, x.bad)
	load(&x.grants, x.bad)
	load(&x.denials, x.bad)
	load(&x.guardrails, x.bad)
	load(&x.ceils, x.bad)
	load(&x.actAs, x.bad)
	load(&x.identities, x.bad)
	load(&x.catalogue, x.bad)
	load(&x.roles, x.bad)
	load(&x.coverage, x.bad)
	load(&x.meta, x.bad)
	x.patterns = make([]atomic.Pointer[model.PathPattern], x.placeText.len())
	x.settle()
}

// settle makes what hangs on who is there.
func (x *Index) settle() {
	for i, kind := range bothCrowds {
		x.crowds[i] = none
		if n, ok := x.named(string(kind)); ok {
			x.crowds[i] = uint32(n)
		}
	}
	for i, k := range x.idKind.flat {
		if k&bypass != 0 {
			x.masters = append(x.masters, uint32(i))
		}
	}
	if x.pool == nil {
		x.pool = &sync.Pool{New: func() any { return &scratch{} }}
	}
}

func load[T any](r *records[T], bad *atomic.Bool) {
	if r.cache == nil {
		r.load(r.texts, bad)
	}
}

// words returns how many words a set over the numbers of permissions has.
func (x *Index) words() int { return (len(x.permLevel) + 63) / 64 }

// NewSet returns an empty set over the numbers of permissions.
func (x *Index) NewSet() access.Set { return make(access.Set, x.words()) }

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
