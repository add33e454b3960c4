package access

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestFew: few numbers are the same set as a whole one, in whatever order they come.
func TestFew(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		n := 1 + r.IntN(2000)
		set, other, few := NewSet(n), NewSet(n), Few(nil)
		for range r.IntN(200) {
			i := r.IntN(n)
			set.Add(i)
			few.Add(i)
			other.Add(r.IntN(n))
		}
		if want := slices.Collect(set.All()); few.Count() != len(want) || !slices.Equal(slices.Collect(few.All()),
			want) {
			t.Fatalf("seed %d: %v, want %v", seed, slices.Collect(few.All()), want)
		}
		for i := range n {
			if few.Has(i) != set.Has(i) {
				t.Fatalf("seed %d: has %d: %t", seed, i, few.Has(i))
			}
		}
		if in := other.AndFew(few).Count(); few.In(other) != (in == few.Count()) || few.Meets(other) != (in > 0) {
			t.Fatalf("seed %d: %d of %d are in the other: %t, %t", seed, in, few.Count(), few.In(other),
				few.Meets(other))
		}
		shared, whole := 0, 0
		for i := range n {
			if set.Has(i) && other.Has(i) {
				shared++
			}
			if set.Has(i) {
				whole++
			}
		}
		if set.Meets(other) != (shared > 0) || set.Subset(other) != (shared == whole) || set.Count() != whole {
			t.Fatalf("seed %d: %d of %d are in the other: %t, %t", seed, shared, whole, set.Meets(other),
				set.Subset(other))
		}
		if !slices.Equal(set.Few(), few) {
			t.Fatalf("seed %d: %v, want %v", seed, set.Few(), few)
		}
		less := slices.Collect(few.Less(other.Few()).All())
		third, left := NewSet(n), NewSet(n)
		for range r.IntN(100) {
			third.Add(r.IntN(n))
		}
		left.Add(r.IntN(n))
		had := left.Clone()
		left.OrFewLess(few, other.Few(), third.Few())
		rest := few.Less(other.Few()).Less(third.Few())
		had.OrFew(rest)
		if k := few.CountLess(other.Few(), third.Few()); k != rest.Count() || !slices.Equal(left, had) {
			t.Fatalf("seed %d: %d without two others, want %d; added to some: %v, want %v", seed, k, rest.Count(),
				left.Few(), had.Few())
		}
		both, all := slices.Collect(other.AndFew(few).All()), other.Clone()
		all.OrFew(few)
		for i := range n {
			if slices.Contains(less, i) != (set.Has(i) && !other.Has(i)) {
				t.Fatalf("seed %d: %d without the other: %t", seed, i, slices.Contains(less, i))
			}
			if slices.Contains(both, i) != (set.Has(i) && other.Has(i)) || all.Has(i) != (set.Has(i) || other.Has(i)) {
				t.Fatalf("seed %d: %d in both: %t, in either: %t", seed, i, slices.Contains(both, i), all.Has(i))
			}
		}
	}
}

// TestHas: what lies beyond the numbers that a set was made for is not in it.
func TestHas(t *testing.T) {
	b := NewSet(64)
	for i := range 64 {
		b.Add(i)
	}
	for i, want := range map[int]bool{0: true, 63: true, 64: false, 127: false, 1000: false} {
		if b.Has(i) != want {
			t.Errorf("has %d: %t", i, b.Has(i))
		}
	}
}

// TestFewWritten: what is written of a set is read as the set; what cannot have been written is an error.
func TestFewWritten(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 8))
		few := Few(nil)
		for range r.IntN(30) {
			few.Add(r.IntN(500))
		}
		b, err := json.Marshal(few)
		if err != nil {
			t.Fatal(err)
		}
		back := Few{{1, 1}}
		if err := json.Unmarshal(b, &back); err != nil || !slices.Equal(few, back) ||
			(back == nil) != (len(few) == 0) {
			t.Fatalf("%s is read as %v, and was %v: %v", b, back, few, err)
		}
	}
	for _, text := range []string{`[1]`, `[1,0]`, `[1,1,1,1]`, `[2,1,1,1]`, `[-1,1]`, `[4294967296,1]`, `["1",1]`, `{}`,
		`[1,1.5]`, `[1,18446744073709551616]`} {
		few := Few{{1, 1}}
		if err := json.Unmarshal([]byte(text), &few); err == nil || len(few) != 1 {
			t.Errorf("%s is read as %v: %v", text, few, err)
		}
	}
}
