package config_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/model"
)

const good = `clipfence: 2
protected: [person/a, "other:person/b", "mooring:workload/c"]
sources:
  - {name: mooring, kind: bridge, url: "https://x.example", token: {env: T}}
  - {name: other, kind: files, estate: e.yaml}
`

func TestParse(t *testing.T) {
	c, err := config.Parse("c.yaml", []byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if time.Duration(c.Window) != 90*24*time.Hour || time.Duration(c.MaxAge) != 24*time.Hour ||
		time.Duration(c.Wait) != 2*time.Minute {
		t.Errorf("defaults %s %s %s", c.Window, c.MaxAge, c.Wait)
	}
	p := c.ProtectedIn("mooring")
	if len(p) != 2 || !p[model.MustID("person/a")] || !p[model.MustID("workload/c")] {
		t.Errorf("protected %v", p)
	}
	if _, err := c.Source(""); err == nil || !strings.Contains(err.Error(), "--source: mooring, other") {
		t.Errorf("which source? %v", err)
	}
	for _, tt := range []struct{ in, want string }{
		{"clipfence: 3", "format 3 is not known"},
		{"clipfence: 2\nwindow: 3h", "shorter than a day"},
		{"clipfence: 2\nsources: [{name: a/b, kind: files, estate: x}]", "cannot be the first segment"},
		{"clipfence: 2\nsources: [{name: a, kind: files, estate: x}, {name: a, kind: files, estate: x}]",
			"listed twice"},
		{"clipfence: 2\nsources: [{name: a, kind: bridge}]", "c.yaml:2:11: source \"a\": a bridge needs a url"},
		{"clipfence: 2\nsources: [{name: a, kind: files}]", "need an estate file"},
		{"clipfence: 2\nsources: [{name: a, kind: carrier-pigeon}]", "neither bridge nor files"},
		{"clipfence: 2\nprotected: [ghost/x]", "protected: "},
		{"clipfence: 2\npeople: [{id: person/a, keys: [nonsense]}]", "not an SSH public key"},
	} {
		if _, err := config.Parse("c.yaml", []byte(tt.in)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%q: %v, want %q", tt.in, err, tt.want)
		}
	}
}

func TestFindAndSecrets(t *testing.T) {
	dir := t.TempDir()
	deep := filepath.Join(dir, "a", "b")
	if err := errors.Join(os.MkdirAll(deep, 0o700), os.WriteFile(filepath.Join(dir, config.File), []byte(good), 0o600),
		os.WriteFile(filepath.Join(dir, "tok"), []byte(" s3cret\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	c, err := config.Find(deep)
	if err != nil || c.Dir != dir {
		t.Fatalf("Find from below: %v, %v", c, err)
	}
	t.Setenv("CLIPFENCE_TEST_TOKEN", "from-env")
	for _, tt := range []struct {
		s         config.Secret
		want, err string
	}{
		{config.Secret{Env: "CLIPFENCE_TEST_TOKEN"}, "from-env", ""},
		{config.Secret{Env: "CLIPFENCE_TEST_NONE"}, "", "CLIPFENCE_TEST_NONE is not set"},
		{config.Secret{File: "tok"}, "s3cret", ""},
		{config.Secret{File: "none"}, "", "no such file"},
		{config.Secret{Command: []string{"cat", "tok"}}, "s3cret", ""},
		{config.Secret{Command: []string{"false"}}, "", "command false"},
		{config.Secret{Command: []string{"true"}}, "", "the token is empty"},
		{config.Secret{}, "", "no place is named"},
	} {
		got, err := tt.s.Get(t.Context(), dir)
		if got != tt.want || (err == nil) != (tt.err == "") || err != nil && !strings.Contains(err.Error(), tt.err) {
			t.Errorf("%+v: %q, %v", tt.s, got, err)
		}
	}
	if _, err := config.Find(t.TempDir()); !errors.Is(err, config.ErrNoWorkspace) {
		t.Errorf("no workspace: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(t *testing.T, in []byte) {
		if c, err := config.Parse("c.yaml", in); err == nil &&
			(c.Version != 2 && c.Version != 1 || time.Duration(c.Window) < 24*time.Hour) {
			t.Fatalf("%q is taken: %+v", in, c)
		}
	})
}
