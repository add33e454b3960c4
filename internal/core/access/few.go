package access

import (
	"encoding/json"
	"errors"
	"iter"
	"math"
	"math/bits"
	"slices"
	"sort"
)

// Few is a set of small numbers of which few are there, or which lie close together: only the
// words of a [Set] that have any are kept. There are hundreds of thousands of them where there
// are dozens of sets. The nil Few is empty.
type Few []word

type word struct {
	at   uint32
	bits uint64
}

// Add adds i. It is fast for what is the largest number so far.
func (f *Few) Add(i int) {
	at := uint32(i >> 6)
	n := len(*f)
	if n == 0 || (*f)[n-1].at < at {
		*f = append(*f, word{at, 1 << (i & 63)})
		return
	}
	k := n - 1
	if (*f)[k].at != at {
		k = f.find(at)
		if (*f)[k].at != at {
			*f = slices.Insert(*f, k, word{at: at})
		}
	}
	(*f)[k].bits |= 1 << (i & 63)
}

// find returns where the word is, or would be.
func (f *Few) find(at uint32) int {
	return sort.Search(len(*f), func(k int) bool { return (*f)[k].at >= at })
}

// Has reports whether i is in the set.
func (f Few) Has(i int) bool {
	k := f.find(uint32(i >> 6))
	return k < len(f) && f[k].at == uint32(i>>6) && f[k].bits&(1<<(i&63)) != 0
}

// In reports whether every number is in a set, which must be of a size to hold them.
func (f Few) In(b Set) bool {
	for _, w := range f {
		if w.bits&^b[w.at] != 0 {
			return false
		}
	}
	return true
}

// Meets reports whether some number is in a set, which must be of a size to hold all.
func (f Few) Meets(b Set) bool {
	for _, w := range f {
		if w.bits&b[w.at] != 0 {
			return true
		}
	}
	return false
}

// Count returns how many numbers are in the set.
func (f Few) Count() int {
	n := 0
	for _, w := range f {
		n += bits.OnesCount64(w.bits)
	}
	return n
}

// All yields the numbers in rising order.
func (f Few) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, w := range f {
			for b := w.bits; b != 0; b &= b - 1 {
				if !yield(int(w.at)<<6 + bits.TrailingZeros64(b)) {
					return
				}
			}
		}
	}
}

// OrFew adds every number of f, which must be below the n that the set was made for.
func (b Set) OrFew(f Few) {
	for _, w := range f {
		b[w.at] |= w.bits
	}
}

// Few returns the set as the words that have any.
func (b Set) Few() Few {
	var out Few
	for i, w := range b {
		if w != 0 {
			out = append(out, word{uint32(i), w})
		}
	}
	return out
}

// AndFew returns the numbers that are in both.
func (b Set) AndFew(f Few) Few {
	var out Few
	for _, w := range f {
		if both := w.bits & b[w.at]; both != 0 {
			out = append(out, word{w.at, both})
		}
	}
	return out
}

// OrFewLess adds every number of f that is in neither of two others.
func (b Set) OrFewLess(f, a, o Few) {
	for _, w := range f {
		b[w.at] |= w.bits &^ a.word(w.at) &^ o.word(w.at)
	}
}

// CountLess returns how many numbers are in the set and in neither of two others.
func (f Few) CountLess(a, o Few) int {
	n := 0
	for _, w := range f {
		n += bits.OnesCount64(w.bits &^ a.word(w.at) &^ o.word(w.at))
	}
	return n
}

// word returns the word at a place.
func (f Few) word(at uint32) uint64 {
	if k := f.find(at); k < len(f) && f[k].at == at {
		return f[k].bits
	}
	return 0
}

// Less returns the numbers of f that are not in another.
func (f Few) Less(o Few) Few {
	var out Few
	for _, w := range f {
		if w.bits &^= o.word(w.at); w.bits != 0 {
			out = append(out, w)
		}
	}
	return out
}

// MarshalJSON writes the words that have any, each behind its place.
func (f Few) MarshalJSON() ([]byte, error) {
	out := make([]uint64, 0, 2*len(f))
	for _, w := range f {
		out = append(out, uint64(w.at), w.bits)
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (f *Few) UnmarshalJSON(b []byte) error {
	var words []uint64
	if err := json.Unmarshal(b, &words); err != nil {
		return err
	}
	out := make(Few, 0, len(words)/2)
	for i := 0; i < len(words); i += 2 {
		if n := len(out); i+1 == len(words) || words[i] > math.MaxUint32 || words[i+1] == 0 ||
			n > 0 && uint64(out[n-1].at) >= words[i] {
			return errors.New("a set of numbers is not as it was written")
		}
		out = append(out, word{uint32(words[i]), words[i+1]})
	}
	*f = nil
	if len(out) > 0 {
		*f = out
	}
	return nil
}
