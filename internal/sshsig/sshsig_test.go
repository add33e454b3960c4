package sshsig_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/sshsig"
)

func keys(t *testing.T) map[string]crypto.PrivateKey {
	t.Helper()
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return map[string]crypto.PrivateKey{"ed25519": ed, "rsa": rs, "ecdsa": ec}
}

func TestSignAndVerify(t *testing.T) {
	for name, k := range keys(t) {
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		sig, err := sshsig.Sign(s, "ask@test", []byte("open the gate"))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		key, err := sshsig.Verify(sig, "ask@test", []byte("open the gate"))
		if err != nil || string(key.Marshal()) != string(s.PublicKey().Marshal()) {
			t.Errorf("%s: %v", name, err)
		}
		for what, bad := range map[string]func() error{
			"another message": func() error {
				_, err := sshsig.Verify(sig, "ask@test",
					[]byte("open the gates"))
				return err
			},
			"another purpose": func() error {
				_, err := sshsig.Verify(sig, "answer@test",
					[]byte("open the gate"))
				return err
			},
			"not a signature": func() error { _, err := sshsig.Verify("hello", "ask@test", nil); return err },
			"a broken armor":  func() error { _, err := sshsig.Verify(sig[:len(sig)/2], "ask@test", nil); return err },
			"a changed letter": func() error {
				_, err := sshsig.Verify(strings.Replace(sig, "U1NIU0lH", "U1NIU0lI", 1), "ask@test",
					[]byte("open the gate"))
				return err
			},
		} {
			if err := bad(); !errors.Is(err, sshsig.ErrSignature) {
				t.Errorf("%s: %s: %v", name, what, err)
			}
		}
	}
}

// TestOpenSSHAgrees has ssh-keygen check ours, and us check ssh-keygen's.
func TestOpenSSHAgrees(t *testing.T) {
	dir := t.TempDir()
	for name, k := range keys(t) {
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(k, "")
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(dir, name)
		msg := filepath.Join(dir, name+".msg")
		sig, err := sshsig.Sign(s, "ask@test", []byte("hello\n"))
		if err != nil {
			t.Fatal(err)
		}
		for f, text := range map[string]string{file: string(pem.EncodeToMemory(block)), msg: "hello\n", file +
			".sig": sig, file + ".allowed": "ann " + string(ssh.MarshalAuthorizedKey(s.PublicKey()))} {
			if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		verify := exec.Command("ssh-keygen", "-Y", "verify", "-f", file+".allowed", "-I", "ann", "-n", "ask@test",
			"-s", file+".sig")
		verify.Stdin = strings.NewReader("hello\n")
		if out, err := verify.CombinedOutput(); err != nil {
			t.Errorf("%s: ssh-keygen does not take ours: %v\n%s", name, err, out)
		}
		if out, err := exec.Command("ssh-keygen", "-Y", "sign", "-f", file, "-n", "ask@test",
			msg).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		theirs, _ := os.ReadFile(msg + ".sig")
		if _, err := sshsig.Verify(string(theirs), "ask@test", []byte("hello\n")); err != nil {
			t.Errorf("%s: we do not take ssh-keygen's: %v", name, err)
		}
	}
}

func FuzzVerify(f *testing.F) {
	_, k, _ := ed25519.GenerateKey(rand.Reader)
	s, _ := ssh.NewSignerFromKey(k)
	sig, _ := sshsig.Sign(s, "n", []byte("m"))
	p, _ := pem.Decode([]byte(sig))
	f.Add(p.Bytes)
	f.Fuzz(func(t *testing.T, b []byte) {
		armored := string(pem.EncodeToMemory(&pem.Block{Type: "SSH SIGNATURE", Bytes: b}))
		if key, err := sshsig.Verify(armored, "n", []byte("m")); err == nil && key == nil {
			t.Fatal("verified by no key")
		}
	})
}
