package draft

import (
	"slices"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// What a draft of one looks at
//
// Comparing everybody and learning from all takes minutes on a large estate, and a draft of one looks at little
// of it: at the grants that reach whom it is for, and who is in it where that is a group; at what those did;
// and at what their peers did, who are named by the crews of the groups that they are in. So what is told of each can
// be kept, and the next draft reads that of a few. What goes for everybody cannot be asked so, nor for a group in
// which nobody is known to be, since anybody's calls may be those of its members.

// Few reports whether a draft, or a rehearsal, of somebody looks at few, and returns them: of these it must be
// told what they are granted, and who the crews of their groups are, see [Groups].
func Few(x *index.Index, who model.ID) ([]model.ID, bool) {
	n, named := x.Number(who)
	if who.Open() || !named || who.Kind == model.Group && x.Empty(who) {
		return nil, false
	}
	var in []int
	x.Members(n, func(i int) { in = append(in, i) })
	slices.Sort(in)
	var out []model.ID
	for _, i := range in {
		out = append(out, x.ID(i))
	}
	return out, true
}

// Groups returns the groups of which the crews are looked at, when a draft looks at few.
func Groups(x *index.Index, few []model.ID) []model.ID {
	seen := map[model.ID]bool{}
	var out []model.ID
	for _, id := range few {
		for _, g := range x.GroupsOf(id) {
			if !seen[g] {
				seen[g] = true
				out = append(out, g)
			}
		}
	}
	return out
}

// Callers returns of whom it must be known what they did, when a draft looks at few: those, and their crews.
func Callers(few []model.ID, crews map[model.ID]*risk.Crew) []model.ID {
	out := slices.Clone(few)
	for _, c := range crews {
		out = append(out, c.First...)
	}
	slices.SortFunc(out, model.ID.Compare)
	return slices.Compact(out)
}

// Told puts together what was told of a few, for drafts: their part of a comparison, and what places are worth to
// them. In has the uses of [Callers] and no others; get returns what [gauge.Result.Tell] told of one, for drafts.
func Told(in *gauge.Input, few []model.ID, all []byte, get func(model.ID) ([]byte, bool, error), whole *Whole,
	crews map[model.ID]*risk.Crew) (*gauge.Result, *Worth, error) {
	r, err := gauge.Retell(in.Index, in.Weights, few, all, get)
	if err != nil {
		return nil, nil, err
	}
	r.Credit(in)
	w, err := WorthOfFew(in, r, whole, crews)
	return r, w, err
}
