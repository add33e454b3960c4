package access

import (
	"slices"

	"clipfence/internal/core/model"
)

// SamePerson is how a step from an identity to the same one in another source is called.
const SamePerson = "the same by a link"

// Linked returns an estate with everybody of other sources who is linked into it, so
// that an answer ends at a person: the members, at any distance, of a group that is
// linked to one of its groups are members here, and whoever may act as an identity that
// is linked to one of its own may act as that. Identities of other sources carry the
// name of theirs. Nothing that leads to no link is taken over.
func Linked(e *model.Estate, links []model.Link, others []*model.Estate) *model.Estate {
	out := *e
	out.Identities, out.Memberships, out.ActAs = slices.Clip(e.Identities), slices.Clip(e.Memberships),
		slices.Clip(e.ActAs)
	wanted := map[model.ID]bool{} // of other sources
	var queue []model.ID
	want := func(id model.ID) {
		if !wanted[id] {
			wanted[id] = true
			queue = append(queue, id)
		}
	}
	for _, l := range links {
		for _, pair := range [][2]model.ID{{l.A, l.B}, {l.B, l.A}} {
			here, there := pair[0].In(e.Source), pair[1]
			if here.Source != "" || there.Source == e.Source || there.Source == "" {
				continue
			}
			want(there)
			if here.Kind == model.Group {
				out.Memberships = append(out.Memberships, model.Membership{Member: there, Group: here})
			} else {
				out.ActAs = append(out.ActAs, model.ActAs{ID: "link", From: there, To: here, How: SamePerson})
			}
		}
	}
	for i := 0; i < len(queue); i++ {
		to := queue[i]
		for _, o := range others {
			if o.Source != to.Source {
				continue
			}
			in := func(id model.ID) model.ID { id.Source = o.Source; return id }
			for _, x := range o.Identities {
				if in(x.ID) == to {
					x.ID = to
					out.Identities = append(out.Identities, x)
				}
			}
			for _, m := range o.Memberships {
				if in(m.Group) == to {
					want(in(m.Member))
					out.Memberships = append(out.Memberships, model.Membership{Member: in(m.Member), Group: to})
				}
			}
			for _, a := range o.ActAs {
				if in(a.To) == to && !a.From.Open() {
					want(in(a.From))
					a.From, a.To, a.ID = in(a.From), to, o.Source+":"+a.ID
					out.ActAs = append(out.ActAs, a)
				}
			}
		}
	}
	return &out
}
