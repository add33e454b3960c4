package index

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// ErrUnknown: an edit names something that the estate does not have.
var ErrUnknown = errors.New("not in the estate")

// How a view is made
//
// A view is an index whose columns are those of the estate before, but for the few lists that
// the edit reaches. A column of lists (lists) can carry edits beside itself: a map from a number
// to the list that stands in its place, so editing one list of three hundred thousand copies
// that one. Columns with one number a grant or an identity, and what is new, are in pages, of which
// those are copied that the edit reaches (paged).
//
// Nothing is renumbered. What goes keeps its number and is taken out of the lists that lead to
// it; a grant that goes gives the empty set, an identity that goes is no longer known. What
// comes is numbered on behind all others. So bitmaps, closures and sorted items that were worked
// out for the estate before are still good for all that the edit did not touch, and a walk asks
// for them there (prepared.before).
//
// A place that is new cannot be a node, since nodes are numbered in order and there is no number
// between two. It hangs on the deepest node that is known at or above it, and matches by its
// pattern, as a place with a wildcard does; its span is that of the node it names where there is
// one, and none where the inventory has nothing in it.
//
// A role that changes reaches all grants of it: each gets the number of the set that the role
// has then. Views of views stack: what each knows is a layer of a few ([layered]), and what is worked out is
// asked of the estate at the bottom, so that none of those between is kept. So thousands of drafts can stand
// on each other.

// added is what an edited view knows beside the columns. Its numbers go on behind theirs.
type added struct {
	ids        paged[model.ID]
	idNumber   layered[string, uint32]
	roles      layered[string, int] // numbers of records, of roles that the edit changed or brought
	places     paged[model.PathPattern]
	placeAt    layered[model.PathPattern, uint32]
	placesOn   layered[uint32, []uint32] // by the node that they hang on
	placeSpans paged[uint32]             // of each new place: which list of spans
	sets       paged[*rights]            // numbered behind the others
	lists      int                       // how many lists of spans there are
	labels     layered[labelPlace, uint32]
	deniesGone layered[uint32, bool]
	edgesGone  layered[uint32, bool]
	ceilsGone  layered[uint32, bool]
	come       layered[string, []uint32] // grants, by id
	over       layered[uint32, bool]     // grants that are listed, and over
}

// maps are those that an edit may write to.
func (m *added) maps() []interface {
	fork()
	settle()
} {
	return []interface {
		fork()
		settle()
	}{&m.idNumber, &m.roles, &m.placeAt, &m.placesOn, &m.labels, &m.deniesGone,
		&m.edgesGone, &m.ceilsGone, &m.come, &m.over}
}

// editor makes a view.
type editor struct {
	*Index
	base   *Index
	d      *access.Edit
	filler filler
}

// With returns a view of the estate as it would be by an edit, which shares what the edit
// does not reach. Numbers stay what they are, new ones follow. Views can be edited again.
//
// It costs what the edit reaches, and little besides: for a role all grants of it, for an identity that
// goes all that is granted to it. What an edit names must be there: [ErrUnknown].
func (x *Index) With(d access.Edit) (*Index, error) {
	e := x.editor(&d)
	if err := e.edit(); err != nil {
		return nil, err
	}
	return e.view(), nil
}

// editor begins a view of the estate.
func (x *Index) editor(d *access.Edit) *editor {
	v := &Index{columns: x.columns, before: x.root(), pool: x.pool}
	if v.more = (&added{lists: x.span.off.len() - 1}); x.more != nil {
		m := *x.more
		v.more = &m
	}
	m := v.more
	m.ids.edit()
	m.places.edit()
	m.placeSpans.edit()
	m.sets.edit()
	for _, l := range m.maps() {
		l.fork()
	}
	for l := range v.editable() {
		l.edit()
	}
	v.identities.edit()
	v.roles.edit()
	v.grants.edit()
	v.actAs.edit()
	v.denials.edit()
	v.ceils.edit()
	v.guardrails.edit()
	for _, c := range []*numbers{&v.idRecord, &v.grantSet, &v.grantTo, &v.grantRole, &v.denialSet, &v.railSet,
		&v.ceilSet} {
		c.edit()
	}
	for _, c := range []*marks{&v.idKind, &v.grantKind, &v.denialKind} {
		c.edit()
	}
	return &editor{v, x, d, filler{v, map[model.PermissionPattern]access.Set{}}}
}

// editable yields the columns of lists that an edit may reach.
func (x *Index) editable() iter.Seq[*lists] {
	return slices.Values([]*lists{&x.up, &x.down, &x.mayAct, &x.ceilings, &x.denied, &x.span, &x.given, &x.givenAt,
		&x.onPlace, &x.denialOn, &x.railsAt, &x.ofRole, &x.denialSpans, &x.denialTo, &x.denialBut, &x.railBut,
		&x.ceilOn, &x.ends})
}

// view returns what was made, once all is.
func (e *editor) view() *Index {
	for l := range e.editable() {
		l.edits.settle()
	}
	for _, l := range e.more.maps() {
		l.settle()
	}
	e.settle()
	return e.Index
}

// edit takes away and brings in the order of [access.Edit.Apply].
func (e *editor) edit() error {
	var errs []error
	unknown := func(what string, name any) { errs = append(errs, fmt.Errorf("%s %v: %w", what, name, ErrUnknown)) }
	gone, come := &e.d.Gone, &e.d.Come

	var pairs [][2]model.ID
	for _, m := range gone.Memberships {
		pairs = append(pairs, [2]model.ID{m.Member, m.Group})
	}

	// What goes.
	for _, id := range unique(gone.Grants) {
		list := e.grantsNamed(id)
		if len(list) == 0 {
			unknown("grant", id)
		}
		for _, g := range list {
			e.dropGrant(g)
		}
	}
	for _, name := range unique(gone.Roles) {
		i, ok := e.roleNumber(name)
		if !ok || e.roles.at(i).Missing {
			unknown("role", name)
			continue
		}
		e.more.roles.put(name, e.roles.push(&expanded{Role: model.Role{Name: name}, Missing: true}))
	}
	for _, pair := range unique(pairs) {
		m := model.Membership{Member: pair[0], Group: pair[1]}
		if !e.dropMember(m) {
			unknown("membership", m.Member.String()+">"+m.Group.String())
		}
	}
	for _, id := range unique(gone.Identities) {
		if err := e.dropIdentity(id); err != nil {
			errs = append(errs, err)
		}
	}
	for _, id := range unique(gone.ActAs) {
		if !e.dropEdges(func(a *model.ActAs) bool { return a.ID == id }) {
			unknown("act-as", id)
		}
	}
	for _, id := range unique(gone.Denials) {
		if !e.dropDenials(id) {
			unknown("denial", id)
		}
	}
	for _, id := range unique(gone.Ceilings) {
		if !e.dropCeilings(id) {
			unknown("ceiling", id)
		}
	}
	for _, id := range unique(gone.Guardrails) {
		if !e.dropGuardrails(id) {
			unknown("guardrail", id)
		}
	}

	// What comes.
	for i := range come.Identities {
		e.putIdentity(&come.Identities[i])
	}
	for _, m := range come.Memberships {
		e.dropMember(m)
		member, group := e.id(m.Member), e.id(m.Group)
		e.up.add(int(member), group)
		e.down.add(int(group), member)
	}
	for i := range come.Roles {
		e.more.roles.put(come.Roles[i].Name, e.roles.push(&expanded{Role: come.Roles[i]}))
	}
	if len(gone.Roles)+len(come.Roles) > 0 {
		e.reexpand()
	}
	for i := range come.Grants {
		for _, g := range e.grantsNamed(come.Grants[i].ID) {
			e.dropGrant(g)
		}
		e.putGrant(&come.Grants[i])
	}
	for i := range come.Denials {
		e.dropDenials(come.Denials[i].ID)
		e.putDenial(&come.Denials[i])
	}
	for i := range come.Ceilings {
		e.dropCeilings(come.Ceilings[i].ID)
		e.putCeiling(&come.Ceilings[i])
	}
	for i := range come.Guardrails {
		e.dropGuardrails(come.Guardrails[i].ID)
		e.putGuardrail(&come.Guardrails[i])
	}
	for i := range come.ActAs {
		a := &come.ActAs[i]
		e.dropEdges(func(old *model.ActAs) bool { return old.ID == a.ID })
		e.id(a.To)
		n := uint32(e.actAs.push(a))
		e.mayAct.add(int(e.id(a.From)), n)
		e.ending(endsActAs, a.Condition(), n)
	}
	return errors.Join(errs...)
}

// unique returns a list without what it names again.
func unique[T comparable](list []T) []T {
	seen := map[T]bool{}
	var out []T
	for _, v := range list {
		if !seen[v] {
			seen[v] = true
			out = append(out, v)
		}
	}
	return out
}

// id returns the number of an identity, a new one if need be.
func (e *editor) id(id model.ID) uint32 {
	if n, ok := e.Number(id); ok {
		return uint32(n)
	}
	n := uint32(e.idKind.len())
	e.more.ids.push(id)
	e.more.idNumber.put(id.String(), n)
	e.idKind.push(byte(slices.Index(kinds, id.Kind)))
	e.idRecord.push(none)
	return n
}

func (e *editor) putIdentity(i *model.Identity) {
	n := e.id(i.ID)
	e.idRecord.put(int(n), uint32(e.identities.push(i)))
	e.idKind.put(int(n), e.idKind.at(int(n))&^absent)
}

func (e *editor) dropIdentity(id model.ID) error {
	n, ok := e.Number(id)
	if !ok || e.idRecord.at(n) == none {
		return fmt.Errorf("%s: %w", id, ErrUnknown)
	}
	e.idRecord.put(n, none)
	e.idKind.put(n, e.idKind.at(n)|absent)
	for _, g := range e.GrantsTo(id) {
		e.dropGrant(uint32(g))
	}
	for _, up := range e.up.of(n).all() {
		e.down.drop(int(up), uint32(n))
	}
	e.up.put(n, nil)
	for _, down := range e.down.of(n).all() {
		e.up.drop(int(down), uint32(n))
	}
	e.down.put(n, nil)
	e.dropEdges(func(a *model.ActAs) bool { return a.From == id || a.To == id })
	return nil
}

func (e *editor) dropMember(m model.Membership) bool {
	member, ok1 := e.Number(m.Member)
	group, ok2 := e.Number(m.Group)
	if !ok1 || !ok2 || !slices.Contains(e.up.of(member).all(), uint32(group)) {
		return false
	}
	e.up.drop(member, uint32(group))
	e.down.drop(group, uint32(member))
	return true
}

// dropEdges takes away the act-as edges that is accepts.
func (e *editor) dropEdges(is func(*model.ActAs) bool) bool {
	found := false
	for i := range e.actAs.count() {
		if a := e.actAs.at(i); !e.more.edgesGone.at(uint32(i)) && is(a) {
			found = true
			e.dropEdge(uint32(i), a)
		}
	}
	return found
}

func (e *editor) dropEdge(i uint32, a *model.ActAs) {
	e.more.edgesGone.put(i, true)
	if from, ok := e.Number(a.From); ok {
		e.mayAct.drop(from, i)
	}
}

func (e *editor) dropGrant(g uint32) { e.dropGrants([]uint32{g}) }

// dropGrants takes grants away. Each list that leads to some of them is made anew once: thousands may lie on
// one node.
func (e *editor) dropGrants(list []uint32) {
	gone, holders, places := map[uint32]bool{}, map[int]bool{}, map[int]bool{}
	for _, g := range list {
		if e.more.over.at(g) {
			e.more.over.put(g, false)
			continue
		}
		if to := e.grantTo.at(int(g)); to != none {
			gone[g], holders[int(to)] = true, true
			e.grantTo.put(int(g), none)
		}
	}
	for to := range holders {
		rows, at := e.given.of(to).all(), e.givenAt.of(to).all()
		var keepRows, keepAt []uint32
		for j := 0; j < len(rows); j += givenWidth {
			if gone[rows[j+givenGrant]] {
				places[int(at[j/givenWidth])] = true
				continue
			}
			keepRows, keepAt = append(keepRows, rows[j:j+givenWidth]...), append(keepAt, at[j/givenWidth])
		}
		e.given.put(to, keepRows)
		e.givenAt.put(to, keepAt)
	}
	for on := range places {
		e.onPlace.put(on, slices.DeleteFunc(e.onPlace.of(on).all(), func(g uint32) bool { return gone[g] }))
	}
}

func (e *editor) putGrant(g *model.Grant) {
	n, to := uint32(e.grants.push(g)), e.id(g.To)
	set, role := none, none
	if g.Role == "" {
		set = e.set(e.filler.of([]model.Rights{g.Rights}))
	} else {
		i, ok := e.roleNumber(g.Role)
		if !ok {
			i = e.roles.push(&expanded{Role: model.Role{Name: g.Role}, Missing: true})
			e.more.roles.put(g.Role, i)
		}
		role = e.roleKey(g.Role)
		e.ofRole.add(int(role), n)
		set = e.set(e.filler.of(e.roles.at(i).Sets))
	}
	kind := byte(kindOf(g.Condition()))
	if len(g.When.Labels) > 0 {
		kind |= labelled
	}
	e.grantSet.push(set)
	e.grantTo.push(to)
	e.grantRole.push(role)
	e.grantKind.push(kind)
	e.more.come.put(g.ID, append(slices.Clip(e.more.come.at(g.ID)), n))
	e.ending(endsGrants, g.Condition(), n)
	for _, on := range g.Where {
		place := e.putPlace(on)
		e.given.add(int(to), set, n, uint32(kind&^labelled), e.spansUnder(place, on, g.When))
		e.givenAt.add(int(to), place)
		e.onPlace.add(int(place), n)
	}
}

// reexpand works out what roles give now, and gives it to the grants of those that changed.
func (e *editor) reexpand() {
	changed := map[string]bool{}
	for _, name := range e.d.Gone.Roles {
		changed[name] = true
	}
	for i := range e.d.Come.Roles {
		changed[e.d.Come.Roles[i].Name] = true
	}
	names := map[string]bool{}
	for i := range e.roles.count() {
		names[e.roles.at(i).Role.Name] = true
	}
	of := func(name string) (model.Rights, []string, bool) {
		i, ok := e.roleNumber(name)
		if !ok || e.roles.at(i).Missing {
			return model.Rights{}, nil, false
		}
		r := e.roles.at(i)
		return r.Role.Rights, r.Role.Includes, true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		i, _ := e.roleNumber(name)
		r := *e.roles.at(i)
		if !e.leads(name, changed, of) {
			continue
		}
		r.Sets = nil
		if !r.Missing {
			r.Sets = expand(name, of)
		}
		e.more.roles.put(name, e.roles.push(&r))
		set := e.set(e.filler.of(r.Sets))
		for _, g := range e.ofRole.of(int(e.roleKey(name))).all() {
			if e.grantTo.at(int(g)) == none {
				continue
			}
			if e.d.DropsRole(name) {
				e.dropGrant(g)
				continue
			}
			e.grantSet.put(int(g), set)
			to := int(e.grantTo.at(int(g)))
			rows := e.given.of(to).all()
			for j := 0; j < len(rows); j += givenWidth {
				if rows[j+givenGrant] == g {
					rows[j+givenSet] = set
				}
			}
			e.given.put(to, rows)
		}
	}
}

// leads reports whether a role is one of those that changed or includes one.
func (e *editor) leads(name string, changed map[string]bool, of func(string) (model.Rights, []string, bool)) bool {
	seen := map[string]bool{}
	var visit func(name string) bool
	visit = func(name string) bool {
		if changed[name] {
			return true
		}
		if seen[name] {
			return false
		}
		seen[name] = true
		_, includes, _ := of(name)
		return slices.ContainsFunc(includes, visit)
	}
	return visit(name)
}

// set adds a set of rights and returns its number.
func (e *editor) set(s access.Set) uint32 {
	own := &rights{}
	for w, v := range s {
		if v != 0 {
			own.word.grow(uint32(w))
			own.bits = binary.LittleEndian.AppendUint64(own.bits, v)
		}
	}
	n := uint32(e.sets())
	e.more.sets.push(own)
	return n
}

// putPlace returns the number of a place, a new one if need be. A new place hangs on the
// deepest node that is known at or above its anchor, and is matched by its pattern.
func (e *editor) putPlace(on model.PathPattern) uint32 {
	if i, ok := e.find(on); ok {
		return uint32(i)
	}
	node := none
	if at, ok := on.Anchor(); ok {
		node, _ = e.nearest(at)
	}
	n := uint32(len(e.patterns) + e.more.places.len())
	spans := e.spansOfPattern(on)
	e.more.places.push(on)
	e.more.placeAt.put(on, n)
	e.more.placesOn.put(node, append(slices.Clip(e.more.placesOn.at(node)), n))
	e.more.placeSpans.push(e.list(spans))
	for _, l := range []*lists{&e.onPlace, &e.denialOn, &e.railsAt} {
		l.put(int(n), nil)
	}
	return n
}

// list keeps a list of spans and returns its number.
func (e *editor) list(spans []uint32) uint32 {
	n := e.more.lists
	e.more.lists++
	e.span.put(n, spans)
	return uint32(n)
}

// spansUnder returns which list of spans stands for a place under a condition.
func (e *editor) spansUnder(place uint32, on model.PathPattern, c model.Condition) uint32 {
	if len(c.Labels) > 0 {
		k := labelOf(place, c)
		n, ok := e.more.labels.get(k)
		if !ok {
			n = e.list(e.labelledIn(e.spansOf(int(place)).all(), c))
			e.more.labels.put(k, n)
		}
		return n
	}
	if n := len(e.patterns); int(place) >= n {
		return e.more.placeSpans.at(int(place) - n)
	}
	return place
}

func (e *editor) dropDenials(id string) bool {
	found := false
	for i := range e.denials.count() {
		if d := e.denials.at(i); d.ID == id && !e.more.deniesGone.at(uint32(i)) {
			found = true
			e.dropDenial(i, d)
		}
	}
	return found
}

func (e *editor) dropDenial(i int, d *model.Denial) {
	e.more.deniesGone.put(uint32(i), true)
	for _, to := range d.To {
		e.denied.drop(int(e.id(to)), uint32(i))
	}
	for _, on := range d.Where {
		e.denialOn.drop(int(e.putPlace(on)), uint32(i))
	}
	e.denialBut.put(i, nil)
}

func (e *editor) putDenial(d *model.Denial) {
	n := uint32(e.denials.push(d))
	e.denialSet.push(e.set(e.filler.of([]model.Rights{d.Rights})))
	e.denialKind.push(byte(kindOf(d.When)))
	e.ending(endsDenials, d.When, n)
	var to, but, spans []uint32
	for _, id := range d.To {
		to = append(to, e.id(id))
		e.denied.add(int(e.id(id)), n)
	}
	for _, id := range d.Unless {
		but = append(but, e.id(id))
	}
	for _, on := range d.Where {
		place := e.putPlace(on)
		spans = append(spans, e.spansUnder(place, on, d.When))
		e.denialOn.add(int(place), n)
	}
	e.denialTo.put(int(n), to)
	e.denialBut.put(int(n), but)
	e.denialSpans.put(int(n), spans)
}

func (e *editor) dropCeilings(id string) bool {
	found := false
	for i := range e.ceils.count() {
		c := e.ceils.at(i)
		if c.ID != id || e.more.ceilsGone.at(uint32(i)) {
			continue
		}
		found = true
		e.more.ceilsGone.put(uint32(i), true)
		e.ceilings.drop(int(e.id(c.Of)), uint32(i))
	}
	return found
}

func (e *editor) putCeiling(c *model.Ceiling) {
	n := uint32(e.ceils.push(c))
	e.ceilSet.push(e.set(e.filler.of([]model.Rights{c.Rights})))
	var on []uint32
	for _, p := range c.Where {
		on = append(on, e.putPlace(p))
	}
	e.ceilOn.put(int(n), on)
	e.ceilings.add(int(e.id(c.Of)), n)
}

func (e *editor) dropGuardrails(id string) bool {
	found := false
	for i := range e.guardrails.count() {
		g := e.guardrails.at(i)
		if g.ID != id || e.railSet.at(i) == none {
			continue
		}
		found = true
		e.railSet.put(i, none)
		e.railsAt.drop(int(e.putPlace(g.Node.Below())), uint32(i))
		e.railBut.put(i, nil)
	}
	return found
}

func (e *editor) putGuardrail(g *model.Guardrail) {
	n := uint32(e.guardrails.push(g))
	e.railSet.push(e.set(e.filler.but(g.Rights)))
	var but []uint32
	for _, id := range g.Unless {
		but = append(but, e.id(id))
	}
	e.railBut.put(int(n), but)
	e.railsAt.add(int(e.putPlace(g.Node.Below())), n)
}
