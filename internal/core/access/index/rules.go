package index

// Rules are the denials and guardrails that may refuse something in a region, few of them.
type Rules struct {
	x    *Index
	list []rule
}

type rule struct {
	rail   bool
	number int
	id     string // of a denial
	pieces []Piece
}

// MostRules is how many rules there may be in [Rules].
const MostRules = 64

// RulesIn returns the rules that refuse something of some pieces of access; not ok: there are
// more than [MostRules] of them.
func (x *Index) RulesIn(of []Piece) (r *Rules, ok bool) {
	r = &Rules{x: x}
	nodes := NodesOf(of)
	add := func(rail bool, number int, id string, set uint32, where Region) {
		if len(r.list) > MostRules || len(where.And(nodes)) == 0 {
			return
		}
		perms := x.NewSet()
		x.bits(set, perms)
		pieces := x.PiecesOf(perms, where)
		if Meet(of, pieces) {
			r.list = append(r.list, rule{rail, number, id, pieces})
		}
	}
	for i := range x.denialSet.len() {
		if x.denialKind.at(i) == always && (x.more == nil || !x.more.deniesGone.at(uint32(i))) {
			d := x.denials.at(i)
			add(false, i, d.ID, x.denialSet.at(i), x.Region(d.Where...))
		}
	}
	for i := range x.railSet.len() {
		if x.railSet.at(i) != none {
			add(true, i, "", x.railSet.at(i), x.Region(x.guardrails.at(i).Node.Below()))
		}
	}
	return r, len(r.list) <= MostRules
}

// Binding returns which rules hold an identity that has more than it is granted, a bit each.
func (r *Rules) Binding(id int, e *Extra) (bits uint64) {
	s := r.x.scratch()
	defer r.x.pool.Put(s)
	r.x.closureOf(s, uint32(id), r.x.kind(uint32(id)))
	for i, l := range r.list {
		switch {
		case l.rail && (e.Guardrails || s.meets(r.x.railBut.of(l.number)) >= 0):
		case !l.rail && (e.Denials[l.id] || s.meets(r.x.denialTo.of(l.number)) < 0 ||
			s.meets(r.x.denialBut.of(l.number)) >= 0):
		default:
			bits |= 1 << i
		}
	}
	return bits
}

// Sparing returns which rules spare the members of a group, a bit each.
func (r *Rules) Sparing(group int) (bits uint64) {
	s := r.x.scratch()
	defer r.x.pool.Put(s)
	r.x.closureOf(s, uint32(group), r.x.kind(uint32(group)))
	for i, l := range r.list {
		if l.rail && s.meets(r.x.railBut.of(l.number)) >= 0 || !l.rail && s.meets(r.x.denialBut.of(l.number)) >= 0 {
			bits |= 1 << i
		}
	}
	return bits
}

// Refused returns what some pieces of access are without what rules refuse.
func (r *Rules) Refused(of []Piece, bits uint64) []Piece {
	for i, l := range r.list {
		if bits>>i&1 == 1 {
			of = Less(of, l.pieces)
		}
	}
	return of
}
