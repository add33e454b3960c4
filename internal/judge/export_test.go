package judge

import (
	"bytes"
	"encoding/json"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"clipfence/internal/accessfile"
	"clipfence/internal/core/model"
)

// hostile names a record as somebody would who wants to break a file, or get out of a folder.
var hostile = []string{"..", "../../etc/x", "a/b", "con", "A", "a", "a b", "a: b", "#", "", "%2F", "\x1b[31m", "ø",
	"~", "-rf", "'", "\"", "yes", "null", "1e3", "a\nb", "\u202e"}

// TestAccessFiles: what is written as files and read back is the same access, on random estates
// with hostile names; the same access makes the same files whatever order it comes in, and every
// difference between two is told.
func TestAccessFiles(t *testing.T) {
	told := 0
	for seed := uint64(90000); seed < 90000+uint64(estates(t)); seed++ {
		g := newRandom(seed)
		e := g.estate(t)
		r := rand.New(rand.NewPCG(seed, 5))
		for i, name := range hostile {
			e.Roles = append(e.Roles, model.Role{Name: "h" + name, Title: name})
			e.Grants = append(e.Grants, model.Grant{ID: name + "!", To: model.ID{Kind: model.Person, Name: name + "x"},
				Role: "h" + name, Where: []model.PathPattern{model.MustPath("/m").Child("box", name+"_").Below()}})
			if i%5 == 0 {
				e.Denials = append(e.Denials, model.Denial{ID: "d" + name, To: []model.ID{{Kind: model.Person,
					Name: name + "x"}},
					Where: []model.PathPattern{model.MustPath("/m").Below()}})
			}
		}
		files, err := accessfile.Files(e)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		for name := range files {
			if !accessfile.Ours(name) {
				t.Fatalf("seed %d: %q is not known as a file of ours", seed, name)
			}
		}
		back, err := accessfile.Read("m", files)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if d, err := accessfile.Differences(e, back); err != nil || len(d) > 0 {
			t.Fatalf("seed %d: read back otherwise: %+v, %v", seed, d, err)
		}
		shuffled := *e
		shuffled.Grants, shuffled.Roles = slices.Clone(e.Grants), slices.Clone(e.Roles)
		r.Shuffle(len(shuffled.Grants), func(i, j int) {
			shuffled.Grants[i], shuffled.Grants[j] = shuffled.Grants[j], shuffled.Grants[i]
		})
		r.Shuffle(len(shuffled.Roles), func(i, j int) {
			shuffled.Roles[i], shuffled.Roles[j] = shuffled.Roles[j], shuffled.Roles[i]
		})
		again, err := accessfile.Files(&shuffled)
		if err != nil || !maps.EqualFunc(files, again, bytes.Equal) {
			t.Fatalf("seed %d: another order makes other files (%v)", seed, err)
		}
		// One change of one record is told, and makes other files.
		other := *e
		other.Grants = slices.Clone(e.Grants)
		i := r.IntN(len(other.Grants))
		was, err := json.Marshal(other.Grants[i])
		if err != nil {
			t.Fatal(err)
		}
		if r.IntN(2) == 0 {
			other.Grants = slices.Delete(other.Grants, i, i+1)
		} else {
			other.Grants[i].Where = []model.PathPattern{model.MustPathPattern("/m/other/**")}
		}
		d, err := accessfile.Differences(e, &other)
		if err != nil || len(d) != 1 || d[0].Kind != "grant" || string(d[0].Here) != string(was) {
			t.Fatalf("seed %d: %+v, %v", seed, d, err)
		}
		if files2, err := accessfile.Files(&other); err != nil || maps.EqualFunc(files, files2, bytes.Equal) {
			t.Fatalf("seed %d: another access makes the same files (%v)", seed, err)
		}
		told++
	}
	t.Logf("%d estates", told)
}
