package store_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"github.com/cespare/xxhash/v2"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/store"
)

// call is a line of a made-up log: its file, its day and who; a map of another version
// calls them something else.
type call struct {
	file string
	day  usage.Day
	who  string
}

// folded folds calls as a version of the maps reads them; seen holds what was counted.
func folded(calls []call, version string, seen map[string]bool) *fold.Batch {
	b := &fold.Batch{Table: &usage.Table{}, Seen: map[usage.Day][]uint64{}, Maps: version, Formats: map[string]int{}}
	at := map[string]int{}
	for _, c := range calls {
		o, ok := at[c.file]
		if !ok {
			o = len(b.Origins)
			at[c.file] = o
			b.Origins = append(b.Origins, fold.Origin{File: c.file, Days: map[usage.Day]int{},
				Formats: map[string]int{}})
		}
		b.Records++
		b.Origins[o].Lines++
		b.Origins[o].Formats["m"]++
		b.Formats["m"]++
		b.Origins[o].Days[c.day]++
		id := fmt.Sprint(c.day, c.who)
		if seen[id] {
			continue
		}
		seen[id] = true
		b.Seen[c.day] = append(b.Seen[c.day], xxhash.Sum64String(id))
		t := c.day.Time().Add(time.Hour)
		b.Table.MergeUse(usage.Use{Key: usage.Key{Identity: model.MustID("workload/" + version + c.who),
			Permission: model.MustPermission("a/b:c"), Path: model.MustPath("/m/x"), Outcome: usage.Done},
			Count: 1, First: t, Last: t, Days: usage.DaysOf(t), Counts: usage.PackCounts([]int64{1})})
	}
	return b
}

// TestSwap: whatever files are gone, longer, shorter or renamed by then, after a log is
// counted anew a day is either wholly of the new map, with everything that can be read, or
// wholly as it was, and then it is marked; and it does not matter whether the batches were
// compacted before.
func TestSwap(t *testing.T) {
	const seed = 41
	r := rand.New(rand.NewPCG(seed, 0))
	for try := range 150 {
		s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
		if err != nil {
			t.Fatal(err)
		}
		ctx := t.Context()
		check := func(err error) {
			t.Helper()
			if err != nil {
				t.Fatalf("seed %d, try %d: %v", seed, try, err)
			}
		}
		const first, days = usage.Day(20_000), 8
		var all []call
		for i := range 1 + r.IntN(60) {
			all = append(all, call{fmt.Sprint("f", r.IntN(4)), first + usage.Day(r.IntN(days)), fmt.Sprint("w", i)})
		}
		seen := map[string]bool{}
		for rest := all; len(rest) > 0; {
			n := min(len(rest), 1+r.IntN(6))
			check(s.SaveFold(ctx, "m", folded(rest[:n], "a", seen)))
			rest = rest[n:]
		}
		if r.IntN(2) == 0 {
			check(s.Compact(ctx, "m"))
		}
		gone, renamed := fmt.Sprint("f", r.IntN(8)), fmt.Sprint("f", r.IntN(8))
		var now []call
		for _, c := range all {
			switch c.file {
			case gone:
				continue
			case renamed:
				c.file += ".1"
			}
			now = append(now, c)
		}
		kept := len(now)
		// As many new lines as you like, under the name of the one that is gone: they replace
		// nothing that is not there again.
		if r.IntN(2) == 0 && gone < "f4" {
			for i := range 40 {
				now = append(now, call{gone, first + days + 5, fmt.Sprint("new", i)},
					call{"other", first + usage.Day(i%days), fmt.Sprint("more", i)})
			}
		}
		from, to := first+usage.Day(r.IntN(days)), first+days
		whole := r.IntN(2) == 0
		if whole {
			from = first
		}
		asked := func(d usage.Day) bool { return from <= d && d <= to }
		if r.IntN(3) == 0 { // one that was killed
			check(s.SaveFold(ctx, store.Staged("m"), folded(now[:len(now)/2], "x", map[string]bool{})))
		}
		check(s.Unstage(ctx, "m"))
		if len(now) > 0 {
			check(s.SaveFold(ctx, store.Staged("m"), folded(now, "b", map[string]bool{})))
		}
		got, err := s.Swap(ctx, "m", asked, whole, false)
		check(err)

		missing := map[usage.Day]bool{}
		for _, c := range all {
			if c.file == gone {
				missing[c.day] = true
			}
		}
		want := map[string]int64{}
		for _, c := range now[min(len(now), kept):] {
			if asked(c.day) && !missing[c.day] {
				want[fmt.Sprint(c.day, " b"+c.who)]++
			}
		}
		for _, c := range all {
			version := "a"
			if asked(c.day) && !missing[c.day] {
				version = "b"
			}
			want[fmt.Sprint(c.day, " ", version+c.who)]++
		}
		uses, err := s.Uses(ctx, "m")
		check(err)
		have := map[string]int64{}
		for _, u := range uses.All() {
			for d, n := range u.Daily() {
				have[fmt.Sprint(d, " ", u.Identity.Name)] += n
			}
		}
		if !reflect.DeepEqual(have, want) {
			t.Fatalf("seed %d, try %d: gone %s, renamed %s, from %d\nhave %v\nwant %v", seed, try, gone, renamed, from,
				have, want)
		}
		for _, d := range got.Kept {
			if !asked(d) || !missing[d] {
				t.Errorf("seed %d, try %d: day %d was kept", seed, try, d)
			}
		}
		origins, err := s.Origins(ctx, "m")
		check(err)
		of := map[usage.Day]map[string]bool{}
		for _, o := range origins {
			for _, d := range o.Days.List() {
				if of[d] == nil {
					of[d] = map[string]bool{}
				}
				of[d][o.Maps] = true
			}
		}
		for _, c := range all {
			version := "a"
			if asked(c.day) && !missing[c.day] {
				version = "b"
			}
			if !reflect.DeepEqual(of[c.day], map[string]bool{version: true}) {
				t.Errorf("seed %d, try %d: day %d is said to be of %v, and is of %s", seed, try, c.day, of[c.day],
					version)
			}
		}
		if again, err := s.Origins(ctx, store.Staged("m")); err != nil || len(again) > 0 {
			t.Errorf("seed %d, try %d: left behind: %v %v", seed, try, again, err)
		}
		if _, err := json.Marshal(origins); err != nil {
			t.Error(err)
		}
		check(s.Close())
	}
}
