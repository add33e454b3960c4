package sshsig_test

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/sshsig"
)

// TestListed: the options of a listed key are kept, or the key is refused.
func TestListed(t *testing.T) {
	_, k, _ := ed25519.GenerateKey(rand.Reader)
	s, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey())))
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for _, tt := range []struct{ options, parse, use string }{
		{"", "", ""},
		{`namespaces="ask@clipfence,answer@clipfence"`, "", ""},
		{`namespaces="*@clipfence"`, "", ""},
		{`namespaces="as?@clipfence"`, "", ""},
		{`namespaces="*k@*p*"`, "", ""},
		{`namespaces="*@git"`, "", "it is listed for *@git"},
		{`namespaces="ask@clipfence?"`, "", "it is listed for"},
		{`namespaces="*git*"`, "", "it is listed for"},
		{`namespaces="file,git"`, "", "it is listed for file, git"},
		{`namespaces=""`, "", "it is listed for"},
		{`expiry-time="20261126Z"`, "", "it expired at 2026-11-26T00:00:00Z"},
		{`expiry-time="20261127Z"`, "", ""},
		{`valid-before="202611261200Z"`, "", "it expired"},
		{`valid-before="20261126120001Z"`, "", ""},
		{`valid-before="20271126Z",expiry-time="20261125Z"`, "", "it expired"},
		{`expiry-time="20261125Z",valid-before="20271126Z"`, "", "it expired"},
		{`valid-after="20261127Z"`, "", "it is listed from"},
		{`valid-after="20261126Z"`, "", ""},
		{`expiry-time="soon"`, "is not YYYYMMDD", ""},
		{`expiry-time="20261399Z"`, "month out of range", ""},
		{`restrict`, `option "restrict" is not understood`, ""},
		{`cert-authority`, `option "cert-authority" is not understood`, ""},
		{`verify-required`, "is not understood", ""},
	} {
		l, err := sshsig.ParseListed(strings.TrimSpace(tt.options + " " + line + " ann@ternhaven"))
		if (err == nil) != (tt.parse == "") || err != nil && !strings.Contains(err.Error(), tt.parse) {
			t.Errorf("%s: %v, want %q", tt.options, err, tt.parse)
			continue
		}
		if err != nil {
			continue
		}
		if err := l.Allows("ask@clipfence", at); (err == nil) != (tt.use == "") || err != nil &&
			(!errors.Is(err, sshsig.ErrListed) || !strings.Contains(err.Error(), tt.use)) {
			t.Errorf("%s: %v, want %q", tt.options, err, tt.use)
		}
	}
	cert := &ssh.Certificate{Key: s.PublicKey(), CertType: ssh.UserCert,
		ValidPrincipals: []string{"ann"}, ValidBefore: ssh.CertTimeInfinity}
	if err := cert.SignCert(rand.Reader, s); err != nil {
		t.Fatal(err)
	}
	l := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(cert)))
	if _, err := sshsig.ParseListed(l); err == nil || !strings.Contains(err.Error(), "list the key itself") {
		t.Errorf("a certificate: %v", err)
	}
	for _, bad := range []string{"", "hello", line + "\n" + line} {
		if _, err := sshsig.ParseListed(bad); err == nil {
			t.Errorf("%q is taken for a key", bad)
		}
	}
}

// plain hides that a key can choose its algorithm.
type plain struct{ ssh.Signer }

// TestSHA1: an RSA key that can sign with SHA-1 only signs nothing, and nobody takes such a
// signature.
func TestSHA1(t *testing.T) {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := sshsig.Sign(plain{s}, "n", []byte("m")); err == nil || !strings.Contains(err.Error(), "SHA-1 only") {
		t.Errorf("signed: %v", err)
	}
	h := sha512.Sum512([]byte("m"))
	sig, err := s.(ssh.AlgorithmSigner).SignWithAlgorithm(rand.Reader, signedData("n", h[:]), ssh.KeyAlgoRSA)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := sshsig.Verify(armor(s.PublicKey(), "n", sig), "n", []byte("m")); !errors.Is(err,
		sshsig.ErrSignature) || !strings.Contains(err.Error(), "SHA-1") {
		t.Errorf("taken: %v", err)
	}
}

// liar signs something else than it is told to, or with another key.
type liar struct {
	ssh.Signer
	key ssh.PublicKey
}

func (l liar) PublicKey() ssh.PublicKey { return l.key }

// TestSignChecksItself: a signature that does not hold is never given out.
func TestSignChecksItself(t *testing.T) {
	_, one, _ := ed25519.GenerateKey(rand.Reader)
	_, two, _ := ed25519.GenerateKey(rand.Reader)
	a, _ := ssh.NewSignerFromKey(one)
	b, _ := ssh.NewSignerFromKey(two)
	if sig, err := sshsig.Sign(liar{a, b.PublicKey()}, "n", []byte("m")); !errors.Is(err, sshsig.ErrSignature) {
		t.Errorf("%s, %v", sig, err)
	}
}

func signedData(namespace string, hash []byte) []byte {
	return append([]byte("SSHSIG"), ssh.Marshal(struct {
		Namespace, Reserved, Alg string
		Hash                     []byte
	}{namespace, "", "sha512", hash})...)
}

func armor(key ssh.PublicKey, namespace string, sig *ssh.Signature) string {
	blob := ssh.Marshal(struct {
		Version                  uint32
		Key                      []byte
		Namespace, Reserved, Alg string
		Sig                      []byte
	}{1, key.Marshal(), namespace, "", "sha512", ssh.Marshal(sig)})
	return string(pem.EncodeToMemory(&pem.Block{Type: "SSH SIGNATURE", Bytes: append([]byte("SSHSIG"), blob...)}))
}

// security is a security key in software, made as OpenSSH, PROTOCOL.u2f, says: what it
// signs is the hash of the application, flags, a counter and the hash of the message.
type security struct {
	key   ed25519.PrivateKey
	pub   ssh.PublicKey
	flags byte
}

func newSecurity(t *testing.T, flags byte) *security {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	wire := ssh.Marshal(struct {
		Name string
		Key  []byte
		App  string
	}{"sk-ssh-ed25519@openssh.com", pub, "ssh:"})
	p, err := ssh.ParsePublicKey(wire)
	if err != nil {
		t.Fatal(err)
	}
	return &security{key, p, flags}
}

func (s *security) PublicKey() ssh.PublicKey { return s.pub }

func (s *security) Sign(_ io.Reader, data []byte) (*ssh.Signature, error) {
	app, msg := sha256.Sum256([]byte("ssh:")), sha256.Sum256(data)
	rest := binary.BigEndian.AppendUint32([]byte{s.flags}, 7)
	sig, err := s.key.Sign(nil, bytes.Join([][]byte{app[:], rest, msg[:]}, nil), crypto.Hash(0))
	return &ssh.Signature{Format: "sk-ssh-ed25519@openssh.com", Blob: sig, Rest: rest}, err
}

// TestSecurityKey: a signature of a security key is taken, by us and by ssh-keygen, and one
// that nobody touched the key for is not.
func TestSecurityKey(t *testing.T) {
	dir := t.TempDir()
	s := newSecurity(t, 1)
	sig, err := sshsig.Sign(s, "answer@test", []byte("hello\n"))
	if err != nil {
		t.Fatal(err)
	}
	for f, text := range map[string]string{"sig": sig, "allowed": "ann " + string(ssh.MarshalAuthorizedKey(s.pub))} {
		if err := os.WriteFile(filepath.Join(dir, f), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	verify := exec.Command("ssh-keygen", "-Y", "verify", "-f", filepath.Join(dir, "allowed"), "-I", "ann", "-n",
		"answer@test", "-s", filepath.Join(dir, "sig"))
	verify.Stdin = strings.NewReader("hello\n")
	if out, err := verify.CombinedOutput(); err != nil {
		t.Errorf("ssh-keygen does not take it: %v\n%s", err, out)
	}
	for _, flags := range []byte{0, 4} {
		if _, err := sshsig.Sign(newSecurity(t, flags), "answer@test", []byte("x")); !errors.Is(err,
			sshsig.ErrSignature) || !strings.Contains(err.Error(), "touched") {
			t.Errorf("flags %d: %v", flags, err)
		}
	}
}

// FuzzListed: no line makes the reader fail, and what it takes has a key.
func FuzzListed(f *testing.F) {
	f.Add(`namespaces="a,b" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0yVb7kZ4o0Wl5m0f7l9H7p4j1cK8v9v8Qv2Q3F3w5l x`)
	f.Add(`expiry-time="2026" ssh-rsa AAAA`)
	f.Fuzz(func(t *testing.T, line string) {
		if l, err := sshsig.ParseListed(line); err == nil && l.Key == nil {
			t.Fatal("taken without a key")
		}
	})
}

// TestDSA: such a key signs with SHA-1, so it is none.
func TestDSA(t *testing.T) {
	wire := ssh.Marshal(struct {
		Name       string
		P, Q, G, Y *big.Int
	}{"ssh-dss", new(big.Int).Lsh(big.NewInt(1), 1023), new(big.Int).Lsh(big.NewInt(1), 159), big.NewInt(2),
		big.NewInt(4)})
	_, err := sshsig.ParseListed("ssh-dss " + base64.StdEncoding.EncodeToString(wire))
	if err == nil || !strings.Contains(err.Error(), "SHA-1") {
		t.Errorf("a DSA key: %v", err)
	}
}
