package work

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
	"clipfence/internal/ledger"
	"clipfence/internal/sshsig"
	"clipfence/internal/trust"
)

// TrustFile is the file of a workspace that a trustee signs.
const TrustFile = trust.File

// TrustState says whose word counts here, and whether what stands is what was signed.
type TrustState struct {
	Pins     *trust.Pins
	Now      trust.Content
	Unpinned bool  // no trustee is pinned on this account
	Bad      error // what stands is not what a trustee signed
}

// Trust holds what the workspace says against what a pinned trustee signed.
func (w *Workspace) Trust(ctx context.Context) (*TrustState, error) {
	p, err := w.pins()
	if err != nil {
		return nil, err
	}
	now, err := w.stands()
	if err != nil {
		return nil, err
	}
	note, bad := w.trusted(ctx)
	if note == "" && bad != nil && !errors.Is(bad, trust.ErrUntrusted) {
		return nil, bad
	}
	return &TrustState{Pins: p, Now: now, Unpinned: note != "", Bad: bad}, nil
}

// Pinned is what came of pinning a trustee, or of taking a pin away.
type Pinned struct {
	Fingerprint string
	Pins        *trust.Pins
	Already     bool
	Bad         error // what stands is not what a trustee signed
}

// Pin makes a trustee of whoever has a key, on this account: a public key file or a
// fingerprint; or takes that away.
func (w *Workspace) Pin(ctx context.Context, key string, add bool) (*Pinned, error) {
	print := key
	if !strings.HasPrefix(key, "SHA256:") {
		data, err := os.ReadFile(key)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%s is neither a file nor a fingerprint (SHA256:…)", key)
		}
		if err != nil {
			return nil, err
		}
		l, err := sshsig.ParseListed(strings.TrimSpace(string(data)))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		print = ssh.FingerprintSHA256(l.Key)
	}
	p, id, err := w.acquainted(ctx, trust.ErrUntrusted)
	if err != nil {
		return nil, err
	}
	has := slices.Contains(p.Trustees, print)
	switch {
	case add && has:
	case add:
		p.Workspace, p.Trustees = id, append(p.Trustees, print)
	case !has:
		return nil, fmt.Errorf("no trustee %s is pinned for %s", print, p.Folder)
	default:
		p.Trustees = slices.DeleteFunc(p.Trustees, func(f string) bool { return f == print })
	}
	if err := p.Save(); err != nil {
		return nil, err
	}
	_, bad := w.trusted(ctx)
	return &Pinned{print, p, add && has, bad}, nil
}

// ForgetTrust forgets everything that this account pinned for the workspace's folder, once
// agree has let it, and returns the folder.
func (w *Workspace) ForgetTrust(agree func(folder string) error) (string, error) {
	p, err := w.pins()
	if err == nil {
		err = agree(p.Folder)
	}
	if err != nil {
		return "", err
	}
	return p.Folder, p.Forget()
}

// SignedTrust is a trustee's signature.
type SignedTrust struct {
	By        string // fingerprint
	Signature *trust.Statement
	Pinned    bool // on this account
}

// SignTrust signs people, gates and protected identities as they stand, once agree has let
// it: it is told the key, what is signed, and how that differs from what was signed last.
func (w *Workspace) SignTrust(ctx context.Context, file string,
	agree func(by string, now trust.Content, since []string) error) (*SignedTrust, error) {
	now, err := w.stands()
	if err != nil {
		return nil, err
	}
	if _, err := w.policies(); err != nil { // nobody signs what cannot be read
		return nil, err
	}
	p, err := w.pins()
	if err != nil {
		return nil, err
	}
	all, done, err := w.keys(file)
	defer done()
	if err != nil {
		return nil, err
	}
	k := all[0]
	for _, s := range all {
		if slices.Contains(p.Trustees, ssh.FingerprintSHA256(s.PublicKey())) {
			k = s
		}
	}
	was, err := trust.Read(w.Dir)
	if err != nil {
		return nil, err
	}
	var since []string
	if was != nil {
		since = trust.Differences(was.Content, now)
	}
	print := ssh.FingerprintSHA256(k.PublicKey())
	if err := agree(print, now, since); err != nil {
		return nil, err
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return nil, err
	}
	s, err := trust.Sign(k, w.Dir, id, now, w.Clock())
	if err != nil {
		return nil, err
	}
	if err := w.ledger.Append(ctx, "trust.signed", map[string]any{"by": print, "content": now}); err != nil {
		return nil, damaged(err)
	}
	return &SignedTrust{print, s, slices.Contains(p.Trustees, print)}, nil
}

// Enrol makes this account's key one of the ledger's, by a person's word, once agree has let
// it. It returns the key and the person.
func (w *Workspace) Enrol(ctx context.Context, file string, agree func(who model.ID) error) (enrolled string,
	who model.ID, err error) {
	s, done, err := w.signer(file, ledgerNamespace)
	defer done()
	if err != nil {
		return "", who, err
	}
	if _, err := w.trusted(ctx); err != nil {
		return "", who, err
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return "", who, err
	}
	if err := agree(s.who); err != nil {
		return "", who, err
	}
	err = w.ledger.Enrol(ctx, id, s.who.String(), func(k ledger.KeyEntry) (string, error) {
		enrolled = k.Key
		return sshsig.Sign(s.key, ledgerNamespace, gate.KeyText(k.Workspace, k.Key, k.After, k.By))
	})
	return enrolled, s.who, damaged(err)
}

// pins reads what this account knows of the workspace.
func (w *Workspace) pins() (*trust.Pins, error) {
	home, err := trust.Home()
	if err != nil {
		return nil, err
	}
	return trust.Load(home, w.Dir)
}

// acquainted returns what this account knows of the workspace, and its id; an error of a
// kind where the store is another one than it knows.
func (w *Workspace) acquainted(ctx context.Context, kind error) (*trust.Pins, string, error) {
	p, err := w.pins()
	if err != nil {
		return nil, "", err
	}
	id, err := w.store.Workspace(ctx)
	if err == nil && p.Workspace != "" && p.Workspace != id {
		err = fmt.Errorf("%w: the store of %s is not the one that this account knows; where you began afresh "+
			"yourself: clipfence trust forget", kind, w.Dir)
	}
	return p, id, err
}

// stands returns what the workspace says now of people, gates and protected identities.
func (w *Workspace) stands() (trust.Content, error) {
	c := trust.Content{Protected: slices.Clone(w.Protected), Gates: map[string]string{}}
	for _, p := range w.People {
		c.People = append(c.People, trust.Person{ID: p.ID.String(), Keys: slices.Clone(p.Keys)})
	}
	names, err := filepath.Glob(filepath.Join(w.GateDir(), "*"+fencefile.GateSuffix))
	if err != nil {
		return c, err
	}
	for _, n := range names {
		data, err := os.ReadFile(n)
		if err != nil {
			return c, err
		}
		sum := sha256.Sum256(data)
		c.Gates[filepath.Base(n)] = hex.EncodeToString(sum[:])
	}
	return c, nil
}

// noTrustee is said wherever approvals matter.
const noTrustee = "No trustee is pinned on this account: whoever can write this workspace decides who may ask and " +
	"approve (clipfence trust --help)."

// trusted checks what the workspace says against what a pinned trustee signed. Where none is
// pinned, the note says so.
func (w *Workspace) trusted(ctx context.Context) (note string, err error) {
	p, id, err := w.acquainted(ctx, trust.ErrUntrusted)
	if err != nil {
		return "", err
	}
	if len(p.Trustees) == 0 {
		return noTrustee, nil
	}
	s, err := trust.Read(w.Dir)
	if err != nil {
		return "", err
	}
	now, err := w.stands()
	if err != nil {
		return "", err
	}
	return "", p.Check(s, id, now)
}

// ledgerKey returns the key of this account that signs the ledger.
func (w *Workspace) ledgerKey(ctx context.Context) (ed25519.PrivateKey, error) {
	home, err := trust.Home()
	if err != nil {
		return nil, err
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return nil, err
	}
	k, err := trust.Key(home, id)
	if errors.Is(err, fs.ErrExist) { // another process made it at the same moment
		k, err = trust.Key(home, id)
	}
	if err != nil {
		return nil, fmt.Errorf("the key that signs the ledger: %w", err)
	}
	return k, nil
}

// pinnedKeys holds the keys of a ledger against what this account knows. What it sees for
// the first time, signed by its own key, it pins.
func (w *Workspace) pinnedKeys(ctx context.Context, entries []ledger.Entry) error {
	p, id, err := w.acquainted(ctx, ledger.ErrBroken)
	if err != nil {
		return err
	}
	keys := ledger.Keys(entries)
	switch {
	case len(p.Ledger) > 0 && len(keys) == 0:
		return fmt.Errorf("%w: no entry is signed by the key that this account pinned for it", ledger.ErrBroken)
	case len(p.Ledger) > 0 && !slices.Contains(p.Ledger, keys[0]):
		return fmt.Errorf("%w: it is signed by %s, and this account pinned %s", ledger.ErrBroken, keys[0], p.Ledger[0])
	case len(p.Ledger) == 0 && len(keys) > 0:
		home, err := trust.Home()
		if err != nil {
			return err
		}
		if own, err := trust.Key(home, id); err == nil && ledger.Public(own) == keys[0] {
			p.Workspace, p.Ledger = id, []string{keys[0]}
			return p.Save()
		}
	case len(p.Ledger) > 0 && len(entries) >= p.Checked+checkEvery:
		last := entries[len(entries)-1]
		p.Checked, p.Hash = last.Number, last.Hash
		return p.Save()
	}
	return nil
}

// checkEvery is after how many further entries it is noted that their signatures hold.
const checkEvery = 100

// vouched checks a person's word for a further key of the ledger.
func (w *Workspace) vouched(ctx context.Context, k ledger.KeyEntry) error {
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return err
	}
	if k.Workspace != id {
		return errors.New("it was vouched for in another workspace")
	}
	key, err := sshsig.Verify(k.Signature, ledgerNamespace, gate.KeyText(k.Workspace, k.Key, k.After, k.By))
	if err != nil {
		return err
	}
	who, err := w.person(key, ledgerNamespace, time.Time{})
	if errors.Is(err, sshsig.ErrListed) { // it may have run out since
		err = nil
	}
	if err == nil && who.String() != k.By {
		err = fmt.Errorf("it is vouched for by %s, and signed by %s", k.By, who)
	}
	return err
}

// waiver returns the signature below a waiver; none where the workspace knows no keys.
func (w *Workspace) waiver(ctx context.Context, file, finding, reason string, until, at time.Time) (by model.ID,
	signature string, err error) {
	if len(w.People) == 0 && file == "" {
		return by, "", nil
	}
	if _, err := w.trusted(ctx); err != nil {
		return by, "", err
	}
	s, done, err := w.signer(file, waiveNamespace)
	defer done()
	if err != nil {
		return by, "", err
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return by, "", err
	}
	signature, err = sshsig.Sign(s.key, waiveNamespace, gate.WaiveText(id, finding, reason, s.who.String(), until, at))
	return s.who, signature, err
}

// waives reports why a stored waiver does not hold, or nil.
func (w *Workspace) waives(ctx context.Context, finding, reason, by string, until, at time.Time,
	signature string) error {
	if _, err := w.trusted(ctx); err != nil {
		return err
	}
	if signature == "" {
		if len(w.People) > 0 {
			return errors.New("it is not signed")
		}
		return nil
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return err
	}
	key, err := sshsig.Verify(signature, waiveNamespace, gate.WaiveText(id, finding, reason, by, until, at))
	if err != nil {
		return err
	}
	who, err := w.person(key, waiveNamespace, at)
	if err == nil && who.String() != by {
		err = fmt.Errorf("it is signed by %s, not by %s", who, by)
	}
	return err
}

// Prints returns the fingerprints of listed keys.
func Prints(lines []string) []string {
	var out []string
	for _, line := range lines {
		if l, err := sshsig.ParseListed(line); err == nil {
			out = append(out, ssh.FingerprintSHA256(l.Key))
		}
	}
	return out
}
