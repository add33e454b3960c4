package usage_test

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestAppendUses: uses that are kept few at a time, and read again together, are those that they were, also where they
// were cut and are the least that there were.
func TestAppendUses(t *testing.T) {
	least := 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 21))
		g := &usage.Gather{}
		f := usage.Fold{}
		for _, c := range calls(r, 40+r.IntN(300)) {
			f.Add(c)
		}
		for _, u := range f.Uses() {
			if r.IntN(3) == 0 { // as folded before counts a day were kept
				u.Counts = usage.Counts{}
				u.Count += int64(r.IntN(9))
			}
			u.AtLeast = r.IntN(4) == 0
			g.Add(u)
		}
		all := g.Uses()
		first := usage.DayOf(all.At(0).First) + usage.Day(r.IntN(40)) - 10
		if r.IntN(2) == 0 {
			all = all.Cut(first, first+usage.Day(r.IntN(60)))
		}
		again := &usage.Gather{}
		for id := range all.Principals() {
			b, err := usage.AppendUses([]byte("it"), all.As(id))
			if err == nil {
				err = again.AddUses(b[2:])
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		got := again.Uses()
		if !slices.EqualFunc(got.List(), all.List(), alike) {
			t.Fatalf("seed %d: it is\n%+v\nand was\n%+v", seed, got.List(), all.List())
		}
		for _, u := range got.All() {
			if u.AtLeast {
				least++
			}
		}
	}
	if least < 100 {
		t.Errorf("%d uses are the least that there were: too few", least)
	}
}

// FuzzAddUses: what is no list of uses that was kept is [usage.ErrTable].
func FuzzAddUses(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 22))
	fold := usage.Fold{}
	for _, c := range calls(r, 20) {
		fold.Add(c)
	}
	uses := fold.Uses()
	uses[1].AtLeast = true
	b, err := usage.AppendUses(nil, slices.All(uses))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add(b[:len(b)-1])
	f.Add(append(slices.Clone(b), 0xff, 1))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		g := &usage.Gather{}
		if err := g.AddUses(b); err != nil {
			if !errors.Is(err, usage.ErrTable) {
				t.Fatal(err)
			}
			return
		}
		uses := g.Uses()
		again := &usage.Gather{}
		kept, err := usage.AppendUses(nil, uses.All())
		if err == nil {
			err = again.AddUses(kept)
		}
		if err != nil || !slices.EqualFunc(again.Uses().List(), uses.List(), alike) {
			t.Fatalf("%v\n%+v\nand was\n%+v", err, again.Uses().List(), uses.List())
		}
	})
}

// TestNothingBehind: what stands behind a table is no table, nor is nothing asked for names of nothing.
func TestNothingBehind(t *testing.T) {
	table := &usage.Table{}
	for _, c := range calls(rand.New(rand.NewPCG(1, 23)), 9) {
		f := usage.Fold{}
		f.Add(c)
		table.MergeUse(f.Uses()[0])
	}
	b, err := table.AppendBinary(nil)
	if err != nil {
		t.Fatal(err)
	}
	for n, want := range []error{nil, usage.ErrTable, usage.ErrTable} {
		if err := (&usage.Table{}).MergeBinary(append(slices.Clone(b), make([]byte, n)...)); !errors.Is(err, want) {
			t.Errorf("%d bytes behind it: %v", n, err)
		}
	}
	x, err := index.Build(&model.Estate{Source: "m"})
	if err != nil {
		t.Fatal(err)
	}
	if got := usage.NewResolver(x, nil, nil, nil).Uses(nil); got.Len() != 0 {
		t.Errorf("nothing was used, under other names %d", got.Len())
	}
}
