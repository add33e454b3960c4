package usage

import (
	"cmp"
	"encoding/binary"
	"iter"
	"maps"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/parallel"
)

// Uses are all uses of a source in the order of their keys: caller after caller. They are kept
// as numbers, some sixty bytes a use, and put together when asked for, so that ten million
// fit. They never change, and any number of goroutines may ask. A nil *Uses has none.
type Uses struct {
	ids    []model.ID // by number, as the other names
	perms  []model.Permission
	paths  []model.Path
	nets   []netip.Prefix
	rows   []useRow
	odds   []odd
	words  []uint64 // of the days of all rows
	counts string   // of the days of all rows: the length as an uvarint, then [Counts]
	runs   []int32  // where the uses of a caller begin, in order, and where the last one's end
	acted  map[model.ID][]int32
}

// useRow is a use as numbers, packed, since there are millions.
type useRow struct {
	Identity, ActingFor, Permission, Path, Network uint32
	Outcome                                        OutcomeCode
	SecondFactor                                   model.Truth
	n                                              uint16 // words
	base                                           Day    // a multiple of 64
	words                                          uint32 // where they begin
	counts                                         uint32 // where they begin, and 1; 0: one call a day
	count                                          uint32 // of a row that is odd: where it is
	first, last                                    uint32 // seconds since 1970
	more                                           uint32 // their milliseconds, and the bits below
	hours                                          Hours
}

// The bits of useRow.more.
const (
	rowMillis  = 1<<10 - 1 // of the first, and ten bits further of the last
	rowLast    = 10
	rowFew     = 1 << 29 // the words are days, four each: see setDays
	rowAtLeast = 1 << 30
	rowOdd     = 1 << 31 // it does not fit
)

// odd is what does not fit into a row: four thousand million calls, or a time before 1970 or after
// 2106.
type odd struct{ count, first, last int64 }

func (r *useRow) key() RowKey {
	return RowKey{r.Identity, r.ActingFor, r.Permission, r.Path, r.Network, r.Outcome, r.SecondFactor}
}

// tell returns the number of calls of a row, and the times of the first and the last, in ms since
// 1970.
func (r *useRow) tell(odds []odd) odd {
	if r.more&rowOdd != 0 {
		return odds[r.count]
	}
	return odd{int64(r.count), 1000*int64(r.first) + int64(r.more&rowMillis),
		1000*int64(r.last) + int64(r.more>>rowLast&rowMillis)}
}

// set is the reverse of tell.
func (r *useRow) set(o odd, odds *[]odd) {
	r.more &^= rowOdd | rowMillis | rowMillis<<rowLast
	fits := func(n int64) bool { return n >= 0 && n <= math.MaxUint32 }
	if !fits(o.count) || o.first < 0 || o.last < 0 || !fits(o.first/1000) || !fits(o.last/1000) {
		r.count, r.more = uint32(len(*odds)), r.more|rowOdd
		*odds = append(*odds, o)
		return
	}
	r.count, r.first, r.last = uint32(o.count), uint32(o.first/1000), uint32(o.last/1000)
	r.more |= uint32(o.first%1000) | uint32(o.last%1000)<<rowLast
}

func (r *useRow) atLeast() bool { return r.more&rowAtLeast != 0 }

// Len returns how many uses there are.
func (u *Uses) Len() int {
	if u == nil {
		return 0
	}
	return len(u.rows)
}

// At returns a use by its place in the order. What it points to is shared.
func (u *Uses) At(i int) Use {
	r := &u.rows[i]
	o := r.tell(u.odds)
	out := Use{Key: Key{u.ids[r.Identity], u.ids[r.ActingFor], u.perms[r.Permission], u.paths[r.Path],
		r.Outcome.Outcome(), u.nets[r.Network], r.SecondFactor}, Count: o.count, AtLeast: r.atLeast(),
		First: time.UnixMilli(o.first).UTC(), Last: time.UnixMilli(o.last).UTC(), Days: r.days(u.words),
		Hours: r.hours}
	if r.counts > 0 {
		out.Counts = countsAt(u.counts, r.counts)
	}
	return out
}

// Paths returns how many paths there are, which have numbers: that of each use is [Uses.PathOf].
func (u *Uses) Paths() int {
	if u == nil {
		return 0
	}
	return len(u.paths)
}

// Path returns a path by its number.
func (u *Uses) Path(n int) model.Path { return u.paths[n] }

// PathOf returns the number of the path of a use, by its place in the order.
func (u *Uses) PathOf(i int) int { return int(u.rows[i].Path) }

// Days returns the days of a use by its place in the order.
func (u *Uses) Days(i int) Days { return u.rows[i].days(u.words) }

// countsAt reads counts that [Gather.pack] wrote.
func countsAt(all string, at uint32) Counts {
	var head [binary.MaxVarintLen64]byte
	n, k := binary.Uvarint(head[:copy(head[:], all[at-1:])])
	from := int(at) - 1 + k
	return Counts{all[from : from+int(n)]}
}

// All yields the uses with their places, in order.
func (u *Uses) All() iter.Seq2[int, Use] { return u.Between(0, u.Len()) }

// Between yields the uses from one place up to and without another.
func (u *Uses) Between(from, to int) iter.Seq2[int, Use] {
	return func(yield func(int, Use) bool) {
		for i := from; i < to; i++ {
			if !yield(i, u.At(i)) {
				return
			}
		}
	}
}

// List returns the uses as values, for questions that want a few of few.
func (u *Uses) List() []Use {
	out := make([]Use, 0, u.Len())
	for _, x := range u.All() {
		out = append(out, x)
	}
	return out
}

// Runs yields where the uses of each caller begin and end, caller after caller.
func (u *Uses) Runs() iter.Seq2[int, int] {
	return func(yield func(int, int) bool) {
		for i := 0; u != nil && i+1 < len(u.runs); i++ {
			if !yield(int(u.runs[i]), int(u.runs[i+1])) {
				return
			}
		}
	}
}

// InRuns goes over the uses on all processors, those of one caller or of several at a time: each
// worker is asked with its own number, below [parallel.Workers].
func (u *Uses) InRuns(do func(worker, from, to int)) {
	const least = 256 // uses a run
	begins := []int{0}
	for _, to := range u.Runs() {
		if to-begins[len(begins)-1] >= least || to == u.Len() {
			begins = append(begins, to)
		}
	}
	parallel.Each(len(begins)-1, func(k, i int) { do(k, begins[i], begins[i+1]) })
}

// run returns where the uses of a caller begin and end.
func (u *Uses) run(id model.ID) (from, to int) {
	if u.Len() == 0 {
		return 0, 0
	}
	at, found := slices.BinarySearchFunc(u.runs[:len(u.runs)-1], id, func(i int32, id model.ID) int {
		return u.ids[u.rows[i].Identity].Compare(id)
	})
	if !found {
		return 0, 0
	}
	return int(u.runs[at]), int(u.runs[at+1])
}

// Of yields the uses that an identity made, and then those that others made with its rights.
func (u *Uses) Of(id model.ID) iter.Seq2[int, Use] { return u.some(id, true) }

// As yields the uses that were made with the rights of an identity: its own, and then those of
// others.
func (u *Uses) As(id model.ID) iter.Seq2[int, Use] { return u.some(id, false) }

// some yields uses of an identity; all says that its calls with the rights of others count.
func (u *Uses) some(id model.ID, all bool) iter.Seq2[int, Use] {
	return func(yield func(int, Use) bool) {
		from, to := u.run(id)
		for i := from; i < to; i++ {
			r := &u.rows[i]
			if (all || r.ActingFor == 0 || r.ActingFor == r.Identity) && !yield(i, u.At(i)) {
				return
			}
		}
		if u == nil {
			return
		}
		for _, i := range u.acted[id] {
			if r := &u.rows[i]; r.ActingFor != r.Identity && !yield(int(i), u.At(int(i))) {
				return
			}
		}
	}
}

// By yields the uses that were made with the rights of those whom in names.
func (u *Uses) By(in func(model.ID) bool) iter.Seq2[int, Use] {
	return func(yield func(int, Use) bool) {
		for who := range u.Principals() {
			if !in(who) {
				continue
			}
			for i, x := range u.As(who) {
				if !yield(i, x) {
					return
				}
			}
		}
	}
}

// AsEach yields what By does for those of a list, without looking at who else called.
func (u *Uses) AsEach(ids []model.ID) iter.Seq2[int, Use] {
	return func(yield func(int, Use) bool) {
		if u == nil {
			return
		}
		ids = slices.Clone(ids)
		only := func(id model.ID) int { // others acted for, and it did not call
			if from, to := u.run(id); from == to {
				return 1
			}
			return 0
		}
		slices.SortFunc(ids, func(a, b model.ID) int { return cmp.Or(cmp.Compare(only(a), only(b)), a.Compare(b)) })
		for _, who := range slices.Compact(ids) {
			for i, x := range u.As(who) {
				if !yield(i, x) {
					return
				}
			}
		}
	}
}

// Principals yields whose rights were used: whoever called, in order, and then those whom only
// others acted for.
func (u *Uses) Principals() iter.Seq[model.ID] {
	return func(yield func(model.ID) bool) {
		for from := range u.Runs() {
			if !yield(u.ids[u.rows[from].Identity]) {
				return
			}
		}
		if u == nil {
			return
		}
		for _, id := range slices.SortedFunc(maps.Keys(u.acted), model.ID.Compare) {
			if from, to := u.run(id); from == to && !yield(id) {
				return
			}
		}
	}
}

// Span returns the first and the last time of all uses; both zero where there are none.
func (u *Uses) Span() (first, last time.Time) {
	if u.Len() == 0 {
		return first, last
	}
	from, to := int64(math.MaxInt64), int64(math.MinInt64)
	for i := range u.rows {
		o := u.rows[i].tell(u.odds)
		from, to = min(from, o.first), max(to, o.last)
	}
	return time.UnixMilli(from).UTC(), time.UnixMilli(to).UTC()
}

// Select returns the uses that keep leaves, as it leaves them.
func (u *Uses) Select(keep func(*Use) bool) *Uses {
	g := &Gather{}
	for _, x := range u.All() {
		if keep(&x) {
			g.Add(x)
		}
	}
	return g.Uses()
}

// Cut returns what of the uses falls into the days from first to last, both included, as
// [Use.Within] leaves it. Names are shared, and a use that lies inside is copied as it is: of many
// uses most do. Where all do, these are the uses.
func (u *Uses) Cut(first, last Day) *Uses {
	inside := func(r *useRow) bool {
		o := r.tell(u.odds)
		return r.n > 0 && DayOf(time.UnixMilli(o.first)) >= first && DayOf(time.UnixMilli(o.last)) <= last
	}
	all := true
	for i := range u.rows {
		if all = inside(&u.rows[i]); !all {
			break
		}
	}
	if all {
		return u
	}
	g := &Gather{rows: make([]useRow, 0, len(u.rows)), odds: u.odds[:len(u.odds):len(u.odds)],
		words: u.words[:len(u.words):len(u.words)]}
	for i := range u.rows {
		r := &u.rows[i]
		if inside(r) {
			g.rows = append(g.rows, *r)
			continue
		}
		x := u.At(i)
		if !x.Within(first, last) {
			continue
		}
		g.add(r.key(), x.Count, x.First.UnixMilli(), x.Last.UnixMilli(), x.Days, x.Counts, x.Hours, x.AtLeast)
		if at := &g.rows[len(g.rows)-1]; at.counts > 0 {
			at.counts += uint32(len(u.counts))
		}
	}
	out := &Uses{ids: u.ids, perms: u.perms, paths: u.paths, nets: u.nets, rows: g.rows, odds: g.odds, words: g.words,
		counts: u.counts + string(g.counts)}
	out.index()
	return out
}

// renamed returns the uses under other names. Only names are asked for, not uses, so that it
// costs next to nothing where every name stays.
func (u *Uses) renamed(id func(model.ID) model.ID, perm func(model.Permission) []model.Permission,
	moved Moves) *Uses {
	if u.Len() == 0 {
		return u
	}
	plain := true
	ids := make([]model.ID, len(u.ids))
	for i, was := range u.ids {
		ids[i] = id(was)
		plain = plain && ids[i] == was
	}
	perms := make([][]model.Permission, len(u.perms))
	for i, was := range u.perms {
		if i > 0 {
			perms[i] = perm(was)
			plain = plain && len(perms[i]) == 1 && perms[i][0] == was
		}
	}
	paths := u.paths
	if len(moved) > 0 {
		paths = make([]model.Path, len(u.paths))
		for i, was := range u.paths {
			paths[i] = moved.Now(was)
			plain = plain && paths[i] == was
		}
	}
	if plain {
		return u
	}
	g := &Gather{}
	for i := range u.rows {
		x := u.At(i)
		x.Path = paths[u.rows[i].Path]
		x.Identity, x.ActingFor = ids[u.rows[i].Identity], ids[u.rows[i].ActingFor]
		for _, p := range perms[u.rows[i].Permission] {
			x.Permission = p
			g.Add(x)
		}
	}
	return g.Uses()
}

// A Gather puts uses together that were folded apart. The zero Gather is ready; it is not for
// several goroutines. It is the same law as of a [Table]: what comes out does not depend on how
// they were cut or in which order they come.
type Gather struct {
	ids   Names[model.ID]
	perms Names[model.Permission]
	paths Names[model.Path]
	nets  Names[netip.Prefix]

	rows   []useRow
	odds   []odd
	words  []uint64
	counts []byte
}

// ListOf returns uses in order; those that agree on a key are put together.
func ListOf(uses ...Use) *Uses {
	g := &Gather{}
	for _, u := range uses {
		g.Add(u)
	}
	return g.Uses()
}

// Expect makes room for so many more uses.
func (g *Gather) Expect(n int) { g.rows = slices.Grow(g.rows, n) }

// Add takes in a use.
func (g *Gather) Add(u Use) {
	g.add(RowKey{g.ids.Number(u.Identity), g.ids.Number(u.ActingFor), g.perms.Number(u.Permission),
		g.paths.Number(u.Path), g.nets.Number(u.Network), CodeOf(u.Outcome), u.SecondFactor},
		u.Count, u.First.UnixMilli(), u.Last.UnixMilli(), u.Days, u.Counts, u.Hours, u.AtLeast)
}

// AddBinary takes in a table that [Table.AppendBinary] wrote. After [ErrTable] nothing that was
// gathered is of use.
func (g *Gather) AddBinary(b []byte) error {
	return decodeTable(b, &g.ids, &g.perms, &g.paths, &g.nets,
		func(k RowKey, count, first, last int64, days Days, counts Counts, hours Hours) {
			g.add(k, count, first, last, days, counts, hours, false)
		})
}

func (g *Gather) add(k RowKey, count, first, last int64, d Days, c Counts, h Hours, atLeast bool) {
	r := useRow{Identity: k.Identity, ActingFor: k.ActingFor, Permission: k.Permission, Path: k.Path,
		Network: k.Network, Outcome: k.Outcome, SecondFactor: k.SecondFactor, hours: h}
	if atLeast {
		r.more = rowAtLeast
	}
	r.set(odd{count, first, last}, &g.odds)
	g.setDays(&r, d)
	r.counts = g.pack(c)
	g.rows = append(g.rows, r)
}

// setDays keeps the days of a row, without empty words around them. Few days that lie far apart,
// as of most uses, are kept as their distances from the base, of 16 bits, four in a word.
func (g *Gather) setDays(r *useRow, d Days) {
	from, to := 0, len(d.words)
	for from < to && d.words[from] == 0 {
		from++
	}
	for from < to && d.words[to-1] == 0 {
		to--
	}
	r.base, r.words, r.n = d.base+Day(64*from), uint32(len(g.words)), uint16(to-from)
	r.more &^= rowFew
	if n := (d.Count() + 3) / 4; n < to-from && to-from < 1<<10 {
		r.more, r.n = r.more|rowFew, uint16(n)
		at := 0
		for i, w := range d.words[from:to] {
			for ; w != 0; w &= w - 1 {
				if at%4 == 0 {
					g.words = append(g.words, 0)
				}
				// One more than the distance: what is left of the last word is no day.
				g.words[len(g.words)-1] |= uint64(64*i+bits.TrailingZeros64(w)+1) << (16 * (at % 4))
				at++
			}
		}
		return
	}
	g.words = append(g.words, d.words[from:to]...)
}

// days returns the days of a row, of which all keeps the words. They are shared where they are
// kept as a set.
func (r *useRow) days(all []uint64) Days {
	words := all[r.words : r.words+uint32(r.n) : r.words+uint32(r.n)]
	if r.more&rowFew == 0 {
		return Days{r.base, words}
	}
	last := 0
	for w := words[len(words)-1]; w != 0; w >>= 16 { // in rising order
		last = int(w & 0xffff)
	}
	d := Days{r.base, make([]uint64, (last-1)/64+1)}
	for _, w := range words {
		for ; w != 0; w >>= 16 {
			off := w&0xffff - 1
			d.words[off/64] |= 1 << (off % 64)
		}
	}
	return d
}

func (g *Gather) pack(c Counts) uint32 {
	if c.packed == "" {
		return 0
	}
	at := uint32(len(g.counts)) + 1
	g.counts = append(binary.AppendUvarint(g.counts, uint64(len(c.packed))), c.packed...)
	return at
}

// Uses returns what was gathered, in order; the Gather is empty then.
func (g *Gather) Uses() *Uses {
	order := g.order()
	permute(g.rows, order)
	g.join()
	u := &Uses{ids: g.ids.names(), perms: g.perms.names(), paths: g.paths.names(), nets: g.nets.names(),
		rows: g.rows, odds: g.odds, words: g.words, counts: string(g.counts)}
	*g = Gather{}
	u.index()
	return u
}

// index notes where the uses of each caller begin, and those made with the rights of others.
func (u *Uses) index() {
	u.acted = map[model.ID][]int32{}
	for i := range u.rows {
		r := &u.rows[i]
		if i == 0 || r.Identity != u.rows[i-1].Identity {
			u.runs = append(u.runs, int32(i))
		}
		if r.ActingFor != 0 {
			id := u.ids[r.ActingFor]
			u.acted[id] = append(u.acted[id], int32(i))
		}
	}
	u.runs = append(u.runs, int32(len(u.rows)))
}

// order returns the rows in the order of their keys. Names are put in order once, and rows then
// by numbers; most are told apart by caller, permission and path, in 64 bits where they fit.
func (g *Gather) order() []int32 {
	ids, perms, paths := ranks(&g.ids, model.ID.Compare), ranks(&g.perms, model.Permission.Compare), ranks(&g.paths,
		model.Path.Compare)
	nets := ranks(&g.nets, netip.Prefix.Compare)
	type placed struct {
		key uint64
		row int32
	}
	p, q := bits.Len(uint(len(perms))), bits.Len(uint(len(paths)))
	list := make([]placed, len(g.rows))
	for i := range list {
		r := &g.rows[i]
		list[i].row = int32(i)
		if bits.Len(uint(len(ids)))+p+q <= 64 {
			list[i].key = uint64(ids[r.Identity])<<(p+q) | uint64(perms[r.Permission])<<q | uint64(paths[r.Path])
		}
	}
	list = parallel.Sort(list, func(x, y placed) int {
		if x.key != y.key {
			return cmp.Compare(x.key, y.key)
		}
		a, b := &g.rows[x.row], &g.rows[y.row]
		return cmp.Or(cmp.Compare(ids[a.Identity], ids[b.Identity]),
			cmp.Compare(perms[a.Permission], perms[b.Permission]), cmp.Compare(paths[a.Path], paths[b.Path]),
			cmp.Compare(ids[a.ActingFor], ids[b.ActingFor]), cmp.Compare(a.Outcome.Outcome(), b.Outcome.Outcome()),
			cmp.Compare(nets[a.Network], nets[b.Network]), cmp.Compare(a.SecondFactor, b.SecondFactor))
	})
	out := make([]int32, len(list))
	for i, x := range list {
		out[i] = x.row
	}
	return out
}

// permute puts rows into an order, which it uses up, one cycle after another.
func permute(rows []useRow, order []int32) {
	for i := range rows {
		if order[i] < 0 {
			continue
		}
		first := rows[i]
		at := i
		for int(order[at]) != i {
			from := int(order[at])
			rows[at] = rows[from]
			order[at] = -1
			at = from
		}
		rows[at] = first
		order[at] = -1
	}
}

// join puts rows together that agree on a key, which lie beside each other.
func (g *Gather) join() {
	out := g.rows[:0]
	for i := 0; i < len(g.rows); {
		r := g.rows[i]
		j := i + 1
		for j < len(g.rows) && g.rows[j].key() == r.key() {
			j++
		}
		if j > i+1 {
			f := Fold{} // a fold of this one key, whose names do not matter
			for _, o := range g.rows[i:j] {
				x := o.tell(g.odds)
				u := Use{Count: x.count, First: time.UnixMilli(x.first).UTC(), Last: time.UnixMilli(x.last).UTC(),
					Days: o.days(g.words).clone(), AtLeast: o.atLeast(), Hours: o.hours}
				if o.counts > 0 {
					u.Counts = gathered(g.counts, o.counts)
				}
				f.Merge(u)
			}
			u := f[Key{}]
			r.set(odd{u.Count, u.First.UnixMilli(), u.Last.UnixMilli()}, &g.odds)
			if r.more &^= rowAtLeast; u.AtLeast {
				r.more |= rowAtLeast
			}
			g.setDays(&r, u.Days)
			r.counts, r.hours = g.pack(u.Counts), u.Hours
		}
		out = append(out, r)
		i = j
	}
	g.rows = out
}

// gathered reads counts that were packed so far.
func gathered(all []byte, at uint32) Counts {
	n, k := binary.Uvarint(all[at-1:])
	from := int(at) - 1 + k
	return Counts{strings.Clone(string(all[from : from+int(n)]))}
}

// names returns the names by number, the zero value first.
func (n *Names[T]) names() []T {
	if len(n.list) == 0 {
		return make([]T, 1)
	}
	return n.list
}
