package gauge

import (
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
	"clipfence/internal/core/usage"
)

// inRuns goes over uses on all processors, a run of uses of one caller or more of them at a
// time: each worker is asked with its own number, below [parallel.Workers].
func inRuns(uses *usage.Uses, do func(worker, from, to int)) {
	const least = 256 // uses a run
	var ends []int
	last := 0
	for _, to := range uses.Runs() {
		if to-last >= least || to == uses.Len() {
			ends, last = append(ends, to), to
		}
	}
	parallel.Each(len(ends), func(k, i int) {
		from := 0
		if i > 0 {
			from = ends[i-1]
		}
		do(k, from, ends[i])
	})
}

// finders keeps finders of the identities asked about last: a caller, and those it acted for.
type finders struct {
	x    *index.Index
	last [4]struct {
		id model.ID
		f  *index.Finder
	}
	next int
}

func (f *finders) of(id model.ID) *index.Finder {
	for i := range f.last {
		if l := &f.last[i]; l.f != nil && l.id == id {
			return l.f
		}
	}
	l := &f.last[f.next]
	f.next = (f.next + 1) % len(f.last)
	l.id, l.f = id, f.x.Finder(id)
	return l.f
}
