package index

import (
	"slices"

	"clipfence/internal/core/engine"
	"clipfence/internal/core/model"
)

// A Holder is somebody who may do what was asked, perhaps only under conditions.
type Holder struct {
	Identity int // its number
	Outcome  engine.Outcome
}

// Who returns every identity but groups that may use a permission at a path, in the
// order of their numbers, and what the crowds of everyone and signed-in may. Nothing
// is known about the call.
func (x *Index) Who(p model.Permission, path model.Path) []Holder {
	s := x.scratch()
	defer x.pool.Put(s)
	ctx := model.Context{}
	if labels, ok := x.Node(path); ok {
		ctx.Labels = labels
	}
	x.matching(path, func(place int) {
		s.place[place] = s.stamp
		s.matched = append(s.matched, uint32(place))
	})
	perm, listed := x.holds(p)
	// What each identity is given: 2 for certain, 1 perhaps.
	got := map[uint32]uint8{}
	for _, m := range s.matched {
		for grants, j := x.onPlace.of(int(m)), 0; j < grants.len(); j++ {
			g := grants.at(j)
			gr := func() *model.Grant { return x.grants.at(int(g)) }
			if listed && !x.has(x.grantSet.at(int(g)), perm) || !listed && !engine.Has(x.rights(gr()), p) {
				continue
			}
			value := uint8(2)
			switch met, _ := gr().Condition().Eval(ctx); met {
			case model.False:
				continue
			case model.Open:
				value = 1
			}
			if to, ok := x.ids.find(gr().To.String()); ok && got[uint32(to)] < value {
				got[uint32(to)] = value
			}
		}
	}
	allowed := map[uint32]uint8{}
	for _, value := range []uint8{1, 2} {
		for to, v := range got {
			if v == value {
				x.below(to, func(id uint32) { allowed[id] = max(allowed[id], value) })
			}
		}
	}
	// What each is refused: 2 for certain, 1 perhaps.
	refused := map[uint32]uint8{}
	refuse := func(to, but ints, everybody bool, value uint8) {
		spared := map[uint32]bool{}
		for j := range but.len() {
			x.below(but.at(j), func(id uint32) { spared[id] = true })
		}
		hit := func(id uint32) {
			if !spared[id] {
				refused[id] = max(refused[id], value)
			}
		}
		if everybody {
			for id := range allowed {
				hit(id)
			}
			return
		}
		for j := range to.len() {
			x.below(to.at(j), hit)
		}
	}
	for _, i := range x.on(s, &x.denialOn) {
		dn := x.denials.at(int(i))
		if listed && !x.has(x.denialSet.at(int(i)), perm) || !listed && !dn.Has(p) {
			continue
		}
		switch met, _ := dn.When.Eval(ctx); met {
		case model.True:
			refuse(x.denialTo.of(int(i)), x.denialBut.of(int(i)), false, 2)
		case model.Open:
			refuse(x.denialTo.of(int(i)), x.denialBut.of(int(i)), false, 1)
		}
	}
	for _, i := range x.on(s, &x.railsAt) {
		if listed && !x.has(x.railSet.at(int(i)), perm) || !listed && !x.guardrails.at(int(i)).Has(p) {
			refuse(nil, x.railBut.of(int(i)), true, 2)
		}
	}
	for id := range allowed {
		of := x.ceilings.of(int(id))
		for j := range of.len() {
			c := int(of.at(j))
			if !x.covers(s, x.ceilOn.of(c)) || listed && !x.has(x.ceilSet.at(c), perm) || !listed && !x.ceils.at(c).Has(p) {
				refused[id] = 2
			}
		}
	}
	for _, by := range x.meta.at(0).Semantics.Bypass {
		if n, ok := x.ids.find(by.String()); ok {
			x.below(uint32(n), func(id uint32) { allowed[id], refused[id] = 2, 0 })
		}
	}
	out := make([]Holder, 0, len(allowed))
	for id, v := range allowed {
		if refused[id] == 2 || x.kind(id) == model.Group {
			continue
		}
		h := Holder{int(id), engine.Conditional}
		if v == 2 && refused[id] == 0 {
			h.Outcome = engine.Allowed
		}
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b Holder) int { return a.Identity - b.Identity })
	return out
}

// kind returns the kind of an identity's number.
func (x *Index) kind(id uint32) model.IdentityKind {
	text := x.ids.at(int(id))
	if i := slices.Index(text, '/'); i >= 0 {
		text = text[:i]
	}
	if i := slices.Index(text, ':'); i >= 0 {
		text = text[i+1:]
	}
	return model.IdentityKind(text)
}

// below yields an identity and everybody whose closure holds it, each once.
func (x *Index) below(to uint32, yield func(id uint32)) {
	seen := map[uint32]bool{}
	queue := []uint32{to}
	push := func(id uint32) {
		if !seen[id] {
			seen[id] = true
			queue = append(queue, id)
		}
	}
	seen[to] = true
	if k := x.kind(to); k == model.Everyone || k == model.SignedIn {
		for i := range x.ids.len() {
			if slices.Contains(crowds(x.kind(uint32(i))), k) {
				push(uint32(i))
			}
		}
	}
	for i := 0; i < len(queue); i++ {
		yield(queue[i])
		for members, j := x.down.of(int(queue[i])), 0; j < members.len(); j++ {
			push(members.at(j))
		}
	}
}
