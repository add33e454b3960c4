package index

import (
	"encoding/binary"
	"encoding/json"
	"sort"
	"sync/atomic"
)

// ints is a column of little-endian 32-bit numbers.
type ints []byte

func (c ints) at(i int) uint32 { return binary.LittleEndian.Uint32(c[4*i:]) }
func (c ints) len() int        { return len(c) / 4 }

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

// lists is a column of lists: those of i are data[off[i]:off[i+1]].
type lists struct{ off, data ints }

func (l lists) of(i int) ints { return l.data[4*l.off.at(i) : 4*l.off.at(i+1)] }

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
	return lists{packInts(off), packInts(data)}
}

// texts is a column of texts.
type texts struct {
	off  ints
	data []byte
}

func (t texts) at(i int) []byte { return t.data[t.off.at(i):t.off.at(i+1)] }
func (t texts) len() int        { return t.off.len() - 1 }

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
	bad   *atomic.Bool
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
