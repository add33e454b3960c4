package index

import (
	"encoding/binary"
	"encoding/json"
	"slices"
	"sort"
	"sync/atomic"
)

// ints is a column of little-endian 32-bit numbers.
type ints []byte

func (c ints) at(i int) uint32 { return binary.LittleEndian.Uint32(c[4*i:]) }
func (c ints) len() int        { return len(c) / 4 }

// all returns the numbers of a column.
func (c ints) all() []uint32 {
	out := make([]uint32, c.len())
	for i := range out {
		out[i] = c.at(i)
	}
	return out
}

// grow adds numbers at the end of a column; only of one that nobody shares.
func (c *ints) grow(v ...uint32) {
	for _, x := range v {
		*c = binary.LittleEndian.AppendUint32(*c, x)
	}
}

// search returns the first i with c[i] >= v; the column must be sorted.
func (c ints) search(v uint32) int {
	return sort.Search(c.len(), func(i int) bool { return c.at(i) >= v })
}

// longs is a column of little-endian 64-bit numbers.
type longs []byte

func (c longs) at(i int) uint64 { return binary.LittleEndian.Uint64(c[8*i:]) }

func packInts(v []uint32) ints {
	out := make([]byte, 0, 4*len(v))
	for _, x := range v {
		out = binary.LittleEndian.AppendUint32(out, x)
	}
	return out
}

func packLongs(v []uint64) longs {
	out := make([]byte, 0, 8*len(v))
	for _, x := range v {
		out = binary.LittleEndian.AppendUint64(out, x)
	}
	return out
}

// slots is a table by hash with open addressing: a number, plus one, in a slot; zero is
// free. A power of two of them, at least half of them free.
type slots ints

func packSlots(n int, entry func(i int) (value uint32, hash uint64)) slots {
	size := 64
	for size < 2*n {
		size *= 2
	}
	table, mask := make([]uint32, size), uint64(size-1)
	for i := range n {
		v, h := entry(i)
		at := mix(h) & mask
		for table[at] != 0 {
			at = (at + 1) & mask
		}
		table[at] = v + 1
	}
	return slots(packInts(table))
}

// lookup returns, of the numbers with a hash, the one that is accepted by is.
func (t slots) lookup(hash uint64, is func(v uint32) bool) (v uint32, ok bool) {
	mask := uint64(ints(t).len() - 1)
	for at := mix(hash) & mask; ; at = (at + 1) & mask {
		v := ints(t).at(int(at))
		if v == 0 {
			return none, false
		}
		if is(v - 1) {
			return v - 1, true
		}
	}
}

// each calls yield with every number of a hash, and now and then with one of another.
func (t slots) each(hash uint64, yield func(v uint32)) {
	mask := uint64(ints(t).len() - 1)
	for at := mix(hash) & mask; ; at = (at + 1) & mask {
		v := ints(t).at(int(at))
		if v == 0 {
			return
		}
		yield(v - 1)
	}
}

// lists is a column of lists: those of i are data[off[i]:off[i+1]]. An edited view shares
// the column, and has lists of its own for what the edit reaches and for what is new.
type lists struct {
	off, data ints
	edits     layered[int, ints]
	view      bool // there may be more of them than the column has
}

func (l *lists) of(i int) ints {
	if l.view {
		return l.edited(i)
	}
	return l.data[4*l.off.at(i) : 4*l.off.at(i+1)]
}

func (l *lists) edited(i int) ints {
	if own, ok := l.edits.get(i); ok {
		return own
	}
	if i+1 >= l.off.len() {
		return nil
	}
	return l.data[4*l.off.at(i) : 4*l.off.at(i+1)]
}

// edit sees to it that a column has edits of its own to write to.
func (l *lists) edit() {
	l.edits.fork()
	l.view = true
}

// put gives i another list.
func (l *lists) put(i int, v []uint32) { l.edits.put(i, packInts(v)) }

// add appends to the list of i.
func (l *lists) add(i int, v ...uint32) { l.put(i, append(l.of(i).all(), v...)) }

// drop takes a number out of the list of i.
func (l *lists) drop(i int, v uint32) {
	l.put(i, slices.DeleteFunc(l.of(i).all(), func(x uint32) bool { return x == v }))
}

// packLists writes lists one after the other.
func packLists(n int, pairs func(yield func(i int, v uint32))) lists {
	off := make([]uint32, n+1)
	pairs(func(i int, _ uint32) { off[i+1]++ })
	for i := range n {
		off[i+1] += off[i]
	}
	data := make([]uint32, off[n])
	next := append([]uint32(nil), off[:n]...)
	pairs(func(i int, v uint32) { data[next[i]] = v; next[i]++ })
	return lists{off: packInts(off), data: packInts(data)}
}

// texts is a column of texts.
type texts struct {
	off  ints
	data []byte
}

func (t texts) at(i int) []byte { return t.data[t.off.at(i):t.off.at(i+1)] }
func (t texts) len() int        { return t.off.len() - 1 }

// hashed returns the table that names finds texts by.
func (t texts) hashed() slots {
	return packSlots(t.len(), func(i int) (uint32, uint64) { return uint32(i), hash(fnvBasis, string(t.at(i))) })
}

// named returns where s stands, by a table of the column.
func (t texts) named(by slots, s string) (int, bool) {
	i, ok := by.lookup(hash(fnvBasis, s), func(i uint32) bool { return string(t.at(int(i))) == s })
	return int(i), ok
}

// find returns where s stands in a sorted column.
func (t texts) find(s string) (int, bool) {
	i := sort.Search(t.len(), func(i int) bool { return string(t.at(i)) >= s })
	return i, i < t.len() && string(t.at(i)) == s
}

func packTexts(n int, at func(i int) string) texts {
	off := make([]uint32, 1, n+1)
	var data []byte
	for i := range n {
		data = append(data, at(i)...)
		off = append(off, uint32(len(data)))
	}
	return texts{packInts(off), data}
}

// records is a column of values of the model, kept as JSON and read when they are
// asked for. It may be used by several goroutines.
type records[T any] struct {
	texts
	cache []atomic.Pointer[T]
	extra paged[*T] // of an edited view, numbered behind the others
	bad   *atomic.Bool
}

// count returns how many there are.
func (r *records[T]) count() int { return len(r.cache) + r.extra.len() }

// edit sees to it that what is added stays out of the records of whoever shares the column.
func (r *records[T]) edit() { r.extra.edit() }

// push adds a record and returns its number; only of a column that is edited.
func (r *records[T]) push(v *T) int {
	r.extra.push(v)
	return r.count() - 1
}

func packRecords[T any](list []T, bad *atomic.Bool) (records[T], error) {
	r := records[T]{cache: make([]atomic.Pointer[T], len(list)), bad: bad}
	var err error
	r.texts = packTexts(len(list), func(i int) string {
		b, e := json.Marshal(&list[i])
		if e != nil {
			err = e
		}
		r.cache[i].Store(&list[i])
		return string(b)
	})
	return r, err
}

func (r *records[T]) load(t texts, bad *atomic.Bool) {
	r.texts, r.cache, r.bad = t, make([]atomic.Pointer[T], t.len()), bad
}

// at returns a value; nobody may change it.
func (r *records[T]) at(i int) *T {
	if i >= len(r.cache) {
		return r.extra.at(i - len(r.cache))
	}
	if v := r.cache[i].Load(); v != nil {
		return v
	}
	v := new(T)
	if json.Unmarshal(r.texts.at(i), v) != nil {
		r.bad.Store(true)
	}
	r.cache[i].Store(v)
	return v
}
