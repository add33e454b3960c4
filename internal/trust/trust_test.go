package trust_test

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/trust"
)

var at = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

func signer(t *testing.T, letter byte) ssh.Signer {
	t.Helper()
	s, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{letter}, ed25519.SeedSize)))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func content() trust.Content {
	return trust.Content{People: []trust.Person{{ID: "person/a", Keys: []string{"ssh-ed25519 AAAA"}},
		{ID: "person/b", Keys: []string{"k1", "k2"}}},
		Protected: []string{"person/root"}, Gates: map[string]string{"night.gate.yaml": "00", "day.gate.yaml": "11"}}
}

// TestCheck: what stands counts when it is, word for word, what a pinned trustee signed for
// this workspace.
func TestCheck(t *testing.T) {
	for _, tt := range []struct {
		name   string
		change func(p *trust.Pins, s *trust.Statement, now *trust.Content)
		want   string
	}{
		{"as signed", func(*trust.Pins, *trust.Statement, *trust.Content) {}, ""},
		{"nobody pinned", func(p *trust.Pins, _ *trust.Statement, _ *trust.Content) { p.Trustees = nil },
			"not pinned on this account"},
		{"somebody added", func(_ *trust.Pins, _ *trust.Statement, now *trust.Content) {
			now.People = append(now.People, trust.Person{ID: "person/eve", Keys: []string{"k"}})
		}, "people: person/eve was added"},
		{"a key added", func(_ *trust.Pins, _ *trust.Statement, now *trust.Content) {
			now.People[0].Keys = append(now.People[0].Keys, "k")
		}, "the keys of person/a were changed"},
		{"somebody gone", func(_ *trust.Pins, _ *trust.Statement, now *trust.Content) { now.People = now.People[:1] },
			"person/b was taken out"},
		{"protection taken off", func(_ *trust.Pins, _ *trust.Statement, now *trust.Content) { now.Protected = nil },
			"protected: person/root was taken out"},
		{"protection added", func(_ *trust.Pins, _ *trust.Statement, now *trust.Content) {
			now.Protected = append(now.Protected, "x")
		}, "protected: x was added"},
		{"a gate widened", func(_ *trust.Pins, _ *trust.Statement,
			now *trust.Content) {
			now.Gates["night.gate.yaml"] = "22"
		}, "gates: night.gate.yaml was changed"},
		{"a gate added", func(_ *trust.Pins, _ *trust.Statement,
			now *trust.Content) {
			now.Gates["x.gate.yaml"] = "22"
		}, "gates: x.gate.yaml was added"},
		{"a gate gone", func(_ *trust.Pins, _ *trust.Statement,
			now *trust.Content) {
			delete(now.Gates, "day.gate.yaml")
		}, "gates: day.gate.yaml was taken out"},
		{"the statement edited with it", func(_ *trust.Pins, s *trust.Statement, now *trust.Content) {
			s.Protected, now.Protected = nil, nil
		}, "signature does not hold"},
		{"a statement of another workspace", func(_ *trust.Pins, s *trust.Statement,
			_ *trust.Content) {
			s.Workspace = "other"
		}, "signature does not hold"},
		{"dated anew", func(_ *trust.Pins, s *trust.Statement, _ *trust.Content) { s.At = s.At.Add(time.Hour) },
			"signature does not hold"},
	} {
		dir := t.TempDir()
		if _, err := trust.Sign(signer(t, 'a'), dir, "ws", content(), at); err != nil {
			t.Fatal(err)
		}
		s, err := trust.Read(dir)
		if err != nil {
			t.Fatal(err)
		}
		p := &trust.Pins{Trustees: []string{ssh.FingerprintSHA256(signer(t, 'a').PublicKey())}}
		now := content()
		tt.change(p, s, &now)
		err = p.Check(s, "ws", now)
		if (err == nil) != (tt.want == "") || err != nil &&
			(!errors.Is(err, trust.ErrUntrusted) || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if tt.name == "as signed" {
			if err := p.Check(s, "other", now); !errors.Is(err, trust.ErrUntrusted) {
				t.Errorf("in another workspace: %v", err)
			}
			if err := p.Check(nil, "ws", now); !errors.Is(err, trust.ErrUntrusted) {
				t.Errorf("no statement: %v", err)
			}
		}
	}
}

// TestText: nothing of a content can run into something else.
func TestText(t *testing.T) {
	seen := map[string]int{}
	for i, c := range []trust.Content{
		content(), {}, {Protected: []string{"a", "b"}}, {Protected: []string{"ab"}},
		{Protected: []string{"a"}, Gates: map[string]string{"b": ""}}, {Gates: map[string]string{"a": "b"}},
		{Gates: map[string]string{"ab": ""}},
		{People: []trust.Person{{ID: "a", Keys: []string{"b"}}}}, {People: []trust.Person{{ID: "a"}, {ID: "b"}}},
		{People: []trust.Person{{ID: "a", Keys: []string{"b", ""}}}},
	} {
		s := trust.Statement{Content: c}
		if j, taken := seen[string(s.Text())]; taken {
			t.Errorf("contents %d and %d sign the same text", i, j)
		}
		seen[string(s.Text())] = i
	}
}

// TestPins: pins are of a folder, are found through a link to it, and are the account's own.
func TestPins(t *testing.T) {
	home, ws := t.TempDir(), t.TempDir()
	p, err := trust.Load(home, ws)
	if err != nil || len(p.Trustees) > 0 {
		t.Fatal(p, err)
	}
	p.Workspace, p.Trustees = "ws", []string{"SHA256:x"}
	if err := p.Save(); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(ws, link); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{ws, link} {
		if p, err := trust.Load(home, dir); err != nil || p.Workspace != "ws" || len(p.Trustees) != 1 {
			t.Errorf("%s: %+v, %v", dir, p, err)
		}
	}
	if p, err := trust.Load(home, t.TempDir()); err != nil || p.Workspace != "" {
		t.Errorf("another folder: %+v, %v", p, err)
	}
	files, err := filepath.Glob(filepath.Join(home, "workspaces", "*.json"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	if runtime.GOOS != "windows" {
		if err := os.Chmod(files[0], 0o666); err != nil {
			t.Fatal(err)
		}
		if _, err := trust.Load(home, ws); !errors.Is(err, trust.ErrForeign) {
			t.Errorf("pins that anybody may write: %v", err)
		}
		_ = os.Chmod(files[0], 0o600)
	}
	if err := p.Forget(); err != nil {
		t.Fatal(err)
	}
	if p, err := trust.Load(home, ws); err != nil || p.Workspace != "" {
		t.Errorf("forgotten: %+v, %v", p, err)
	}
}

// TestKey: an account's key is made once, and is nobody else's to read.
func TestKey(t *testing.T) {
	home := t.TempDir()
	one, err := trust.Key(home, "ws")
	if err != nil {
		t.Fatal(err)
	}
	two, err := trust.Key(home, "ws")
	if err != nil || !bytes.Equal(one, two) {
		t.Errorf("another key the second time: %v", err)
	}
	if other, err := trust.Key(home, "other"); err != nil || bytes.Equal(one, other) {
		t.Errorf("one key for two workspaces: %v", err)
	}
	name := filepath.Join(home, "keys", "ws.pem")
	if info, err := os.Stat(name); err != nil || runtime.GOOS != "windows" && info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info, err)
	}
	if runtime.GOOS != "windows" {
		_ = os.Chmod(name, 0o644)
		if _, err := trust.Key(home, "ws"); err == nil || !strings.Contains(err.Error(), "others may read") {
			t.Errorf("a key that others may read: %v", err)
		}
	}
	if err := os.WriteFile(name, []byte("hello"), 0o600); err != nil {
		t.Fatal(err)
	}
	_ = os.Chmod(name, 0o600)
	if _, err := trust.Key(home, "ws"); err == nil || !strings.Contains(err.Error(), "not a PEM") {
		t.Errorf("a key that is none: %v", err)
	}
}

// FuzzParse: whatever stands in a statement's file, it is an error or a statement that
// says something to check.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"trust":1,"workspace":"w","people":[{"id":"person/a","keys":["k"]}],"gates":{"a":"b"}}`))
	f.Add([]byte(`{"trust":2}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := trust.Parse("x", data)
		if err == nil && (len(s.Text()) == 0 || (&trust.Pins{}).Check(s, s.Workspace, s.Content) == nil) {
			t.Fatal("taken without a trustee")
		}
	})
}

// TestHome: the folder is the same whether the account's home is in the environment or not, as under a timer.
func TestHome(t *testing.T) {
	u, err := user.Current()
	if err != nil || runtime.GOOS == "windows" {
		t.Fatalf("this test needs an account with a home: %v", err)
	}
	t.Setenv(trust.HomeVariable, "")
	t.Setenv("XDG_CONFIG_HOME", "")
	t.Setenv("HOME", u.HomeDir)
	want, err := trust.Home()
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("HOME", "")
	if got, err := trust.Home(); got != want || err != nil {
		t.Errorf("without HOME %q, %v; with it %q", got, err, want)
	}
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	if got, err := trust.Home(); got != filepath.Join(dir, "clipfence") || err != nil {
		t.Errorf("%q, %v; want it in %s", got, err, dir)
	}
}
