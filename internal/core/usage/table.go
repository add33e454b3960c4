package usage

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"clipfence/internal/core/model"
)

// Names numbers values in the order in which they come. Number 0 is the zero value.
// The zero Names is ready.
type Names[T comparable] struct {
	list  []T
	index map[T]uint32
}

// Number returns the number of v, and gives it one if it has none.
func (n *Names[T]) Number(v T) uint32 {
	if n.index == nil {
		var zero T
		n.index = map[T]uint32{zero: 0}
		n.list = append(n.list, zero)
	}
	i, ok := n.index[v]
	if !ok {
		i = uint32(len(n.list))
		n.index[v] = i
		n.list = append(n.list, v)
	}
	return i
}

// At returns the value of a number that Number returned.
func (n *Names[T]) At(i uint32) T {
	if len(n.list) == 0 {
		var zero T
		return zero
	}
	return n.list[i]
}

// Len returns how many numbers are given, the zero value's included.
func (n *Names[T]) Len() int { return len(n.list) }

// A RowKey is a [Key] in numbers.
type RowKey struct {
	Identity, ActingFor, Permission, Path, Network uint32
	Outcome                                        OutcomeCode
	SecondFactor                                   model.Truth
}

// An OutcomeCode is an [Outcome] as a number.
type OutcomeCode uint8

var outcomes = []Outcome{Done, Refused, Failed}

// CodeOf returns the number of an outcome; an unknown one counts as failed.
func CodeOf(o Outcome) OutcomeCode {
	if i := slices.Index(outcomes, o); i >= 0 {
		return OutcomeCode(i)
	}
	return 2
}

// Outcome returns the outcome of a number.
func (c OutcomeCode) Outcome() Outcome {
	if int(c) < len(outcomes) {
		return outcomes[c]
	}
	return Failed
}

type row struct {
	RowKey
	base  Day // of bits; a multiple of 64
	bits  [2]uint64
	more  int32 // index into Table.more, plus 1, once 128 days are not enough
	extra int32 // index into Table.extras, plus 1; below 0: into Table.packs, minus 1; 0: one call a day
	count int64
	first int64 // ms since 1970
	last  int64
	hours Hours
}

// A Table folds calls as a [Fold] does, in a form that holds millions of uses:
// names are numbered and a use is a row of numbers. It is the same law: folding is
// associative and free of order. The zero Table is ready; it is not for several
// goroutines.
type Table struct {
	IDs   Names[model.ID]
	Perms Names[model.Permission]
	Paths Names[model.Path]
	Nets  Names[netip.Prefix]

	rows   []row
	more   []Days
	extras [][]extra // what days have beyond one call each, in their order
	packs  []Counts  // the same as it was read
	index  []uint64  // open addressing; upper half of the hash, then row number + 1
}

// Len returns how many uses the table holds.
func (t *Table) Len() int { return len(t.rows) }

func (k *RowKey) hash() uint64 {
	const m = 0x9E3779B97F4A7C15
	h := uint64(k.Identity)<<32 | uint64(k.Path)
	h = (h ^ h>>29) * m
	h ^= uint64(k.Permission)<<32 | uint64(k.Network)
	h = (h ^ h>>32) * m
	h ^= uint64(k.ActingFor)<<16 | uint64(k.Outcome)<<8 | uint64(uint8(k.SecondFactor))
	h = (h ^ h>>29) * m
	return h ^ h>>32
}

// find returns the row of a key, new if need be.
func (t *Table) find(k RowKey, hash uint64) (*row, bool) {
	if 2*(len(t.rows)+1) > len(t.index) {
		t.grow()
	}
	h := hash &^ 0xffffffff
	mask := uint64(len(t.index) - 1)
	at := h >> 32 & mask
	for ; t.index[at] != 0; at = (at + 1) & mask {
		if x := t.index[at]; x&^0xffffffff == h {
			if r := &t.rows[uint32(x)-1]; r.RowKey == k {
				return r, false
			}
		}
	}
	if len(t.rows) == cap(t.rows) { // twice as large: large ones would else be copied often
		t.rows = append(make([]row, 0, max(1<<6, 2*len(t.rows))), t.rows...)
	}
	t.rows = append(t.rows, row{RowKey: k})
	t.index[at] = h | uint64(len(t.rows))
	return &t.rows[len(t.rows)-1], true
}

// grow makes the index anew, twice as large as the rows want.
func (t *Table) grow() {
	size := 1 << 6
	for size < 4*(len(t.rows)+1) {
		size *= 2
	}
	t.index = make([]uint64, size)
	mask := uint64(size - 1)
	for i := range t.rows {
		h := t.rows[i].hash() &^ 0xffffffff
		at := h >> 32 & mask
		for t.index[at] != 0 {
			at = (at + 1) & mask
		}
		t.index[at] = h | uint64(i+1)
	}
}

// Shards is a table that several goroutines add to. The numbers in its keys are the
// caller's.
type Shards struct {
	parts [64]struct {
		mu sync.Mutex
		t  Table
		_  [64]byte // one lock, one cache line
	}
}

// Add folds in one call at a time in milliseconds since 1970, and returns how many
// uses its part holds.
func (s *Shards) Add(k RowKey, at int64) int {
	h := k.hash()
	p := &s.parts[h>>58]
	p.mu.Lock()
	p.t.add(k, h, at)
	n := len(p.t.rows)
	p.mu.Unlock()
	return n
}

// Parts is how many parts a Shards has, of about the same size.
const Parts = 64

// Into moves everything into a table without rows, whose names the numbers mean.
func (s *Shards) Into(t *Table) {
	n := 0
	for i := range s.parts {
		n += len(s.parts[i].t.rows)
	}
	t.rows = make([]row, 0, n)
	for i := range s.parts {
		o := &s.parts[i].t
		for _, r := range o.rows {
			if r.more > 0 {
				t.more = append(t.more, o.more[r.more-1])
				r.more = int32(len(t.more))
			}
			if r.extra > 0 {
				t.extras = append(t.extras, o.extras[r.extra-1])
				r.extra = int32(len(t.extras))
			}
			t.rows = append(t.rows, r)
		}
		*o = Table{}
	}
}

// Add folds in one call at a time in milliseconds since 1970.
func (t *Table) Add(k RowKey, at int64) { t.add(k, k.hash(), at) }

func (t *Table) add(k RowKey, hash uint64, at int64) {
	r, fresh := t.find(k, hash)
	if r.extra < 0 { // packed for the days that it has
		t.open(r)
	}
	r.count++
	if h := hourOf(at); fresh {
		r.hours = h
	} else {
		r.hours = r.hours.and(h)
	}
	if fresh || at < r.first {
		r.first = at
	}
	if fresh || at > r.last {
		r.last = at
	}
	d := at / 86_400_000
	if at%86_400_000 < 0 {
		d--
	}
	t.day(r, Day(d), fresh)
}

func (t *Table) day(r *row, d Day, fresh bool) {
	if fresh {
		r.base = d &^ 63
	}
	if off := d - r.base; off >= 0 && off < 128 {
		if bit := uint64(1) << (off & 63); r.bits[off>>6]&bit == 0 {
			r.bits[off>>6] |= bit
		} else {
			t.beyond(r, d, 1)
		}
		return
	}
	if r.more == 0 {
		t.more = append(t.more, Days{})
		r.more = int32(len(t.more))
	}
	if more := &t.more[r.more-1]; more.Has(d) {
		t.beyond(r, d, 1)
	} else {
		*more = more.union(Days{d &^ 63, []uint64{1 << (d & 63)}})
	}
}

// beyond adds calls to a day that has one.
func (t *Table) beyond(r *row, d Day, n int64) {
	list := t.open(r)
	at := len(*list)
	for at > 0 && (*list)[at-1].day > d { // most are of the last day
		at--
	}
	if at > 0 && (*list)[at-1].day == d {
		(*list)[at-1].n += n
		return
	}
	*list = slices.Insert(*list, at, extra{d, n})
}

// open returns the list of extras of a row, for adding to it.
func (t *Table) open(r *row) *[]extra {
	if r.extra <= 0 {
		var list []extra
		if r.extra < 0 {
			for d, n := range counted(t.days(r), t.packs[-r.extra-1]) {
				if n > 1 {
					list = append(list, extra{d, n - 1})
				}
			}
			t.packs[-r.extra-1] = Counts{}
		}
		t.extras = append(t.extras, list)
		r.extra = int32(len(t.extras))
	}
	return &t.extras[r.extra-1]
}

// counts returns the counts of a row's days.
func (t *Table) counts(r *row, days Days) Counts {
	switch {
	case r.extra > 0:
		return packExtras(days, t.extras[r.extra-1])
	case r.extra < 0:
		return t.packs[-r.extra-1]
	}
	return Counts{}
}

func (t *Table) days(r *row) Days {
	d := Days{base: r.base, words: []uint64{r.bits[0]}}
	if r.bits[1] != 0 {
		d.words = append(d.words, r.bits[1])
	}
	if r.more > 0 {
		d = d.union(t.more[r.more-1])
	}
	return d
}

// merge folds a row that was folded elsewhere into the row of k.
func (t *Table) merge(k RowKey, count, first, last int64, days Days, counts Counts, hours Hours) {
	r, fresh := t.find(k, k.hash())
	if fresh {
		r.hours = hours
		if counts != (Counts{}) {
			t.packs = append(t.packs, counts)
			r.extra = -int32(len(t.packs))
		}
	} else {
		r.hours = r.hours.and(hours)
		t.addCounts(r, days, counts)
	}
	r.count += count
	if fresh || first < r.first {
		r.first = first
	}
	if fresh || last > r.last {
		r.last = last
	}
	for i, w := range days.words {
		base := days.base + Day(64*i)
		if w == 0 {
			continue // no days: they need not be told from there being no word
		}
		if r.bits == [2]uint64{} && r.more == 0 {
			r.base = base
		}
		if off := base - r.base; off == 0 || off == 64 {
			r.bits[off>>6] |= w
		} else {
			if r.more == 0 {
				t.more = append(t.more, Days{})
				r.more = int32(len(t.more))
			}
			t.more[r.more-1] = t.more[r.more-1].union(Days{base, []uint64{w}})
		}
	}
}

// addCounts adds the counts of some days to a row that has others, or some of the same.
func (t *Table) addCounts(r *row, days Days, counts Counts) {
	had := t.days(r)
	if counts == (Counts{}) && !had.meets(days) {
		if r.extra < 0 { // packed for the days that it had
			t.open(r)
		}
		return
	}
	t.open(r) // while the row still has the days that it had
	for d, n := range counted(days, counts) {
		if !had.Has(d) {
			n--
		}
		if n > 0 {
			t.beyond(r, d, n)
		}
	}
}

// Merge folds in everything that another table holds.
func (t *Table) Merge(o *Table) {
	ids, perms, paths, nets := renumber(&t.IDs, &o.IDs), renumber(&t.Perms, &o.Perms), renumber(&t.Paths,
		&o.Paths), renumber(&t.Nets, &o.Nets)
	for i := range o.rows {
		r := &o.rows[i]
		t.merge(RowKey{ids[r.Identity], ids[r.ActingFor], perms[r.Permission], paths[r.Path], nets[r.Network],
			r.Outcome, r.SecondFactor}, r.count, r.first, r.last, o.days(r), o.counts(r, o.days(r)), r.hours)
	}
}

func renumber[T comparable](to, from *Names[T]) []uint32 {
	out := make([]uint32, max(1, from.Len()))
	for i, v := range from.list {
		out[i] = to.Number(v)
	}
	return out
}

// MergeUse folds in a use that was folded elsewhere from other calls.
func (t *Table) MergeUse(u Use) {
	t.merge(RowKey{t.IDs.Number(u.Identity), t.IDs.Number(u.ActingFor), t.Perms.Number(u.Permission),
		t.Paths.Number(u.Path), t.Nets.Number(u.Network), CodeOf(u.Outcome), u.SecondFactor},
		u.Count, u.First.UnixMilli(), u.Last.UnixMilli(), u.Days, u.Counts, u.Hours)
}

// Span returns the first and the last time of all uses, in milliseconds since 1970;
// both zero for an empty table.
func (t *Table) Span() (first, last int64) {
	for i := range t.rows {
		r := &t.rows[i]
		if i == 0 || r.first < first {
			first = r.first
		}
		if i == 0 || r.last > last {
			last = r.last
		}
	}
	return first, last
}

// Uses returns the uses, ordered as [Fold.Uses] orders them.
func (t *Table) Uses() []Use {
	g := &Gather{ids: t.IDs, perms: t.Perms, paths: t.Paths, nets: t.Nets}
	g.Expect(len(t.rows))
	for i := range t.rows {
		r := &t.rows[i]
		days := t.days(r)
		g.add(r.RowKey, r.count, r.first, r.last, days, t.counts(r, days), r.hours, false)
	}
	return g.Uses().List()
}

// ranks returns the place of each name in the order of all, by its number.
func ranks[T comparable](n *Names[T], compare func(a, b T) int) []uint32 {
	order := make([]uint32, max(1, n.Len()))
	for i := range order {
		order[i] = uint32(i)
	}
	slices.SortFunc(order, func(i, j uint32) int { return compare(n.At(i), n.At(j)) })
	out := make([]uint32, len(order))
	for rank, i := range order {
		out[i] = uint32(rank)
	}
	return out
}

func compareUses(a, b Use) int {
	return cmp.Or(a.Identity.Compare(b.Identity), a.Permission.Compare(b.Permission), a.Path.Compare(b.Path),
		a.ActingFor.Compare(b.ActingFor), cmp.Compare(a.Outcome, b.Outcome), a.Network.Compare(b.Network),
		cmp.Compare(a.SecondFactor, b.SecondFactor))
}

// ErrTable is returned for bytes that are no encoded table.
var ErrTable = errors.New("not a table of uses")

const (
	// maxCalls bounds the calls of one row that is read: sums of many still fit an int64.
	maxCalls = 1 << 56
	// firstDay and lastDay bound the days: the years 1 to 9999, which RFC 3339 can write.
	firstDay, lastDay = -719_162, 2_932_896
)

// sane reports whether the days end within the years that a time stamp can have.
func (d Days) sane() bool { return int64(d.base)+64*int64(len(d.words)) <= lastDay+64 }

// The versions of the form; the first kept no counts a day, the second no hours.
const (
	tableVersion  = 3
	tableVersion2 = 2
	tableVersion1 = 1
)

// AppendBinary writes the table after b: the names as text, then the rows column by
// column, all numbers as varints (encoding/binary), and [Counts] as they are.
func (t *Table) AppendBinary(b []byte) ([]byte, error) {
	b = append(b, tableVersion)
	b = appendNames(b, &t.IDs)
	b = appendNames(b, &t.Perms)
	b = appendNames(b, &t.Paths)
	b = appendNames(b, &t.Nets)
	b = binary.AppendUvarint(b, uint64(len(t.rows)))
	for _, col := range []func(*row) uint64{
		func(r *row) uint64 { return uint64(r.Identity) }, func(r *row) uint64 { return uint64(r.ActingFor) },
		func(r *row) uint64 { return uint64(r.Permission) },
		func(r *row) uint64 { return uint64(r.Path) }, func(r *row) uint64 { return uint64(r.Network) },
		func(r *row) uint64 { return uint64(r.Outcome)<<2 | uint64(r.SecondFactor) },
		func(r *row) uint64 { return uint64(r.count) }, func(r *row) uint64 { return uint64(r.hours) },
	} {
		for i := range t.rows {
			b = binary.AppendUvarint(b, col(&t.rows[i]))
		}
	}
	days := make([]Days, len(t.rows))
	for i := range t.rows {
		days[i] = t.days(&t.rows[i])
		c := t.counts(&t.rows[i], days[i])
		b = append(binary.AppendUvarint(b, uint64(len(c.packed))), c.packed...)
	}
	for i := range t.rows {
		b = binary.AppendVarint(b, t.rows[i].first)
		b = binary.AppendVarint(b, t.rows[i].last-t.rows[i].first)
		d := days[i]
		b = binary.AppendVarint(b, int64(d.base/64))
		b = binary.AppendUvarint(b, uint64(len(d.words)))
		for _, w := range d.words {
			b = binary.LittleEndian.AppendUint64(b, w)
		}
	}
	return b, nil
}

func appendNames[T interface {
	comparable
	fmt.Stringer
}](b []byte, n *Names[T]) []byte {
	b = binary.AppendUvarint(b, uint64(n.Len()))
	for i, v := range n.list {
		if i == 0 {
			continue // the zero value
		}
		s := v.String()
		b = append(binary.AppendUvarint(b, uint64(len(s))), s...)
	}
	return b
}

// tableReader reads what AppendBinary wrote; after a fault it yields zeros.
type tableReader struct {
	b   []byte
	bad bool
}

func (r *tableReader) uint(limit uint64) uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 || v > limit {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *tableReader) int() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *tableReader) take(n uint64) []byte {
	if n > uint64(len(r.b)) {
		r.bad, r.b = true, nil
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func readNames[T comparable](r *tableReader, n *Names[T], parse func(string) (T, error)) []uint32 {
	count := r.uint(uint64(len(r.b)) + 1)
	out := make([]uint32, 1, max(1, count))
	for i := uint64(1); i < count && !r.bad; i++ {
		v, err := parse(string(r.take(r.uint(uint64(len(r.b))))))
		if err != nil {
			r.bad = true
		}
		out = append(out, n.Number(v))
	}
	return out
}

// MergeBinary folds in a table that AppendBinary wrote. After [ErrTable] the table
// may hold a part of it.
func (t *Table) MergeBinary(b []byte) error {
	return decodeTable(b, &t.IDs, &t.Perms, &t.Paths, &t.Nets, t.merge)
}

// decodeTable reads what AppendBinary wrote, row after row, under the numbers that names give. The words of the days
// are those of the next row once add returns.
func decodeTable(b []byte, allIDs *Names[model.ID], allPerms *Names[model.Permission], allPaths *Names[model.Path],
	allNets *Names[netip.Prefix], add func(k RowKey, count, first, last int64, days Days, counts Counts,
		hours Hours)) error {
	if len(b) == 0 || b[0] < tableVersion1 || b[0] > tableVersion {
		return ErrTable
	}
	version := b[0]
	r := &tableReader{b: b[1:]}
	allIDs.Number(model.ID{})
	allPerms.Number(model.Permission{})
	allPaths.Number(model.Path{})
	allNets.Number(netip.Prefix{})
	ids := readNames(r, allIDs, model.ParseID)
	perms := readNames(r, allPerms, model.ParsePermission)
	paths := readNames(r, allPaths, model.ParsePath)
	nets := readNames(r, allNets, netip.ParsePrefix)
	n := r.uint(uint64(len(r.b)))
	if r.bad {
		return ErrTable
	}
	keys, counts := make([]RowKey, n), make([]int64, n)
	for _, col := range []func(*RowKey){
		func(k *RowKey) { k.Identity = ids[r.uint(uint64(len(ids)-1))] },
		func(k *RowKey) { k.ActingFor = ids[r.uint(uint64(len(ids)-1))] },
		func(k *RowKey) { k.Permission = perms[r.uint(uint64(len(perms)-1))] },
		func(k *RowKey) { k.Path = paths[r.uint(uint64(len(paths)-1))] },
		func(k *RowKey) { k.Network = nets[r.uint(uint64(len(nets)-1))] },
		func(k *RowKey) {
			v := r.uint(11)
			k.Outcome, k.SecondFactor = OutcomeCode(v>>2), model.Truth(v&3)
			r.bad = r.bad || v&3 == 3
		},
	} {
		for i := range keys {
			col(&keys[i])
		}
	}
	for i := range counts {
		counts[i] = int64(r.uint(maxCalls))
	}
	hours := make([]Hours, n)
	for i := range hours {
		if version > tableVersion2 {
			hours[i] = Hours(r.uint(1<<24 - 1))
		}
	}
	packed := make([]Counts, n)
	for i := range packed {
		if version > tableVersion1 {
			packed[i] = Counts{string(r.take(r.uint(1 << 20)))}
		}
	}
	var words []uint64 // of one row: nobody keeps them
	var list []int64
	for i := range keys {
		first := r.int()
		last := first + r.int()
		base := r.int()
		if base < firstDay/64-1 || base > lastDay/64 { // a wrong byte must not claim memory for ages
			return ErrTable
		}
		d := Days{base: Day(base * 64), words: words[:0]}
		for w := r.take(8 * r.uint(1<<20)); len(w) >= 8; w = w[8:] {
			d.words = append(d.words, binary.LittleEndian.Uint64(w))
		}
		if n := d.Count(); packed[i].packed != "" {
			list = slices.Grow(list[:0], n)[:n]
			clear(list)
			if _, ok := packed[i].list(list); !ok {
				return ErrTable
			}
		}
		if words = d.words; r.bad || !d.sane() {
			return ErrTable
		}
		add(keys[i], counts[i], first, last, d, packed[i], hours[i])
	}
	if len(r.b) > 0 {
		return ErrTable
	}
	return nil
}
