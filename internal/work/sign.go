package work

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/sshsig"
)

// The purposes that signatures are made for; one of the one purpose is worth
// nothing for the other.
const (
	askNamespace    = "ask@clipfence"
	answerNamespace = "answer@clipfence"
	waiveNamespace  = "waive@clipfence"
	decideNamespace = "decide@clipfence"
	ledgerNamespace = "ledger@clipfence"
)

// signer is a key that speaks for a person of clipfence.yaml. Its own methods are not
// hidden behind ours: an RSA key must be asked for SHA-2.
type signer struct {
	key ssh.Signer
	who model.ID
}

// person returns whose key a public key is, and why it is nobody's for that purpose at that
// time.
func (w *Workspace) person(key ssh.PublicKey, namespace string, at time.Time) (model.ID, error) {
	for _, p := range w.People {
		for _, text := range p.Keys {
			l, err := sshsig.ParseListed(text)
			if err != nil || !bytes.Equal(l.Key.Marshal(), key.Marshal()) {
				continue
			}
			return p.ID, l.Allows(namespace, at)
		}
	}
	return model.ID{}, fmt.Errorf("key %s belongs to none of the people in clipfence.yaml", ssh.FingerprintSHA256(key))
}

// signer finds a key that belongs to one of the people: in a file, or in the
// ssh-agent. Who somebody is follows from the key, never from a flag.
func (w *Workspace) signer(file, namespace string) (*signer, func(), error) {
	all, done, err := w.keys(file)
	if err != nil {
		return nil, done, err
	}
	var why error
	for _, s := range all {
		who, err := w.person(s.PublicKey(), namespace, w.Clock())
		if err == nil {
			return &signer{s, who}, done, nil
		}
		if why = err; !who.IsZero() { // a key of somebody, which may not be used for this
			return nil, done, fmt.Errorf("key of %s: %w", who, err)
		}
	}
	if len(all) == 1 {
		return nil, done, fmt.Errorf("%w; add the public key there under people", why)
	}
	return nil, done, fmt.Errorf("none of %d keys belongs to one of the people in clipfence.yaml; add the public "+
		"key there under people", len(all))
}

// keys returns the key in a file, or those of the ssh-agent.
func (w *Workspace) keys(file string) ([]ssh.Signer, func(), error) {
	done := func() {}
	var all []ssh.Signer
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, done, err
		}
		s, err := ssh.ParsePrivateKey(data)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			if w.Passphrase == nil {
				return nil, done,
					fmt.Errorf("key %s is locked by a passphrase; add it to your ssh-agent, or run this on a terminal",
						file)
			}
			pass, perr := w.Passphrase(file)
			if perr != nil {
				return nil, done, perr
			}
			s, err = ssh.ParsePrivateKeyWithPassphrase(data, pass)
		}
		if err != nil {
			return nil, done, fmt.Errorf("key %s: %w", file, err)
		}
		all = []ssh.Signer{s}
	} else {
		sock := os.Getenv("SSH_AUTH_SOCK")
		if sock == "" {
			return nil, done, errors.New("no key to sign with: start an ssh-agent that holds yours " +
				"(SSH_AUTH_SOCK), or name its file with --key")
		}
		conn, err := net.Dial("unix", sock)
		if err != nil {
			return nil, done, fmt.Errorf("ssh-agent: %w", err)
		}
		done = func() { _ = conn.Close() }
		if all, err = agent.NewClient(conn).Signers(); err != nil {
			return nil, done, fmt.Errorf("ssh-agent: %w", err)
		}
	}
	if len(all) == 0 {
		return nil, done, errors.New("the ssh-agent holds no key; add yours with ssh-add, or name its file with --key")
	}
	return all, done, nil
}

// proofs says whose keys the signatures of a request are by, as of the times they tell.
func (w *Workspace) proofs(r *gate.Request) (asked gate.Proof, answered []gate.Proof) {
	proof := func(armored, namespace string, text []byte, at time.Time) gate.Proof {
		key, err := sshsig.Verify(armored, namespace, text)
		if err != nil {
			return gate.Proof{}
		}
		who, err := w.person(key, namespace, at)
		if err != nil {
			return gate.Proof{}
		}
		return gate.Proof{By: who, Key: ssh.FingerprintSHA256(key)}
	}
	for _, a := range r.Answers {
		answered = append(answered, proof(a.Signature, answerNamespace, r.AnswerText(a), a.At))
	}
	return proof(r.Signature, askNamespace, r.AskText(), r.AskedAt), answered
}
