package gauge

import (
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

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
	if l.id = id; l.f == nil {
		l.f = f.x.Finder(id)
	} else {
		l.f.For(id)
	}
	return l.f
}
