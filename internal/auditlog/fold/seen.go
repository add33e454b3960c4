package fold

import (
	"errors"
	"sync"
	"sync/atomic"

	"clipfence/internal/core/usage"
)

type atomicInt = atomic.Int64

// Horizon is for how many days before the newest event ids are remembered: a
// delivery repeated within it counts once.
const Horizon = 400

// mostIDs bounds how many ids are held in memory, eight bytes each, half filled.
const mostIDs = 4_000_000

// A Seen remembers which events were counted, by day and a 64-bit hash of the
// event's id. Two different ids of one day share a hash with a chance of about
// n*n/2^65: one in 370,000 for a day of ten million events. Days come from the
// store as they are needed. It may be used by several goroutines.
type Seen struct {
	load func(usage.Day) ([]uint64, error)

	mu    sync.RWMutex
	days  map[usage.Day]*day
	fault error
}

type day struct {
	mu    [16]sync.Mutex
	shard [16]set
	fresh [16][]uint64
}

// NewSeen returns a Seen that fetches what was seen on a day with load, which may
// be nil.
func NewSeen(load func(usage.Day) ([]uint64, error)) *Seen {
	return &Seen{load: load, days: map[usage.Day]*day{}}
}

// Add reports whether the event is new, and remembers it.
func (s *Seen) Add(d usage.Day, hash uint64) bool { return s.day(d).add(hash) }

// day returns what is known of a day. It stays the same until take.
func (s *Seen) day(d usage.Day) *day {
	s.mu.RLock()
	at := s.days[d]
	s.mu.RUnlock()
	if at == nil {
		at = s.fetch(d)
	}
	return at
}

func (at *day) add(hash uint64) bool {
	i := hash >> 60
	at.mu[i].Lock()
	defer at.mu[i].Unlock()
	if !at.shard[i].add(hash) {
		return false
	}
	at.fresh[i] = append(at.fresh[i], hash)
	return true
}

func (s *Seen) fetch(d usage.Day) *day {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at := s.days[d]; at != nil {
		return at
	}
	at := &day{}
	if s.load != nil {
		old, err := s.load(d)
		if err != nil {
			s.fault = errors.Join(s.fault, err)
		}
		for _, h := range old {
			at.shard[h>>60].add(h)
		}
	}
	s.days[d] = at
	return at
}

// take returns what is new since it was called last, and forgets days of the far
// past of this run when memory is short; they come back from the store.
func (s *Seen) take() map[usage.Day][]uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[usage.Day][]uint64{}
	held := 0
	for d, at := range s.days {
		for i := range at.fresh {
			if len(at.fresh[i]) > 0 {
				out[d] = append(out[d], at.fresh[i]...)
				at.fresh[i] = nil
			}
			held += at.shard[i].n
		}
	}
	if held > mostIDs && s.load != nil {
		s.days = map[usage.Day]*day{}
	}
	return out
}

func (s *Seen) err() error {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.fault
}

// set is a set of hashes by open addressing. Zero is kept apart.
type set struct {
	slots []uint64
	n     int
	zero  bool
}

func (s *set) add(h uint64) bool {
	if h == 0 {
		was := s.zero
		s.zero = true
		return !was
	}
	if 2*(s.n+1) > len(s.slots) {
		old := s.slots
		s.slots = make([]uint64, max(64, 2*len(old)))
		for _, x := range old {
			if x != 0 {
				s.put(x)
			}
		}
	}
	if !s.put(h) {
		return false
	}
	s.n++
	return true
}

func (s *set) put(h uint64) bool {
	mask := uint64(len(s.slots) - 1)
	for i := h & mask; ; i = (i + 1) & mask {
		switch s.slots[i] {
		case 0:
			s.slots[i] = h
			return true
		case h:
			return false
		}
	}
}
