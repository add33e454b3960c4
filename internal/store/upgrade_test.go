package store_test

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// version1 makes a store as the first version made them.
func version1(t *testing.T, file string, records ...[3]string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	exec := func(q string, args ...any) {
		t.Helper()
		if _, err := db.Exec(q, args...); err != nil {
			t.Fatal(err)
		}
	}
	exec(store.Migrations(1))
	exec(`pragma user_version = 1`)
	exec(`insert into surveys(id, source, started, finished) values(1, 'm', '2026-11-01T00:00:00Z', '2026-11-01T00:01:00Z')`)
	for _, r := range records {
		exec(`insert into records values(1, ?, ?, '', ?)`, r[0], r[1], []byte(r[2]))
	}
	exec(`insert into gates values('ab12', ?)`,
		[]byte(`{"id":"ab12","gate":"g","policy":{"gate":1,"name":"g","opens":{"role":"r","on":["/m/**"]}},"state":"open"}`))
}

var old = [][3]string{
	{source.Permissions, "a/b:c", `{"permission":"a/b:c","level":"write"}`},
	{source.Permissions, "a/b:d", `{"permission":"a/b:d","level":"list"}`},
	{source.Nodes, "/m", `{"path":"/m"}`},
	{source.Identities, "person/p", `{"id":"person/p"}`},
	{source.Grants, "g1", `{"id":"g1","to":"person/p","do":["a/b:c"],"on":["/m/on:x/**"],"side":"resource"}`},
	{source.Denials, "d1", `{"id":"d1","to":["person/p"],"do":["a/b:d"],"on":["/m"]}`},
	{source.Ceilings, "c1", `{"id":"c1","of":"person/p","do":["*"],"on":["/m/**"]}`},
	{source.Coverage, "/m|a|read", `{"node":"/m","service":"a","log_class":"read","on":true}`},
}

// TestStoreOfBefore: a store of the first version says the same in the words of now, a
// copy of it is kept, and the next opening finds nothing to do.
func TestStoreOfBefore(t *testing.T) {
	file := filepath.Join(t.TempDir(), "store.db")
	version1(t, file, old...)
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	e, _, err := s.Estate(t.Context(), "m", 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := e.Validate(); err != nil {
		t.Errorf("the estate of before does not hold together: %v", err)
	}
	if g := e.Grants[0]; g.KeptWith != model.WithPlace || len(g.Where) != 1 || g.Where[0].String() != "/m/on:x/**" {
		t.Errorf("grant %+v", g)
	}
	if e.Catalogue[0].Level != model.Change || e.Catalogue[1].Level != model.See || !e.Coverage[0].Written ||
		len(e.Denials[0].Where)+len(e.Ceilings[0].Where) != 2 {
		t.Errorf("catalogue %v, coverage %v, denials %v, ceilings %v", e.Catalogue, e.Coverage, e.Denials, e.Ceilings)
	}
	gates, _, err := s.Gates(t.Context())
	if err != nil || !strings.Contains(string(gates["ab12"]), `"where":["/m/**"]`) ||
		!strings.Contains(string(gates["ab12"]), `"gate":2`) {
		t.Errorf("gates %s, %v", gates, err)
	}
	if s.Before != file+".version-1" {
		t.Errorf("the copy is %q", s.Before)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	kept, err := sql.Open("sqlite", "file:"+file+".version-1")
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	var body string
	if err := kept.QueryRow(`select value from records where id = 'g1'`).Scan(&body); err != nil || body != old[4][2] {
		t.Errorf("the copy says %s, %v", body, err)
	}
	if s, err = store.Open(t.Context(), file); err != nil || s.Before != "" {
		t.Fatalf("opened again: copy %q, %v", s.Before, err)
	}
	s.Close()
}

// TestBadStoreOfBefore: a record that cannot be brought over leaves the store as it was.
func TestBadStoreOfBefore(t *testing.T) {
	file := filepath.Join(t.TempDir(), "store.db")
	version1(t, file, append(old, [3]string{source.Grants, "g2", `{"id":`})...)
	for range 2 {
		if _, err := store.Open(t.Context(), file); !errors.Is(err, store.ErrDamaged) {
			t.Fatalf("opened: %v", err)
		}
	}
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var version int
	var body string
	if err := errors.Join(db.QueryRow(`pragma user_version`).Scan(&version),
		db.QueryRow(`select value from records where id = 'g1'`).Scan(&body)); err != nil || version != 1 ||
		body != old[4][2] {
		t.Errorf("version %d, %s, %v", version, body, err)
	}
	if _, err := os.Stat(file + ".version-1"); err != nil {
		t.Errorf("no copy: %v", err)
	}
}
