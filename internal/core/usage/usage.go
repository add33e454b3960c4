package usage

import (
	"encoding/binary"
	"errors"
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"clipfence/internal/core/model"
)

// An Outcome says how a call ended.
type Outcome string

// The outcomes. Refused means that access control said no; Failed that the call
// was let through and went wrong for another reason.
const (
	Done    Outcome = "done"
	Refused Outcome = "refused"
	Failed  Outcome = "failed"
)

// Allowed reports whether access control let the call through.
func (o Outcome) Allowed() bool { return o != Refused }

// A Call is one thing that an identity did or was refused.
type Call struct {
	Time         time.Time
	Identity     model.ID
	ActingFor    model.ID // zero: for itself
	Permission   model.Permission
	Path         model.Path
	Outcome      Outcome
	Network      netip.Addr // invalid: unknown
	SecondFactor model.Truth
	EventID      [16]byte // see [Seen]
}

// A Key is what calls of one use agree on.
type Key struct {
	Identity     model.ID
	ActingFor    model.ID
	Permission   model.Permission
	Path         model.Path
	Outcome      Outcome
	Network      netip.Prefix // see [Block]; invalid: unknown
	SecondFactor model.Truth
}

// Principal returns the identity whose rights were used: the one acted for, or
// the caller itself.
func (k Key) Principal() model.ID {
	if !k.ActingFor.IsZero() {
		return k.ActingFor
	}
	return k.Identity
}

// Context returns what the key knows for a decision about it.
func (k Key) Context() model.Context {
	return model.Context{SecondFactor: k.SecondFactor, Block: k.Network}
}

// Context returns what is known for a decision about all calls of the use.
func (u *Use) Context() model.Context {
	c := u.Key.Context()
	if u.Hours == 0 {
		return c
	}
	c.Times = model.Times{First: u.First, Last: u.Last, Hours: uint32(u.Hours)}
	for i, w := range u.Days.words {
		for ; w != 0 && c.Times.Weekdays != 1<<7-1; w &= w - 1 {
			c.Times.Weekdays |= 1 << weekday(u.Days.base+Day(64*i+bits.TrailingZeros64(w)))
		}
	}
	return c
}

// Hours are the hours of the day, in UTC, in which calls were, by bit from midnight; 0: not known,
// of calls that were folded before they were kept. Of a use that is cut down to some of its days
// they are still those of all.
type Hours uint32

// and returns the hours of both: not known where those of one are not.
func (h Hours) and(o Hours) Hours {
	if h == 0 || o == 0 {
		return 0
	}
	return h | o
}

// hourOf returns the hour of a time in milliseconds since 1970.
func hourOf(at int64) Hours {
	h := at / 3_600_000
	if at%3_600_000 < 0 {
		h--
	}
	return 1 << ((h%24 + 24) % 24)
}

// A Use is calls folded together.
type Use struct {
	Key
	// Count is how many calls there were; with AtLeast the least that there were. Of
	// calls that were folded before counts a day were kept, only the sum is known: the
	// counts of the days add up to less than Count then.
	Count       int64
	First, Last time.Time
	Days        Days
	Counts      Counts // of each of Days
	Hours       Hours
	AtLeast     bool
}

// Block returns the network block that stands for an address: /24 for IPv4,
// /48 for IPv6, invalid for an invalid address.
func Block(a netip.Addr) netip.Prefix {
	if !a.IsValid() {
		return netip.Prefix{}
	}
	a = a.Unmap().WithZone("")
	n := 24
	if a.Is6() {
		n = 48
	}
	p, _ := a.Prefix(n)
	return p
}

// Key returns the key that the call folds under.
func (c Call) Key() Key {
	return Key{c.Identity, c.ActingFor, c.Permission, c.Path, c.Outcome, Block(c.Network), c.SecondFactor}
}

// A Fold holds uses by key. The zero value is not ready; make one.
type Fold map[Key]*Use

// Add folds one call in.
func (f Fold) Add(c Call) {
	t := c.Time.UTC()
	f.Merge(Use{Key: c.Key(), Count: 1, First: t, Last: t, Days: DaysOf(t), Hours: hourOf(t.UnixMilli())})
}

// Merge folds in a use that was folded elsewhere from other calls.
func (f Fold) Merge(o Use) {
	u, ok := f[o.Key]
	if !ok {
		o.Days = o.Days.clone()
		f[o.Key] = &o
		return
	}
	of := map[Day]int64{}
	for _, x := range []*Use{u, &o} {
		for d, n := range x.Daily() {
			of[d] += n
		}
	}
	u.Count += o.Count
	u.AtLeast = u.AtLeast || o.AtLeast
	if o.First.Before(u.First) {
		u.First = o.First
	}
	if o.Last.After(u.Last) {
		u.Last = o.Last
	}
	u.Days = u.Days.Union(o.Days)
	var ns []int64
	for _, d := range u.Days.List() {
		ns = append(ns, of[d])
	}
	u.Counts = PackCounts(ns)
	u.Hours = u.Hours.and(o.Hours)
}

// Uses returns the folded uses, ordered by identity, permission, path and the rest.
func (f Fold) Uses() []Use {
	out := make([]Use, 0, len(f))
	for _, u := range f {
		out = append(out, *u)
	}
	slices.SortFunc(out, compareUses)
	return out
}

// Day numbers the days since 1970-01-01 in UTC.
type Day int32

// DayOf returns the day of t in UTC.
func DayOf(t time.Time) Day {
	s := t.Unix()
	d := s / 86400
	if s%86400 < 0 {
		d--
	}
	return Day(d)
}

// Time returns the day's first instant, in UTC.
func (d Day) Time() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// Days is a set of days. The zero value is empty.
type Days struct {
	base  Day // of bit 0; a multiple of 64
	words []uint64
}

// DaysOf returns the set of the days of ts.
func DaysOf(ts ...time.Time) Days {
	var d Days
	for _, t := range ts {
		day := DayOf(t)
		base := day &^ 63
		d = d.union(Days{base, []uint64{1 << (day - base)}})
	}
	return d
}

func (d Days) clone() Days { return Days{d.base, slices.Clone(d.words)} }

func (d Days) union(o Days) Days {
	if len(o.words) == 0 {
		return d
	}
	if len(d.words) == 0 {
		return o.clone()
	}
	base := min(d.base, o.base)
	end := max(d.base+Day(64*len(d.words)), o.base+Day(64*len(o.words)))
	if base != d.base || end != d.base+Day(64*len(d.words)) {
		words := make([]uint64, (end-base)/64)
		copy(words[(d.base-base)/64:], d.words)
		d = Days{base, words}
	}
	for i, w := range o.words {
		d.words[int(o.base-base)/64+i] |= w
	}
	return d
}

// Until returns the days up to and including last.
func (d Days) Until(last Day) Days { return d.Between(d.base, last) }

// Between returns the days from first to last, both included; what comes out may share with d.
func (d Days) Between(first, last Day) Days {
	if end, some := d.Last(); !some || end <= last && (d.base >= first || d.First() >= first) {
		return d // as mostly
	}
	out := d.clone()
	for i := range out.words {
		base := int(out.base) + 64*i
		if off := int(first) - base; off >= 64 {
			out.words[i] = 0
		} else if off > 0 {
			out.words[i] &= ^uint64(0) << off
		}
		if off := int(last) - base; off < 0 {
			out.words[i] = 0
		} else if off < 63 {
			out.words[i] &= 1<<(off+1) - 1
		}
	}
	return out
}

// Any reports whether some day from first to last, both included, is in the set.
func (d Days) Any(first, last Day) bool {
	for i, w := range d.words {
		base := int(d.base) + 64*i
		if off := int(first) - base; off >= 64 {
			continue
		} else if off > 0 {
			w &= ^uint64(0) << off
		}
		if off := int(last) - base; off < 0 {
			return false
		} else if off < 63 {
			w &= 1<<(off+1) - 1
		}
		if w != 0 {
			return true
		}
	}
	return false
}

// Has reports whether a day is in the set.
func (d Days) Has(day Day) bool {
	off := day - d.base
	return off >= 0 && int(off) < 64*len(d.words) && d.words[off/64]>>(off%64)&1 == 1
}

// meets reports whether some day is in both sets.
func (d Days) meets(o Days) bool {
	if d.base > o.base {
		d, o = o, d
	}
	skip := int(o.base-d.base) / 64
	for i := 0; i < len(o.words) && skip+i < len(d.words); i++ {
		if d.words[skip+i]&o.words[i] != 0 {
			return true
		}
	}
	return false
}

// Union returns the days of d or o; neither is changed, and what comes out may share with one of
// them.
func (d Days) Union(o Days) Days {
	switch {
	case d.covers(o):
		return d
	case len(d.words) == 0:
		return o
	}
	return d.clone().union(o)
}

// covers reports whether every day of o is in d.
func (d Days) covers(o Days) bool {
	skip := int(o.base-d.base) / 64
	for i, w := range o.words {
		if w != 0 && (skip+i < 0 || skip+i >= len(d.words) || w&^d.words[skip+i] != 0) {
			return false
		}
	}
	return len(o.words) == 0 || len(d.words) > 0
}

// Count returns how many days are in the set.
func (d Days) Count() int {
	n := 0
	for _, w := range d.words {
		n += bits.OnesCount64(w)
	}
	return n
}

// Since returns how many days of the set are from or later.
func (d Days) Since(from Day) int { return d.Between(from, d.base+Day(64*len(d.words))).Count() }

// First returns the first day of the set, which must not be empty.
func (d Days) First() Day {
	for i, w := range d.words {
		if w != 0 {
			return d.base + Day(64*i+bits.TrailingZeros64(w))
		}
	}
	return d.base
}

// Last returns the last day of the set; false when it is empty.
func (d Days) Last() (Day, bool) {
	for i := len(d.words) - 1; i >= 0; i-- {
		if w := d.words[i]; w != 0 {
			return d.base + Day(64*i+63-bits.LeadingZeros64(w)), true
		}
	}
	return 0, false
}

// List returns the days in order.
func (d Days) List() []Day {
	var out []Day
	for i, w := range d.words {
		for ; w != 0; w &= w - 1 {
			out = append(out, d.base+Day(64*i+bits.TrailingZeros64(w)))
		}
	}
	return out
}

// MarshalBinary writes the first day as a little-endian int32 and then the words.
func (d Days) MarshalBinary() ([]byte, error) {
	b := binary.LittleEndian.AppendUint32(nil, uint32(d.base))
	for _, w := range d.words {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return b, nil
}

// UnmarshalBinary reads what MarshalBinary wrote.
func (d *Days) UnmarshalBinary(b []byte) error {
	if len(b) < 4 || (len(b)-4)%8 != 0 {
		return errors.New("days: wrong length")
	}
	base := Day(binary.LittleEndian.Uint32(b))
	if base&63 != 0 {
		return errors.New("days: first day is not on a boundary")
	}
	*d = Days{base: base}
	for b = b[4:]; len(b) > 0; b = b[8:] {
		d.words = append(d.words, binary.LittleEndian.Uint64(b))
	}
	return nil
}

// Seen remembers, per day, which events were counted. Its horizon is everything
// it was ever told. The zero value is not ready; make one.
type Seen map[Day]map[[16]byte]struct{}

// Add reports whether the event is new, and remembers it.
func (s Seen) Add(c *Call) bool {
	d := DayOf(c.Time)
	m := s[d]
	if m == nil {
		m = map[[16]byte]struct{}{}
		s[d] = m
	}
	if _, old := m[c.EventID]; old {
		return false
	}
	m[c.EventID] = struct{}{}
	return true
}
