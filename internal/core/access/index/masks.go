package index

import (
	"slices"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// Masker looks for whom identities can act as, one after the other. From whom an edge of
// acting as others leads on is worked out once for all of them, since most who can act as
// anybody get to the same few. It is not for several at once.
type Masker struct {
	x    *Index
	to   map[model.ID]uint32 // a number for everybody who was met
	ids  []model.ID          // by that number
	from [][]step            // by that number, what begins at it, its groups and the crowds; nil: not looked at

	asked []uint32 // of each number, when it was last got to
	turn  uint32
	found []reached
}

// step is an edge, and to whom it leads.
type step struct{ edge, to uint32 }

// reached is whom somebody can act as by a last step, taken from via in found: below nought where it is the
// first.
type reached struct {
	step
	via int
}

// Masker returns one for an index.
func (x *Index) Masker() *Masker {
	return &Masker{x: x, to: map[model.ID]uint32{}}
}

// Masks returns everybody whom id can act as, as [plain.Engine.Masks] does.
func (x *Index) Masks(id model.ID) []access.Mask {
	m := x.Masker()
	m.Of(id)
	out := make([]access.Mask, len(m.found))
	for i := range m.found {
		out[i] = m.Mask(i)
	}
	return out
}

// Of looks for everybody whom id can act as, nearest first, and returns how many they are.
func (m *Masker) Of(id model.ID) int {
	m.turn++
	m.found = m.found[:0]
	self := m.number(id)
	m.asked[self] = m.turn
	m.follow(m.steps(self), -1)
	for i := 0; i < len(m.found); i++ {
		m.follow(m.steps(m.found[i].to), i)
	}
	return len(m.found)
}

// follow takes some steps from via on.
func (m *Masker) follow(steps []step, via int) {
	for _, s := range steps {
		if m.asked[s.to] != m.turn {
			m.asked[s.to] = m.turn
			m.found = append(m.found, reached{s, via})
		}
	}
}

// ID returns the one of those found last that has a number, and whether it takes more than one step.
func (m *Masker) ID(i int) (id model.ID, far bool) {
	return m.ids[m.found[i].to], m.found[i].via >= 0
}

// Number returns a number of the one of those found last, which this Masker keeps for it; they begin at 0
// and have no gaps.
func (m *Masker) Number(i int) int { return int(m.found[i].to) }

// Mask returns it with its steps.
func (m *Masker) Mask(i int) access.Mask {
	out := access.Mask{ID: m.ids[m.found[i].to]}
	for ; i >= 0; i = m.found[i].via {
		out.Steps = append(out.Steps, m.x.actAs.at(int(m.found[i].edge)))
	}
	slices.Reverse(out.Steps)
	return out
}

func (m *Masker) number(id model.ID) uint32 {
	n, ok := m.to[id]
	if !ok {
		n = uint32(len(m.ids))
		m.to[id], m.ids, m.asked, m.from = n, append(m.ids, id), append(m.asked, 0), append(m.from, nil)
	}
	return n
}

// steps returns those that somebody can take, in the order of the groups and crowds that it is in.
func (m *Masker) steps(who uint32) []step {
	if m.from[who] != nil {
		return m.from[who]
	}
	s := m.x.scratch()
	defer m.x.pool.Put(s)
	m.x.closure(s, m.ids[who])
	out := []step{}
	for _, n := range s.ids {
		if n == none {
			continue
		}
		for edges, j := m.x.mayAct.of(int(n)), 0; j < edges.len(); j++ {
			e := edges.at(j)
			out = append(out, step{e, m.number(m.x.actAs.at(int(e)).To)})
		}
	}
	m.from[who] = out
	return out
}
