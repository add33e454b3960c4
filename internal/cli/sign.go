package cli

import (
	"errors"
	"fmt"
	"net"
	"os"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/term"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/sshsig"
)

// The purposes that signatures are made for; one of the one purpose is worth
// nothing for the other.
const (
	askNamespace    = "ask@clipfence"
	answerNamespace = "answer@clipfence"
)

// signer is a key that speaks for a person of clipfence.yaml.
type signer struct {
	ssh.Signer
	who model.ID
}

// person returns whose key a public key is.
func (w *workspace) person(key ssh.PublicKey) (model.ID, bool) {
	for _, p := range w.People {
		for _, text := range p.Keys {
			k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
			if err == nil && string(k.Marshal()) == string(key.Marshal()) {
				return p.ID, true
			}
		}
	}
	return model.ID{}, false
}

// signer finds a key that belongs to one of the people: in a file, or in the
// ssh-agent. Who somebody is follows from the key, never from a flag.
func (w *workspace) signer(file string) (*signer, func(), error) {
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
			if !isTerminal(w.app.in) {
				return nil, done, fmt.Errorf("key %s is locked by a passphrase; add it to your ssh-agent, or run this on a terminal", file)
			}
			fmt.Fprintf(w.app.err, "Passphrase of %s: ", file)
			pass, perr := term.ReadPassword(int(os.Stdin.Fd()))
			fmt.Fprintln(w.app.err)
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
			return nil, done, errors.New("no key to sign with: start an ssh-agent that holds yours (SSH_AUTH_SOCK), or name its file with --key")
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
	for _, s := range all {
		if who, ok := w.person(s.PublicKey()); ok {
			return &signer{s, who}, done, nil
		}
	}
	return nil, done, fmt.Errorf("none of %d keys belongs to one of the people in clipfence.yaml; add the public key there under people", len(all))
}

// proven checks every signature of a request against the keys of today: who asked,
// and each who answered.
func (w *workspace) proven(r *gate.Request) error {
	check := func(armored, namespace string, text []byte, who model.ID, what string) error {
		key, err := sshsig.Verify(armored, namespace, text)
		if err != nil {
			return fmt.Errorf("%w: request %s: %s by %s: %v", gate.ErrNotAllowed, r.ID, what, who, err)
		}
		if is, ok := w.person(key); !ok || is != who {
			return fmt.Errorf("%w: request %s: the key that signed the %s is not one of %s in clipfence.yaml", gate.ErrNotAllowed, r.ID, what, who)
		}
		return nil
	}
	if err := check(r.Signature, askNamespace, r.AskText(), r.By, "request"); err != nil {
		return err
	}
	yes := 0
	for _, a := range r.Answers {
		if err := check(a.Signature, answerNamespace, r.AnswerText(a), a.By, "answer"); err != nil {
			return err
		}
		if a.Yes {
			yes++
		}
	}
	if yes < r.Policy.Approvals {
		return fmt.Errorf("%w: request %s has %d of %d approvals", gate.ErrNotAllowed, r.ID, yes, r.Policy.Approvals)
	}
	return nil
}
