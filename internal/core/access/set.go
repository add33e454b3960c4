package access

import (
	"iter"
	"math/bits"
	"slices"
)

// Set is a set of small numbers, such as indexes into a catalogue.
type Set []uint64

// NewSet returns an empty set for the numbers below n.
func NewSet(n int) Set { return make(Set, (n+63)/64) }

// Add adds i, which must be below the n that the set was made for.
func (b Set) Add(i int) { b[i>>6] |= 1 << (i & 63) }

// Remove takes i out.
func (b Set) Remove(i int) { b[i>>6] &^= 1 << (i & 63) }

// Has reports whether i is in the set.
func (b Set) Has(i int) bool { return i>>6 < len(b) && b[i>>6]&(1<<(i&63)) != 0 }

// Count returns how many numbers are in the set.
func (b Set) Count() int {
	n := 0
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

// Or adds every number of o, which must be of the same size.
func (b Set) Or(o Set) {
	for i, w := range o {
		b[i] |= w
	}
}

// And keeps only what is in o too, which must be of the same size.
func (b Set) And(o Set) {
	for i := range b {
		b[i] &= o[i]
	}
}

// AndNot takes out every number of o, which must be of the same size.
func (b Set) AndNot(o Set) {
	for i, w := range o {
		b[i] &^= w
	}
}

// Subset reports whether every number of b is in o.
func (b Set) Subset(o Set) bool {
	for i, w := range b {
		if w&^o[i] != 0 {
			return false
		}
	}
	return true
}

// Meets reports whether some number of b is in o, which must be of the same size.
func (b Set) Meets(o Set) bool {
	for i, w := range b {
		if w&o[i] != 0 {
			return true
		}
	}
	return false
}

// Clone returns a copy.
func (b Set) Clone() Set { return slices.Clone(b) }

// All yields the numbers in rising order. The set may lose the yielded number
// while it is walked.
func (b Set) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range b {
			for w != 0 {
				if !yield(i<<6 + bits.TrailingZeros64(w)) {
					return
				}
				w &= w - 1
			}
		}
	}
}
