package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// surveyed keeps an estate of roles, by name and what each gives, as a survey of a source.
func surveyed(t *testing.T, s *store.Store, src string, roles map[string]string) int64 {
	t.Helper()
	return surveyedAt(t, s, src, roles, time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC))
}

func surveyedAt(t *testing.T, s *store.Store, src string, roles map[string]string, at time.Time) int64 {
	t.Helper()
	v, err := s.BeginSurvey(t.Context(), src, at)
	if err != nil {
		t.Fatal(err)
	}
	var b source.Batch
	for name, gives := range roles {
		b.Records = append(b.Records, source.Record{Kind: source.Roles, ID: name,
			Value: model.Role{Name: name, Rights: model.Permissions(model.MustPermission("s/n:" + gives))}})
	}
	if err := errors.Join(s.SaveBatch(t.Context(), v.ID, b),
		s.FinishSurvey(t.Context(), v.ID, at)); err != nil {
		t.Fatal(err)
	}
	return v.ID
}

func rolesOf(t *testing.T, s *store.Store, src string, survey int64) map[string]string {
	t.Helper()
	e, v, err := s.Estate(t.Context(), src, survey)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, r := range e.Roles {
		out[r.Name] = r.Do[0].String()[len("s/n:"):]
	}
	if v.Records != len(out) {
		t.Errorf("survey %d has %d records and says %d", v.ID, len(out), v.Records)
	}
	return out
}

// TestEachSurveyStands: whatever comes, goes, changes and comes back from survey to survey, in
// two sources side by side, each survey that is kept is as it was read, and of the ones that
// are not nothing is left.
func TestEachSurveyStands(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	type kept struct {
		id    int64
		roles map[string]string
	}
	all := map[string][]kept{}
	now := map[string]map[string]string{"a": {}, "b": {}}
	for range 60 {
		src := []string{"a", "b"}[r.IntN(2)]
		roles := map[string]string{}
		for name, gives := range now[src] {
			switch r.IntN(6) {
			case 0:
			case 1:
				roles[name] = fmt.Sprint(r.IntN(3))
			default:
				roles[name] = gives
			}
		}
		for range r.IntN(4) {
			roles[fmt.Sprint("r", r.IntN(8))] = fmt.Sprint(r.IntN(3))
		}
		if r.IntN(10) == 0 { // one that breaks off leaves nothing
			v, err := s.BeginSurvey(t.Context(), src, time.Now())
			if err == nil {
				err = s.SaveBatch(t.Context(), v.ID,
					source.Batch{Records: []source.Record{{Kind: source.Roles, ID: "torn",
						Value: model.Role{Name: "torn"}}}})
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		now[src] = roles
		all[src] = append(all[src], kept{surveyed(t, s, src, roles), roles})
		for src, list := range all {
			for i, k := range list {
				if gone := i > 0 && i < len(list)-20; gone { // all are of one week, of which the first one stays
					if _, _, err := s.Estate(t.Context(), src, k.id); !errors.Is(err, store.ErrNone) {
						t.Fatalf("seed %d: survey %d of %s is kept: %v", seed, k.id, src, err)
					}
					continue
				}
				if got := rolesOf(t, s, src, k.id); fmt.Sprint(got) != fmt.Sprint(k.roles) {
					t.Fatalf("seed %d: survey %d of %s is %v, was %v", seed, k.id, src, got, k.roles)
				}
			}
		}
	}
}

// TestTwentySurveysCostOne: of an estate that does not change a further survey takes next to
// nothing.
func TestTwentySurveysCostOne(t *testing.T) {
	file := filepath.Join(t.TempDir(), "store.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	roles := map[string]string{}
	for i := range 5000 {
		roles[fmt.Sprintf("a role with a name of its own, number %d", i)] = "read"
	}
	size := func() int64 {
		t.Helper()
		if err := s.Close(); err != nil { // what lies beside the file goes into it
			t.Fatal(err)
		}
		st, err := os.Stat(file)
		if err == nil {
			s, err = store.Open(t.Context(), file)
		}
		if err != nil {
			t.Fatal(err)
		}
		return st.Size()
	}
	surveyed(t, s, "s", roles)
	surveyed(t, s, "s", roles) // while one is read it lies beside what holds
	two := size()
	for range 18 {
		surveyed(t, s, "s", roles)
	}
	if twenty := size(); twenty > two+two/10 {
		t.Errorf("two surveys take %d bytes, and twenty %d", two, twenty)
	}
	if list, err := s.Surveys(t.Context(), "s"); err != nil || len(list) != 20 || list[0].Records != 5000 ||
		list[19].Records != 5000 {
		t.Errorf("%d surveys, %v", len(list), err)
	}
	_ = s.Close()
}

// TestSurveyTakenOver: of two surveys of a source at once the one that began later counts, and
// the other, which it dropped, changes nothing.
func TestSurveyTakenOver(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	surveyed(t, s, "s", map[string]string{"old": "read"})
	first, err := s.BeginSurvey(t.Context(), "s", time.Now())
	if err != nil {
		t.Fatal(err)
	}
	surveyed(t, s, "s", map[string]string{"new": "read"})
	if err := s.FinishSurvey(t.Context(), first.ID, time.Now()); err == nil {
		t.Error("a survey that was dropped is finished")
	}
	if got := rolesOf(t, s, "s", 0); fmt.Sprint(got) != "map[new:read]" {
		t.Errorf("it is %v", got)
	}
}

// TestGoneNodes lists the nodes of every survey but the newest one's, each once, and forgets those that are
// gone for longer than calls are kept.
func TestGoneNodes(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	at := time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC)
	survey := func(i int) {
		t.Helper()
		v, err := s.BeginSurvey(t.Context(), "s", at)
		if err != nil {
			t.Fatal(err)
		}
		var b source.Batch
		for _, p := range []string{"/s", fmt.Sprintf("/s/box:%d", i), "/s/box:odd"} {
			if p == "/s/box:odd" && i%2 == 0 { // it comes and goes, and is there in the end
				continue
			}
			b.Records = append(b.Records, source.Record{Kind: source.Nodes, ID: p,
				Value: model.Node{Path: model.MustPath(p), Title: fmt.Sprint(p, i)}})
		}
		if err := errors.Join(s.SaveBatch(t.Context(), v.ID, b),
			s.FinishSurvey(t.Context(), v.ID, at)); err != nil {
			t.Fatal(err)
		}
		at = at.AddDate(0, 0, 1)
	}
	for i := range 32 {
		survey(i)
	}
	nodes, err := s.GoneNodes(t.Context(), "s")
	if err != nil || len(nodes) != 31 || !slices.Contains(nodes, model.MustPath("/s/box:0")) ||
		!slices.Contains(nodes, model.MustPath("/s/box:30")) || slices.Contains(nodes, model.MustPath("/s/box:odd")) ||
		slices.Contains(nodes, model.MustPath("/s/box:31")) {
		t.Errorf("%d nodes: %v, %v", len(nodes), nodes, err)
	}
	if other, err := s.GoneNodes(t.Context(), "other"); err != nil || len(other) > 0 {
		t.Errorf("of another source: %v, %v", other, err)
	}
	// 430 days after the 21st the surveys of before it go, but for the newest twenty, and with them what they alone
	// show: it is gone for longer than that.
	at = time.Date(2026, 1, 21, 6, 0, 0, 0, time.UTC).AddDate(0, 0, 430)
	survey(31)
	if nodes, err = s.GoneNodes(t.Context(), "s"); err != nil || len(nodes) != 18 ||
		slices.Contains(nodes, model.MustPath("/s/box:12")) || !slices.Contains(nodes, model.MustPath("/s/box:13")) {
		t.Errorf("%d nodes: %v, %v", len(nodes), nodes, err)
	}
	for range 10 { // nine of before are left
		survey(31)
	}
	if nodes, err = s.GoneNodes(t.Context(), "s"); err != nil || len(nodes) != 8 ||
		slices.Contains(nodes, model.MustPath("/s/box:22")) || !slices.Contains(nodes, model.MustPath("/s/box:23")) {
		t.Errorf("%d nodes: %v, %v", len(nodes), nodes, err)
	}
}

// TestDamagedTimes: a time that cannot be read is a damaged store, and no time of the year 1.
func TestDamagedTimes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "store.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	surveyed(t, s, "s", nil)
	if _, err := s.BeginSurvey(t.Context(), "s", time.Now()); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	for _, q := range []string{`update surveys set started = 'yesterday'`,
		`insert into waivers(finding, reason, by, until, at) values('f', 'r', 'b', 'soon', 'now')`} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	for name, ask := range map[string]func() error{
		"surveys":    func() error { _, err := s.Surveys(t.Context(), "s"); return err },
		"newest":     func() error { _, err := s.Newest(t.Context(), "s"); return err },
		"unfinished": func() error { _, _, err := s.Unfinished(t.Context(), "s"); return err },
		"waivers":    func() error { _, err := s.Waivers(t.Context()); return err },
	} {
		if err := ask(); !errors.Is(err, store.ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestDamagedUses: of many batches one that cannot be unpacked, or holds no uses, is a damaged store, whatever was
// read before it and is read after; and whoever asks no more is told so at once.
func TestDamagedUses(t *testing.T) {
	file := filepath.Join(t.TempDir(), "store.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	for i := range 6 {
		if err := s.SaveFold(t.Context(), "m", batch(t, s, 10*i, 10, "c")); err != nil {
			t.Fatal(err)
		}
	}
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.Uses(gone, "m"); !errors.Is(err, context.Canceled) {
		t.Errorf("asked no more: %v", err)
	}
	if uses, err := s.Uses(t.Context(), "m"); err != nil || uses.Len() != 12 {
		t.Fatalf("%d uses, %v", uses.Len(), err)
	}
	empty := []byte{0x28, 0xb5, 0x2f, 0xfd, 0x20, 0, 1, 0, 0} // RFC 8878: a frame of nothing
	for name, body := range map[string][]byte{"no frame": []byte("rubbish"), "no table": empty} {
		for at := range 6 {
			var id int64
			var was []byte
			row := db.QueryRow(`select id, body from folds where source = 'm' order by id limit 1 offset ?`, at)
			if err := row.Scan(&id, &was); err != nil {
				t.Fatal(err)
			}
			for _, b := range [][]byte{body, was} {
				if _, err := db.Exec(`update folds set body = ? where id = ?`, b, id); err != nil {
					t.Fatal(err)
				}
				_, err := s.Uses(t.Context(), "m")
				if damaged := errors.Is(err, store.ErrDamaged); damaged != (len(b) < len(was)) {
					t.Errorf("%s, batch %d, of %d bytes: %v", name, at, len(b), err)
				}
			}
		}
	}
}
