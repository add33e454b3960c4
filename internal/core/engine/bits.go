package engine

import (
	"iter"
	"math/bits"
	"slices"
)

// Bits is a set of small numbers, such as indexes into a catalogue.
type Bits []uint64

// NewBits returns an empty set for the numbers below n.
func NewBits(n int) Bits { return make(Bits, (n+63)/64) }

// Set adds i, which must be below the n that the set was made for.
func (b Bits) Set(i int) { b[i>>6] |= 1 << (i & 63) }

// Clear takes i out.
func (b Bits) Clear(i int) { b[i>>6] &^= 1 << (i & 63) }

// Has reports whether i is in the set.
func (b Bits) Has(i int) bool { return i>>6 < len(b) && b[i>>6]&(1<<(i&63)) != 0 }

// Count returns how many numbers are in the set.
func (b Bits) Count() int {
	n := 0
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

// Or adds every number of o, which must be of the same size.
func (b Bits) Or(o Bits) {
	for i, w := range o {
		b[i] |= w
	}
}

// And keeps only what is in o too, which must be of the same size.
func (b Bits) And(o Bits) {
	for i := range b {
		b[i] &= o[i]
	}
}

// AndNot takes out every number of o, which must be of the same size.
func (b Bits) AndNot(o Bits) {
	for i, w := range o {
		b[i] &^= w
	}
}

// Subset reports whether every number of b is in o.
func (b Bits) Subset(o Bits) bool {
	for i, w := range b {
		if w&^o[i] != 0 {
			return false
		}
	}
	return true
}

// Clone returns a copy.
func (b Bits) Clone() Bits { return slices.Clone(b) }

// All yields the numbers in rising order. The set may lose the yielded number
// while it is walked.
func (b Bits) All() iter.Seq[int] {
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
