package index

import (
	"math/rand/v2"
	"testing"
)

// Views of views say what each of them wrote, whatever those before and beside them did.
func TestPaged(t *testing.T) {
	type version struct {
		numbers numbers
		marks   marks
		list    paged[int]
		want    []uint32
	}
	same := func(t *testing.T, v *version) {
		t.Helper()
		if v.numbers.len() != len(v.want) || v.marks.len() != len(v.want) {
			t.Fatalf("%d numbers and %d marks of %d", v.numbers.len(), v.marks.len(), len(v.want))
		}
		for i, w := range v.want {
			if v.numbers.at(i) != w || v.marks.at(i) != byte(w) {
				t.Fatalf("at %d %d and %d, wanted %d", i, v.numbers.at(i), v.marks.at(i), w)
			}
		}
		for i := range v.list.len() {
			if w := v.want[len(v.want)-v.list.len()+i]; v.list.at(i) != int(w) {
				t.Fatalf("new %d is %d, wanted %d", i, v.list.at(i), w)
			}
		}
	}
	for _, n := range []int{0, 1, 1 << byteBits, 2<<byteBits - 1, 3<<byteBits + 7} {
		r := rand.New(rand.NewPCG(uint64(n), 1))
		first := &version{}
		for range n {
			first.want = append(first.want, r.Uint32())
		}
		first.numbers.flat = packInts(first.want)
		for _, w := range first.want {
			first.marks.flat = append(first.marks.flat, byte(w))
		}
		all := []*version{first}
		for range 40 {
			of := all[r.IntN(len(all))] // any, so that some stand on the same one
			v := &version{of.numbers, of.marks, of.list, append([]uint32(nil), of.want...)}
			v.numbers.edit()
			v.marks.edit()
			v.list.edit()
			for range r.IntN(600) {
				w := r.Uint32()
				v.numbers.push(w)
				v.marks.push(byte(w))
				v.list.push(int(w))
				v.want = append(v.want, w)
			}
			for range r.IntN(9) {
				if old := len(v.want) - v.list.len(); old > 0 {
					i, w := r.IntN(old), r.Uint32()
					v.numbers.put(i, w)
					v.marks.put(i, byte(w))
					v.want[i] = w
				}
			}
			all = append(all, v)
		}
		for _, v := range all {
			same(t, v)
		}
	}
}
