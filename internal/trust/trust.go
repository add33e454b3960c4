// Package trust says whose word counts, from outside the workspace.
//
// Whoever can write a workspace could name their own key under people, widen a gate, or take
// a protected identity off its list. So these three count only when a trustee signed them: a
// [Statement] of what they are stands in the workspace, and the trustee's fingerprint is
// pinned in a folder of the operating system's account, where the workspace cannot reach
// ([Pins]). There, too, lie the key that signs the ledger and what is known of it.
package trust

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"clipfence/internal/sshsig"
)

// File is the name of a workspace's statement, and Namespace the purpose it is signed for.
const (
	File      = "clipfence.trust.json"
	Namespace = "trust@clipfence"
)

// HomeVariable names the folder in place of the account's own.
const HomeVariable = "CLIPFENCE_HOME"

// Errors that callers decide on.
var (
	// ErrUntrusted: what the workspace says of people, gates or protected identities was not
	// signed by a trustee.
	ErrUntrusted = errors.New("not signed by a trustee")
	// ErrHome: the folder of keys and pins could not be read or written.
	ErrHome = errors.New("the folder for keys and pins failed (another one: " + HomeVariable + ")")
)

// Home returns the folder that holds pins and keys: CLIPFENCE_HOME, or clipfence in the
// account's folder for configurations. What is started by a timer or a service has no HOME, and is the
// same account all the same: its home is looked up then.
func Home() (string, error) {
	if dir := os.Getenv(HomeVariable); dir != "" {
		return filepath.Abs(dir)
	}
	dir, err := os.UserConfigDir()
	if err != nil && os.Getenv("HOME") == "" {
		if u, e := user.Current(); e == nil && filepath.IsAbs(u.HomeDir) {
			switch runtime.GOOS { // as os.UserConfigDir has it
			case "windows":
			case "darwin":
				dir, err = filepath.Join(u.HomeDir, "Library", "Application Support"), nil
			default:
				dir, err = filepath.Join(u.HomeDir, ".config"), nil
			}
		}
	}
	if err != nil {
		return "", fmt.Errorf("no folder of this account for keys and pins (%w); name one in %s", err, HomeVariable)
	}
	return filepath.Join(dir, "clipfence"), nil
}

// Pins are what this account knows of a workspace.
type Pins struct {
	Folder    string   `json:"folder"`    // the workspace's, absolute
	Workspace string   `json:"workspace"` // the id of its store
	Ledger    []string `json:"ledger"`    // public keys that may sign its ledger, base64
	Trustees  []string `json:"trustees"`  // fingerprints of SSH keys, SHA256:…
	// Up to here the ledger's signatures were checked by this account.
	Checked int    `json:"checked,omitempty"`
	Hash    string `json:"checked_hash,omitempty"`

	file string
}

// Load reads the pins of a workspace's folder; there may be none.
func Load(home, folder string) (*Pins, error) {
	if real, err := filepath.EvalSymlinks(folder); err == nil {
		folder = real
	}
	sum := sha256.Sum256([]byte(folder))
	p := &Pins{Folder: folder, file: filepath.Join(home, "workspaces", hex.EncodeToString(sum[:8])+".json")}
	data, err := os.ReadFile(p.file)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = Own(p.file)
	}
	if err == nil {
		err = json.Unmarshal(data, p)
	}
	if err != nil {
		return p, fmt.Errorf("%w: pins of %s: %w", ErrHome, folder, err)
	}
	if p.Folder != folder {
		return p, fmt.Errorf("pins of %s: %s is about %s", folder, p.file, p.Folder)
	}
	return p, nil
}

// Save writes the pins.
func (p *Pins) Save() error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	if err := write(p.file, append(data, '\n')); err != nil {
		return fmt.Errorf("%w: %w", ErrHome, err)
	}
	return nil
}

// Forget takes the pins away.
func (p *Pins) Forget() error {
	if err := os.Remove(p.file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// write replaces a file as a whole, for this account alone.
func write(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

// Key returns the key of this account that signs a workspace's ledger, and makes it where
// there is none. It lies outside of the workspace.
func Key(home, workspace string) (ed25519.PrivateKey, error) {
	name := filepath.Join(home, "keys", workspace+".pem")
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		if err := place(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrHome, err)
		}
		return key, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrHome, err)
	}
	if info, err := os.Stat(name); err != nil || runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, errors.Join(fmt.Errorf("ledger key %s: others may read or write it; chmod 600", name), err)
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("ledger key %s: not a PEM file", name)
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := k.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, errors.Join(fmt.Errorf("ledger key %s: not an Ed25519 key", name), err)
	}
	return key, nil
}

// place writes a new file; one that another process made meanwhile stays, and is an error
// that trying again mends.
func place(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Link(f.Name(), name) // never over another
}

// A Person is somebody who may sign, and the lines of their keys.
type Person struct {
	ID   string   `json:"id"`
	Keys []string `json:"keys"`
}

// A Content is what counts only when it is signed.
type Content struct {
	People    []Person          `json:"people"`
	Protected []string          `json:"protected"`
	Gates     map[string]string `json:"gates"` // file name -> SHA-256 of it, in hex
}

// A Statement is a content, signed.
type Statement struct {
	Version   int       `json:"trust"`
	Workspace string    `json:"workspace"`
	At        time.Time `json:"at"`
	Content
	Signature string `json:"signature"`
}

// Text is what is signed: strings one after the other, each with its length in front
// (RFC 4251, section 5, string); a list is its length and its items.
func (s *Statement) Text() []byte {
	var out []byte
	put := func(parts ...string) {
		for _, p := range parts {
			out = append(binary.BigEndian.AppendUint32(out, uint32(len(p))), p...)
		}
	}
	put("clipfence trust 1", s.Workspace, strconv.FormatInt(s.At.UnixMilli(), 10), strconv.Itoa(len(s.People)))
	for _, p := range s.People {
		put(p.ID, strconv.Itoa(len(p.Keys)))
		put(p.Keys...)
	}
	put(strconv.Itoa(len(s.Protected)))
	put(s.Protected...)
	put(strconv.Itoa(len(s.Gates)))
	for _, name := range slices.Sorted(maps.Keys(s.Gates)) {
		put(name, s.Gates[name])
	}
	return out
}

// Read reads a workspace's statement; nil where there is none.
func Read(folder string) (*Statement, error) {
	name := filepath.Join(folder, File)
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return Parse(name, data)
}

// Parse reads a statement.
func Parse(name string, data []byte) (*Statement, error) {
	s := &Statement{}
	if err := json.Unmarshal(data, s); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if s.Version != 1 {
		return nil, fmt.Errorf("%s: trust: format %d is not known to this program (want 1)", name, s.Version)
	}
	return s, nil
}

// Sign signs what is said of a workspace and writes it there.
func Sign(k ssh.Signer, folder, workspace string, c Content, at time.Time) (*Statement, error) {
	s := &Statement{Version: 1, Workspace: workspace, At: at.UTC().Truncate(time.Millisecond), Content: c}
	var err error
	if s.Signature, err = sshsig.Sign(k, Namespace, s.Text()); err != nil {
		return nil, err
	}
	data, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, err
	}
	return s, write(filepath.Join(folder, File), append(data, '\n'))
}

// Check reports whether what a workspace says now is what a pinned trustee signed: nil, or
// [ErrUntrusted] with every difference.
func (p *Pins) Check(s *Statement, workspace string, now Content) error {
	no := func(format string, args ...any) error {
		return fmt.Errorf("people, gates and protected identities of this workspace: %w: %s", ErrUntrusted,
			fmt.Sprintf(format, args...))
	}
	if s == nil {
		return no("there is no %s; a trustee makes it with: clipfence trust sign", File)
	}
	key, err := sshsig.Verify(s.Signature, Namespace, s.Text())
	if err != nil {
		return no("%s: %v", File, err)
	}
	if print := ssh.FingerprintSHA256(key); !slices.Contains(p.Trustees, print) {
		return no("%s is signed by %s, which is not pinned on this account", File, print)
	}
	if s.Workspace != workspace {
		return no("%s is of another workspace", File)
	}
	if d := Differences(s.Content, now); len(d) > 0 {
		return no("since %s: %s", s.At.Format(time.RFC3339), joined(d))
	}
	return nil
}

func joined(d []string) string {
	if len(d) > 5 {
		return fmt.Sprintf("%s; and %d more", joined(d[:5]), len(d)-5)
	}
	out := ""
	for i, s := range d {
		if i > 0 {
			out += "; "
		}
		out += s
	}
	return out
}

// Differences says what differs between what was signed and what stands now.
func Differences(was, now Content) []string {
	var out []string
	keys := func(ps []Person) map[string][]string {
		m := map[string][]string{}
		for _, p := range ps {
			m[p.ID] = append(m[p.ID], p.Keys...)
		}
		return m
	}
	a, b := keys(was.People), keys(now.People)
	for _, id := range slices.Sorted(maps.Keys(b)) {
		switch old, known := a[id]; {
		case !known:
			out = append(out, "people: "+id+" was added")
		case !slices.Equal(old, b[id]):
			out = append(out, "people: the keys of "+id+" were changed")
		}
	}
	for _, id := range slices.Sorted(maps.Keys(a)) {
		if _, still := b[id]; !still {
			out = append(out, "people: "+id+" was taken out")
		}
	}
	for _, p := range now.Protected {
		if !slices.Contains(was.Protected, p) {
			out = append(out, "protected: "+p+" was added")
		}
	}
	for _, p := range was.Protected {
		if !slices.Contains(now.Protected, p) {
			out = append(out, "protected: "+p+" was taken out")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now.Gates)) {
		switch old, known := was.Gates[name]; {
		case !known:
			out = append(out, "gates: "+name+" was added")
		case old != now.Gates[name]:
			out = append(out, "gates: "+name+" was changed")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(was.Gates)) {
		if _, still := now.Gates[name]; !still {
			out = append(out, "gates: "+name+" was taken out")
		}
	}
	return out
}
