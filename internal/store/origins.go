package store

import (
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/usage"
)

// Uses are folded together, so what a file gave to them cannot be told from them. What is
// kept beside them is enough to fold anew: which file gave events on which days, and by
// which version of the log maps.

// An Origin is what one file gave to the uses of a source, read with one version of its
// log maps.
type Origin struct {
	File     string     `json:"file"` // empty: what was read before this was kept
	Maps     string     `json:"maps"`
	ByHand   bool       `json:"by_hand,omitempty"`
	Lines    int64      `json:"lines"`
	Rejected int64      `json:"rejected"`
	Days     usage.Days `json:"-"`
	Gone     bool       `json:"gone,omitempty"` // it could not be read again

	tallies map[string]int64 // kind:name
}

// gave reports whether the file gave events on a day, as far as is known.
func (o *Origin) gave(d usage.Day) bool { return o.File == "" || o.Days.Has(d) }

// Formats returns the names of the formats that its lines were understood in.
func (o *Origin) Formats() []string {
	var out []string
	for k := range o.tallies {
		if name, ok := strings.CutPrefix(k, "format:"); ok {
			out = append(out, name)
		}
	}
	return out
}

func addOrigins(tx *sql.Tx, src string, b *fold.Batch) error {
	for _, o := range b.Origins {
		n := Origin{File: o.File, Maps: b.Maps, ByHand: b.ByHand, Lines: int64(o.Lines), Rejected: int64(o.Rejects),
			tallies: map[string]int64{}}
		for d := range o.Days {
			n.Days = n.Days.Union(usage.DaysOf(d.Time()))
		}
		for k, x := range o.Skipped {
			n.tallies["skipped:"+k] += int64(x)
		}
		for k, x := range o.Formats {
			n.tallies["format:"+k] += int64(x)
		}
		old, err := scanOrigin(tx.QueryRow(`select `+originColumns+
			` from origins where source = ? and file = ? and maps = ? and by_hand = ?`, src, n.File, n.Maps,
			n.ByHand).Scan)
		if err == nil {
			n.Lines += old.Lines
			n.Rejected += old.Rejected
			n.Days = n.Days.Union(old.Days)
			for k, x := range old.tallies {
				n.tallies[k] += x
			}
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if err := putOrigin(tx, src, &n); err != nil {
			return err
		}
	}
	return nil
}

const originColumns = `file, maps, by_hand, lines, rejected, tallies, days, gone`

func scanOrigin(scan func(...any) error) (*Origin, error) {
	var o Origin
	var tallies, days []byte
	if err := scan(&o.File, &o.Maps, &o.ByHand, &o.Lines, &o.Rejected, &tallies, &days, &o.Gone); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(tallies, &o.tallies); err != nil {
		return nil, fmt.Errorf("%w: files of a log: %v", ErrDamaged, err)
	}
	if len(days) > 0 {
		if err := o.Days.UnmarshalBinary(days); err != nil {
			return nil, fmt.Errorf("%w: files of a log: %v", ErrDamaged, err)
		}
	}
	return &o, nil
}

func putOrigin(tx *sql.Tx, src string, o *Origin) error {
	tallies, err := json.Marshal(o.tallies)
	if err != nil {
		return err
	}
	days, err := o.Days.MarshalBinary()
	if err != nil {
		return err
	}
	if days == nil {
		days = []byte{}
	}
	_, err = tx.Exec(`insert or replace into origins(source, `+originColumns+`) values(?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		src, o.File, o.Maps, o.ByHand, o.Lines, o.Rejected, tallies, days, o.Gone)
	return err
}

// Origins returns what each file gave to the uses of a source, by name.
func (s *Store) Origins(ctx context.Context, src string) ([]Origin, error) {
	var out []Origin
	err := s.rows(ctx, func(scan func(...any) error) error {
		o, err := scanOrigin(scan)
		if err == nil {
			out = append(out, *o)
		}
		return err
	}, `select `+originColumns+` from origins where source = ? order by file, maps, by_hand`, src)
	return out, err
}

// Staged is the name under which the log of a source is folded anew, until it is swapped
// in. It is no name that a source can have.
func Staged(src string) string { return src + " anew" }

// Unstage forgets what was folded anew and not swapped in.
func (s *Store) Unstage(ctx context.Context, src string) error {
	return s.tx(ctx, func(tx *sql.Tx) error { return forget(tx, Staged(src)) })
}

func forget(tx *sql.Tx, src string) error {
	for _, table := range []string{"folds", "seen", "logs", "rejected", "tallies", "unmapped", "origins",
		"groups"} {
		if _, err := tx.Exec(`delete from `+table+` where source = ?`, src); err != nil {
			return err
		}
	}
	_, err := tx.Exec(`delete from settings where name = ?`, sightingsSetting(src))
	return err
}

// Swapped says what a swap did.
type Swapped struct {
	Days   int         // folded anew
	Kept   []usage.Day // left as they were, because not all of their log could be read again
	Gone   []string    // files that these days came from and that could not be read again
	Before int64       // calls of the days folded anew, as they were counted before
	After  int64
}

// Swap puts what was folded anew in the place of what the source has, on the days that
// are asked for, all at once. A day is swapped when every event that was counted on it was
// read again, as its hash tells (a file of the same name, or as many calls, may be another
// log); any other day stays as it was. With anyway a day is swapped also when every file
// that gave to it was read again with at least as many lines. whole says that the source's own log was read from its
// beginning to its end, and may go on from there.
func (s *Store) Swap(ctx context.Context, src string, asked func(usage.Day) bool, whole, anyway bool) (Swapped,
	error) {
	var out Swapped
	ids, err := s.foldIDs(ctx, src)
	if err != nil {
		return out, err
	}
	old, err := s.Uses(ctx, src)
	if err != nil {
		return out, err
	}
	anew, err := s.Uses(ctx, Staged(src))
	if err != nil {
		return out, err
	}
	before, err := s.Origins(ctx, src)
	if err != nil {
		return out, err
	}
	after, err := s.Origins(ctx, Staged(src))
	if err != nil {
		return out, err
	}
	was, is := perDay(old), perDay(anew)
	found := map[usage.Day]bool{} // what was counted on the day was read again
	for d := range was {
		if found[d], err = s.foundAgain(ctx, src, d); err != nil {
			return out, err
		}
	}
	lines := map[string]int64{} // of each file, those read again less those read before
	read := map[string]bool{}
	for _, o := range after {
		lines[o.File] += o.Lines
		read[o.File] = true
	}
	own := map[string]bool{} // by the source's own cursor: what was read by hand too is the same lines
	for _, o := range before {
		own[o.File] = own[o.File] || !o.ByHand
	}
	for _, o := range before {
		if !o.ByHand || !own[o.File] {
			lines[o.File] -= o.Lines
		}
	}
	swap := func(d usage.Day) bool {
		if !asked(d) || was[d] == 0 || found[d] || !anyway {
			return asked(d) && (was[d] == 0 || found[d])
		}
		for i := range before {
			if o := &before[i]; o.gave(d) && (!read[o.File] || lines[o.File] < 0) {
				return false
			}
		}
		return true
	}
	t := &usage.Table{}
	for _, u := range old.All() {
		// Calls of which no day is known (read before counts a day) stay with the days left:
		// rather too many than a use too few.
		extra := u.Count
		for _, n := range u.Daily() {
			extra -= n
		}
		days := u.Days.Count()
		if !u.Only(func(d usage.Day) bool { return !swap(d) }) {
			continue
		}
		if u.Days.Count() < days {
			u.Count += extra
		}
		t.MergeUse(u)
	}
	for _, u := range anew.All() {
		if u.Only(swap) {
			t.MergeUse(u)
		}
	}
	swapped := map[usage.Day]bool{}
	for d := range was {
		if swap(d) {
			swapped[d] = true
			out.Before += was[d]
		} else if asked(d) {
			out.Kept = append(out.Kept, d)
		}
	}
	for d := range is {
		if swap(d) {
			swapped[d] = true
			out.After += is[d]
		}
	}
	out.Days = len(swapped)
	slices.Sort(out.Kept)
	all := !slices.ContainsFunc(slices.Collect(maps.Keys(was)), func(d usage.Day) bool { return !swap(d) })
	now := originsAfter(before, after, swap, lines, read, asked, all, whole)
	for _, o := range now {
		if o.Gone && o.Days.Count() > 0 && !read[o.File] && !slices.Contains(out.Gone, o.File) {
			out.Gone = append(out.Gone, o.File)
		}
	}
	return out, s.tx(ctx, func(tx *sql.Tx) error {
		if same, err := foldIDs(tx, src); err != nil || !slices.Equal(same, ids) {
			return errors.Join(err,
				errors.New("another survey read the log meanwhile; nothing was swapped: read it anew again"))
		}
		return swapIn(tx, src, t, swapped, read, now, whole)
	})
}

// foundAgain reports whether every event that was counted on a day is among those that were
// read anew. Of a day beyond [fold.Horizon] that is not known any more.
func (s *Store) foundAgain(ctx context.Context, src string, d usage.Day) (bool, error) {
	hashes := func(of string) (map[uint64]bool, error) {
		out := map[uint64]bool{}
		return out, s.rows(ctx, func(scan func(...any) error) error {
			var blob sql.RawBytes
			err := scan(&blob)
			for ; len(blob) >= 8; blob = blob[8:] {
				out[binary.LittleEndian.Uint64(blob)] = true
			}
			return err
		}, `select events from seen where source = ? and day = ?`, of, d)
	}
	before, err := hashes(src)
	if err != nil {
		return false, err
	}
	after, err := hashes(Staged(src))
	if err != nil {
		return false, err
	}
	for h := range before {
		if !after[h] {
			return false, nil
		}
	}
	return len(before) > 0, nil
}

// perDay sums the calls of uses by day.
func perDay(uses *usage.Uses) map[usage.Day]int64 {
	sums := map[usage.Day]int64{}
	for _, u := range uses.All() {
		for d, n := range u.Daily() {
			sums[d] += n
		}
	}
	return sums
}

// originsAfter says which file gave what when some days, or all of them, were swapped.
func originsAfter(before, after []Origin, swap func(usage.Day) bool, lines map[string]int64, read map[string]bool,
	asked func(usage.Day) bool, all, whole bool) []Origin {
	cut := func(d usage.Days, keep func(usage.Day) bool) (out usage.Days) {
		for _, day := range d.List() {
			if keep(day) {
				out = out.Union(usage.DaysOf(day.Time()))
			}
		}
		return out
	}
	var out []Origin
	for _, o := range before {
		had := o.Days.Count()
		o.Days = cut(o.Days, func(d usage.Day) bool { return !swap(d) })
		if read[o.File] { // its lines are counted with what was read again
			o.Lines, o.Rejected, o.tallies = max(0, -lines[o.File]), 0, map[string]int64{}
			lines[o.File] = 0
		}
		if o.Days.Count() == 0 && (read[o.File] || had > 0 || o.File == "" && all) {
			continue
		}
		if o.File == "" { // which of its lines were read again is not known
			for _, n := range after {
				o.Lines = max(0, o.Lines-n.Lines)
			}
		}
		o.Gone = o.Gone || slices.ContainsFunc(o.Days.List(), asked) || whole && !read[o.File]
		out = append(out, o)
	}
	for _, o := range after {
		o.Days = cut(o.Days, swap)
		if i := slices.IndexFunc(out, func(x Origin) bool {
			return x.File == o.File && x.Maps == o.Maps &&
				x.ByHand == o.ByHand
		}); i >= 0 {
			x := &out[i]
			x.Lines, x.Rejected, x.tallies, x.Days = x.Lines+o.Lines, o.Rejected, o.tallies, x.Days.Union(o.Days)
			continue
		}
		out = append(out, o)
	}
	return out
}

func swapIn(tx *sql.Tx, src string, t *usage.Table, swapped map[usage.Day]bool, read map[string]bool, now []Origin,
	whole bool) error {
	staged := Staged(src)
	if _, err := tx.Exec(`delete from folds where source = ?`, src); err != nil {
		return err
	}
	if t.Len() > 0 {
		if err := insertFold(tx, src, t); err != nil {
			return err
		}
	}
	for d := range swapped {
		if _, err := tx.Exec(`delete from seen where source = ? and day = ?`, src, d); err != nil {
			return err
		}
		if _, err := tx.Exec(`update seen set source = ? where source = ? and day = ?`, src, staged, d); err != nil {
			return err
		}
	}
	for file := range read { // a piece of a server's log is called "log at" its cursor
		for _, table := range []string{"rejected", "unmapped"} {
			if _, err := tx.Exec(`delete from `+table+
				` where source = ?1 and (file = ?2 or ?2 = 'log' and file like 'log at %')`, src, file); err != nil {
				return err
			}
		}
	}
	for _, table := range []string{"rejected", "unmapped"} {
		if _, err := tx.Exec(`update or ignore `+table+` set source = ? where source = ?`, src, staged); err != nil {
			return err
		}
	}
	for _, table := range []string{"origins", "tallies"} {
		if _, err := tx.Exec(`delete from `+table+` where source = ?`, src); err != nil {
			return err
		}
	}
	var lines, rejected int64
	for i := range now {
		o := &now[i]
		lines += o.Lines
		rejected += o.Rejected
		if err := putOrigin(tx, src, o); err != nil {
			return err
		}
		for k, n := range o.tallies {
			if _, err := tx.Exec(
				`insert into tallies values(?1, substr(?2, 1, instr(?2, ':') - 1), substr(?2, instr(?2, ':') + 1), ?3) on conflict do update set n = n + ?3`, src, k, n); err != nil {
				return err
			}
		}
	}
	first, last := t.Span()
	if _, err := tx.Exec(`update logs set first = ?2, last = ?3, lines = ?4, rejected = ?5 where source = ?1`, src,
		first, last, lines, rejected); err != nil {
		return err
	}
	if whole {
		if _, err := tx.Exec(
			`update logs set cursor = new.cursor from (select cursor from logs where source = ?2) as new where source = ?1 and new.cursor != ''`, src, staged); err != nil {
			return err
		}
	}
	if err := swapSightings(tx, src, swapped); err != nil {
		return err
	}
	return forget(tx, staged)
}

func (s *Store) foldIDs(ctx context.Context, src string) ([]int64, error) {
	var out []int64
	err := s.tx(ctx, func(tx *sql.Tx) (err error) {
		out, err = foldIDs(tx, src)
		return err
	})
	return out, err
}

func foldIDs(tx *sql.Tx, src string) ([]int64, error) {
	rows, err := tx.Query(`select id from folds where source = ? order by id`, src)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, rows.Err()
}
