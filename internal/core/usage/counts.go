package usage

import (
	"encoding/binary"
	"iter"
	"math/bits"
)

// Counts says how many calls there were on each day of a set of days, in their order.
// The zero Counts is one call on each.
//
// Most counts are small and repeat, so they are kept as a patched frame of reference
// (Zukowski, Heman, Nes and Boncz, "Super-Scalar RAM-CPU Cache Compression", ICDE 2006):
// the least count as a uvarint; the width of what is beyond it, in bits, as one byte; the
// exceptions, which that width does not hold, as their number and then, for each, the
// distance from the one before and what is beyond the least count, as uvarints; then what
// is beyond the least count of each day, in that many bits, the lowest first.
type Counts struct{ packed string }

// PackCounts packs the counts of a set's days, each of which is at least 1.
func PackCounts(ns []int64) Counts {
	if len(ns) == 0 {
		return Counts{}
	}
	least := ns[0]
	for _, n := range ns {
		least = min(least, n)
	}
	var of [65]int // counts by how many bits they need beyond the least
	for _, n := range ns {
		of[bits.Len64(uint64(n-least))]++
	}
	// The width that costs least, an exception being its place (about a byte) and itself.
	best, width := -1, 0
	for w := range 65 {
		cost := w * len(ns)
		for need := w + 1; need <= 64; need++ {
			cost += of[need] * 8 * (1 + (need+6)/7)
		}
		if best < 0 || cost < best {
			best, width = cost, w
		}
	}
	if least == 1 && best == 0 {
		return Counts{}
	}
	var late []byte
	exceptions, last := 0, 0
	for i, n := range ns {
		if v := uint64(n - least); bits.Len64(v) > width {
			late = binary.AppendUvarint(binary.AppendUvarint(late, uint64(i-last)), v)
			exceptions++
			last = i
		}
	}
	b := append(binary.AppendUvarint(nil, uint64(least)), byte(width))
	b = append(binary.AppendUvarint(b, uint64(exceptions)), late...)
	at := len(b)
	b = append(b, make([]byte, (width*len(ns)+7)/8)...)
	for i, n := range ns {
		v := uint64(n - least)
		if bits.Len64(v) > width {
			v = 0
		}
		for j, bit := 0, i*width; j < width; j, bit = j+1, bit+1 {
			b[at+bit/8] |= byte(v>>j&1) << (bit % 8)
		}
	}
	return Counts{string(b)}
}

// List returns the count of each of n days. It returns false when it was not packed for
// so many.
func (c Counts) List(n int) ([]int64, bool) { return c.list(make([]int64, n)) }

// list does what List does, into a list of zeros.
func (c Counts) list(out []int64) ([]int64, bool) {
	n := len(out)
	if c.packed == "" {
		for i := range out {
			out[i] = 1
		}
		return out, true
	}
	b := []byte(c.packed)
	uvarint := func() uint64 {
		v, k := binary.Uvarint(b)
		if k <= 0 {
			b = nil
			return 0
		}
		b = b[k:]
		return v
	}
	least := uvarint()
	if len(b) == 0 || least < 1 || least > maxCount || b[0] > 63 {
		return nil, false
	}
	width := int(b[0])
	b = b[1:]
	exceptions := uvarint()
	if exceptions > uint64(n) {
		return nil, false
	}
	for at, i := uint64(0), uint64(0); i < exceptions; i++ {
		gap := uvarint()
		if gap > uint64(n) || i > 0 && gap == 0 {
			return nil, false
		}
		if at += gap; at >= uint64(n) {
			return nil, false
		}
		out[at] = int64(uvarint() & maxCount)
	}
	if len(b) != (width*n+7)/8 {
		return nil, false
	}
	for i := range out {
		v := uint64(0)
		for j, bit := 0, i*width; j < width; j, bit = j+1, bit+1 {
			v |= uint64(b[bit/8]>>(bit%8)&1) << j
		}
		if v > maxCount {
			return nil, false
		}
		out[i] += int64(v + least)
		if out[i] < 1 || out[i] > maxCount {
			return nil, false
		}
	}
	return out, true
}

// maxCount bounds the calls of one use on one day.
const maxCount = 1<<48 - 1

// Bytes returns how many bytes the counts take.
func (c Counts) Bytes() int { return len(c.packed) }

// extra is how many calls there were on a day beyond the first.
type extra struct {
	day Day
	n   int64
}

// counted yields the days of a set with their counts, in order. Counts that were not
// packed for the set count as one a day.
func counted(d Days, c Counts) iter.Seq2[Day, int64] {
	return func(yield func(Day, int64) bool) {
		var few [64]int64 // more than most have: nothing is allocated for them
		var ns []int64
		ok := false
		if c.packed != "" {
			if n := d.Count(); n <= len(few) {
				ns, ok = c.list(few[:n])
			} else {
				ns, ok = c.List(n)
			}
		}
		i := 0
		for at, w := range d.words {
			for ; w != 0; w &= w - 1 {
				n := int64(1)
				if ok {
					n = ns[i]
				}
				if !yield(d.base+Day(64*at+bits.TrailingZeros64(w)), n) {
					return
				}
				i++
			}
		}
	}
}

// packExtras packs what a list of extras, in the order of days, says of a set.
func packExtras(d Days, list []extra) Counts {
	if len(list) == 0 {
		return Counts{}
	}
	days := d.List()
	ns := make([]int64, len(days))
	at := 0
	for i, day := range days {
		ns[i] = 1
		for ; at < len(list) && list[at].day <= day; at++ {
			if list[at].day == day {
				ns[i] = min(ns[i]+list[at].n, maxCount)
			}
		}
	}
	return PackCounts(ns)
}

// Daily yields the days of a use, in order, with the calls of each. Where a part of a
// log was folded before counts a day were kept, they are the least that there were.
func (u *Use) Daily() iter.Seq2[Day, int64] { return counted(u.Days, u.Counts) }

// Within cuts a use down to the days from first to last, both included, and reports
// whether anything is left. Count is then what fell into them, or, with AtLeast, the
// least that did; First and Last are the beginnings of the first and the last day left,
// where they were cut.
func (u *Use) Within(first, last Day) bool {
	if DayOf(u.First) >= first && DayOf(u.Last) <= last {
		return u.Days.Count() > 0
	}
	return u.Only(func(d Day) bool { return first <= d && d <= last })
}

// Between returns how many calls fell into the days from first to last, both included;
// least says that there may have been more.
func (u *Use) Between(first, last Day) (n int64, least bool) {
	if DayOf(u.First) >= first && DayOf(u.Last) <= last {
		return u.Count, u.AtLeast
	}
	all := int64(0)
	for d, k := range u.Daily() {
		all += k
		if first <= d && d <= last {
			n += k
		}
	}
	return n, u.AtLeast || all < u.Count
}

// Only cuts a use down to some of its days, as [Use.Within] does.
func (u *Use) Only(keep func(Day) bool) bool {
	var all, in int64
	var left []int64
	var list []Day
	days := u.Days.clone()
	for d, n := range u.Daily() {
		all += n
		if keep(d) {
			in += n
			list, left = append(list, d), append(left, n)
		} else {
			days.words[(d-days.base)/64] &^= 1 << ((d - days.base) % 64)
		}
	}
	if len(list) == 0 {
		return false
	}
	if len(list) == u.Days.Count() {
		return true
	}
	u.AtLeast = u.AtLeast || all < u.Count
	u.Days, u.Counts, u.Count = days, PackCounts(left), in
	if d := list[0]; DayOf(u.First) < d {
		u.First = d.Time()
	}
	if d := list[len(list)-1]; DayOf(u.Last) > d {
		u.Last = d.Time()
	}
	return true
}
