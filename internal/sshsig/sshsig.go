// Package sshsig signs and verifies with SSH keys, in OpenSSH's file-signature
// format, so that who asked and who approved is proven by a key and anybody can
// check it with ssh-keygen -Y verify.
//
// Source: OpenSSH, PROTOCOL.sshsig.
package sshsig

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// ErrSignature: the signature is not one of this message by this key.
var ErrSignature = errors.New("signature does not hold")

// userPresent is the flag of a security key's signature that says somebody touched it
// (OpenSSH, PROTOCOL.u2f).
const userPresent = 1

// algoDSA is OpenSSH's name of DSA, which signs with SHA-1.
const algoDSA = "ssh-dss"

const (
	magic   = "SSHSIG"
	hashAlg = "sha512"
	pemType = "SSH SIGNATURE"
)

// blob is the outer structure, behind the magic.
type blob struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	HashAlg   string
	Signature []byte
}

// signed is what the key signs, behind the magic.
type signed struct {
	Namespace string
	Reserved  string
	HashAlg   string
	Hash      []byte
}

func toSign(namespace string, message []byte) []byte {
	h := sha512.Sum512(message)
	return append([]byte(magic), ssh.Marshal(signed{namespace, "", hashAlg, h[:]})...)
}

// Sign signs a message for a purpose, the namespace, and returns the armored
// signature, which it has verified: a key that cannot sign well is found out here.
func Sign(s ssh.Signer, namespace string, message []byte) (string, error) {
	data := toSign(namespace, message)
	var sig *ssh.Signature
	var err error
	// RSA keys must not sign with SHA-1, their default (PROTOCOL.sshsig, section 3).
	if s.PublicKey().Type() == ssh.KeyAlgoRSA {
		as, ok := s.(ssh.AlgorithmSigner)
		if !ok {
			return "", fmt.Errorf("signing with %s: this key can sign with SHA-1 only, which nobody takes",
				ssh.FingerprintSHA256(s.PublicKey()))
		}
		sig, err = as.SignWithAlgorithm(rand.Reader, data, ssh.KeyAlgoRSASHA512)
	} else {
		sig, err = s.Sign(rand.Reader, data)
	}
	if err != nil {
		return "", fmt.Errorf("signing with %s: %w", ssh.FingerprintSHA256(s.PublicKey()), err)
	}
	b := blob{1, s.PublicKey().Marshal(), namespace, "", hashAlg, ssh.Marshal(sig)}
	armored := string(pem.EncodeToMemory(&pem.Block{Type: pemType, Bytes: append([]byte(magic), ssh.Marshal(b)...)}))
	if _, err := Verify(armored, namespace, message); err != nil { // whatever an agent gave back
		return "", fmt.Errorf("signing with %s: %w", ssh.FingerprintSHA256(s.PublicKey()), err)
	}
	return armored, nil
}

// Verify checks an armored signature and returns the key that made it. Whether
// that key may speak for anybody is the caller's to decide.
func Verify(armored, namespace string, message []byte) (ssh.PublicKey, error) {
	fail := func(why string) (ssh.PublicKey, error) { return nil, fmt.Errorf("%w: %s", ErrSignature, why) }
	p, _ := pem.Decode([]byte(armored))
	if p == nil || p.Type != pemType {
		return fail("it is not an armored SSH signature")
	}
	rest, ok := bytes.CutPrefix(p.Bytes, []byte(magic))
	if !ok {
		return fail("it does not begin with SSHSIG")
	}
	var b blob
	if err := ssh.Unmarshal(rest, &b); err != nil {
		return fail(err.Error())
	}
	switch {
	case b.Version != 1:
		return fail(fmt.Sprintf("version %d is not known", b.Version))
	case b.Namespace != namespace:
		return fail(fmt.Sprintf("it was made for %q, not for %q", b.Namespace, namespace))
	case b.HashAlg != hashAlg:
		return fail(fmt.Sprintf("hash %q is not taken here", b.HashAlg))
	}
	key, err := ssh.ParsePublicKey(b.PublicKey)
	if err != nil {
		return fail(err.Error())
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal(b.Signature, &sig); err != nil {
		return fail(err.Error())
	}
	switch {
	case sig.Format == ssh.KeyAlgoRSA || sig.Format == algoDSA:
		return fail("it uses SHA-1")
	case strings.HasPrefix(key.Type(), "sk-") && (len(sig.Rest) != 5 || sig.Rest[0]&userPresent == 0):
		return fail("nobody touched the security key")
	case !strings.HasPrefix(key.Type(), "sk-") && len(sig.Rest) > 0:
		return fail("something follows it")
	}
	if err := key.Verify(toSign(namespace, message), &sig); err != nil {
		return fail("the message is not the one that was signed")
	}
	return key, nil
}
