package sshsig_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/kept"
	"clipfence/internal/sshsig"
)

// outer and inner are what a signature is made of (PROTOCOL.sshsig), once more.
type outer struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	HashAlg   string
	Signature []byte
}

// TestKeptSignatures: what is said of signatures that somebody bent, field by field.
func TestKeptSignatures(t *testing.T) {
	signer := func(letter byte) ssh.Signer {
		s, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{letter}, 32)))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	ann, bo := signer('a'), signer('b')
	kept.Same(t, 400, func(i int) (string, string) {
		r := rand.New(rand.NewPCG(uint64(i), 23))
		pick := func(of ...string) string { return of[r.IntN(len(of))] }
		armored, err := sshsig.Sign(ann, "ask@test", []byte("open"))
		if err != nil {
			t.Error(err)
		}
		p, _ := pem.Decode([]byte(armored))
		var o outer
		if err := ssh.Unmarshal(p.Bytes[len("SSHSIG"):], &o); err != nil {
			t.Error(err)
		}
		var sig ssh.Signature
		if err := ssh.Unmarshal(o.Signature, &sig); err != nil {
			t.Error(err)
		}
		switch r.IntN(10) {
		case 0:
			o.Version = uint32(r.IntN(3))
		case 1:
			o.PublicKey = [][]byte{bo.PublicKey().Marshal(), nil, o.PublicKey[:9]}[r.IntN(3)]
		case 2:
			o.Namespace = pick("", "ask@tests", "file")
		case 3:
			o.Reserved = "more"
		case 4:
			o.HashAlg = pick("sha256", "sha512", "sha1", "")
		case 5:
			sig.Format = pick(ssh.KeyAlgoRSA, "ssh-dss", "rsa-sha2-512", "")
		case 6:
			sig.Rest = [][]byte{{1}, {1, 0, 0, 0, 0}, {0, 0, 0, 0, 1}}[r.IntN(3)]
		case 7:
			sig.Blob = bytes.Clone(sig.Blob)
			sig.Blob[r.IntN(len(sig.Blob))] ^= 1
		}
		o.Signature = ssh.Marshal(&sig)
		if r.IntN(20) == 0 {
			o.Signature = o.Signature[:r.IntN(len(o.Signature))]
		}
		b := append([]byte(pick("SSHSIG", "SSHSIG", "SSHSIG", "SSHSIG", "SSHSIH")), ssh.Marshal(o)...)
		if r.IntN(10) == 0 {
			b = append(b, 0)
		}
		kind := pick("SSH SIGNATURE", "SSH SIGNATURE", "SSH SIGNATURE", "SSH SIGNATURE", "SIGNATURE")
		text := string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: b}))
		if r.IntN(12) == 0 {
			text = pick("before\n"+text, text+"after", strings.TrimSpace(text), text[:len(text)/2])
		}
		purpose := pick("ask@test", "ask@test", "ask@test", "file")
		got, err := sshsig.Verify(text, purpose, []byte(pick("open", "open", "close")))
		if err != nil {
			return fmt.Sprint(i), err.Error()
		}
		return fmt.Sprint(i), ssh.FingerprintSHA256(got)
	})
}

// TestKeptListed: what is said of lines of listed keys, and what they are good for.
func TestKeptListed(t *testing.T) {
	key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIqI4910CfGV/VLbLTy6XXLKZwm/HZQSG/N0iAG0D29c ann"
	kept.Same(t, 300, func(i int) (string, string) {
		r := rand.New(rand.NewPCG(uint64(i), 29))
		pick := func(of ...string) string { return of[r.IntN(len(of))] }
		var options []string
		for range r.IntN(4) {
			options = append(options, pick(`namespaces="ask@test"`, `namespaces="ask@*,file"`, `namespaces="a?k@test"`,
				`namespaces="*"`, `namespaces=""`, `NAMESPACES="file"`, `expiry-time="20260101Z"`,
				`valid-before="202601011200Z"`, `valid-before="20251231235959Z"`, `valid-after="20250101Z"`,
				`valid-after="20260601Z"`, `valid-after="2025"`, `expiry-time="today"`, `no-pty`, `cert-authority`))
		}
		line := strings.TrimSpace(strings.Join(options, ",") + " " + key)
		if r.IntN(12) == 0 {
			line = pick(line+"\n"+key, line[:len(line)/2], "", "# "+line, line+"\n\n", "ssh-dss AAAA")
		}
		l, err := sshsig.ParseListed(line)
		if err != nil {
			return fmt.Sprint(i), err.Error()
		}
		var out strings.Builder
		fmt.Fprintf(&out, "%s %v %s %s\n", ssh.FingerprintSHA256(l.Key), l.Namespaces, l.After.UTC(), l.Till.UTC())
		for _, name := range []string{"ask@test", "ask@", "file", "", "ask@test.more", "axk@test"} {
			for _, at := range []string{"2024-12-31T23:59:59Z", "2025-01-01T00:00:00Z", "2025-12-31T23:59:58Z",
				"2025-12-31T23:59:59Z", "2026-01-01T00:00:00Z", "2026-01-01T12:00:00Z", "2026-06-01T00:00:00Z"} {
				when, err := time.Parse(time.RFC3339, at)
				if err != nil {
					t.Error(err)
				}
				fmt.Fprintf(&out, "%s %s: %v\n", name, at, l.Allows(name, when))
			}
		}
		return fmt.Sprint(i), out.String()
	})
}
