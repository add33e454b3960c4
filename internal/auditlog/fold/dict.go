package fold

import (
	"hash/maphash"
	"sync"

	"clipfence/internal/core/usage"
)

const shards = 64

// A dict numbers the names of a log for all workers together, and parses each text
// once; two spellings of one name share a number. A text is known by 96 bits of two
// hashes whose seeds are drawn anew in each process: of ten million texts two share
// them with a chance of about 10^-15, and nobody can make two that do. So the texts
// themselves need not be kept.
type dict[T comparable] struct {
	seeds [2]maphash.Seed
	parts [shards]part

	mu    sync.Mutex
	names *usage.Names[T]
	errs  []error
}

type part struct {
	mu    sync.Mutex
	slots []slot
	used  int
	_     [64]byte // one lock, one cache line
}

type slot struct {
	a uint64 // 0: free
	b uint32
	n uint32 // number; from faulty on: an error
}

const faulty = 1 << 31

// A near is one worker's own memory of what it looked up last in a dict, so that
// names met again and again need no lock.
type near[T comparable] struct {
	d     *dict[T]
	slots [1 << 10]slot
}

func (c *near[T]) number(text []byte, salt uint32, parse func(string) (T, error)) (uint32, error) {
	a, b := c.d.hash(text, salt)
	s := &c.slots[a>>1&(1<<10-1)]
	if s.a == a && s.b == b {
		return s.n, nil
	}
	n, err := c.d.hashed(a, b, text, parse)
	if err == nil {
		*s = slot{a, b, n}
	}
	return n, err
}

func (c *near[T]) reset(d *dict[T]) { *c = near[T]{d: d} }

func newDict[T comparable](names *usage.Names[T]) *dict[T] {
	names.Number(*new(T)) // number 0 is the zero value's
	return &dict[T]{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, names: names}
}

// number returns the number of a text, which is parsed when it is new. salt tells
// apart texts that are read in different ways.
func (d *dict[T]) number(text []byte, salt uint32, parse func(string) (T, error)) (uint32, error) {
	a, b := d.hash(text, salt)
	return d.hashed(a, b, text, parse)
}

func (d *dict[T]) hash(text []byte, salt uint32) (uint64, uint32) {
	return maphash.Bytes(d.seeds[0], text) | 1, uint32(maphash.Bytes(d.seeds[1], text)) ^ salt
}

func (d *dict[T]) hashed(a uint64, b uint32, text []byte, parse func(string) (T, error)) (uint32, error) {
	p := &d.parts[a>>58]
	p.mu.Lock()
	if 2*(p.used+1) > len(p.slots) {
		p.grow()
	}
	mask := uint64(len(p.slots) - 1)
	at := a >> 1 & mask
	for ; p.slots[at].a != 0; at = (at + 1) & mask {
		if s := &p.slots[at]; s.a == a && s.b == b {
			n := s.n
			p.mu.Unlock()
			return d.result(n)
		}
	}
	v, err := parse(string(text))
	d.mu.Lock()
	var n uint32
	if err != nil {
		n = faulty + uint32(len(d.errs))
		d.errs = append(d.errs, err)
	} else {
		n = d.names.Number(v)
	}
	d.mu.Unlock()
	p.slots[at] = slot{a, b, n}
	p.used++
	p.mu.Unlock()
	return n &^ faulty, err
}

func (d *dict[T]) result(n uint32) (uint32, error) {
	if n < faulty {
		return n, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return 0, d.errs[n-faulty]
}

func (p *part) grow() {
	old := p.slots
	p.slots = make([]slot, max(32, 2*len(old)))
	mask := uint64(len(p.slots) - 1)
	for _, s := range old {
		if s.a != 0 {
			at := s.a >> 1 & mask
			for p.slots[at].a != 0 {
				at = (at + 1) & mask
			}
			p.slots[at] = s
		}
	}
}

// at returns the value of a number.
func (d *dict[T]) at(n uint32) T {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.names.At(n)
}
