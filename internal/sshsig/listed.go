package sshsig

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// ErrListed: a listed key may not be used for that.
var ErrListed = errors.New("the key may not be used for that")

// A Listed key is a line as in an authorized_keys or allowed_signers file: a public key and
// what it is good for. An option that is not understood would be one that is not kept, so
// there is none.
//
// Source: sshd(8), "AUTHORIZED_KEYS FILE FORMAT", expiry-time; ssh-keygen(1), "ALLOWED
// SIGNERS", namespaces, valid-after and valid-before.
type Listed struct {
	Key         ssh.PublicKey
	Namespaces  []string // patterns with * and ?; none: every purpose
	After, Till time.Time
}

// ParseListed reads one line.
func ParseListed(line string) (Listed, error) {
	key, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(line))
	switch {
	case err == nil:
	case slices.Contains(strings.Fields(line), algoDSA): // golang.org/x/crypto knows none
		return Listed{}, errors.New("DSA keys sign with SHA-1")
	default:
		return Listed{}, errors.New("it is not an SSH public key (ssh-ed25519 AAAA...)")
	}
	if len(bytes.TrimSpace(rest)) > 0 {
		return Listed{}, errors.New("it holds more than one key")
	}
	l := Listed{Key: key}
	if strings.Contains(key.Type(), "-cert-") {
		return l, errors.New("it is a certificate; list the key itself")
	}
	for _, o := range options {
		name, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"`)
		var err error
		switch strings.ToLower(name) {
		case "namespaces":
			l.Namespaces = strings.Split(value, ",")
		case "expiry-time", "valid-before":
			var at time.Time
			if at, err = timeOf(value); err == nil && (l.Till.IsZero() || at.Before(l.Till)) {
				l.Till = at
			}
		case "valid-after":
			l.After, err = timeOf(value)
		default:
			err = fmt.Errorf("option %q is not understood here; take it out (known: namespaces, expiry-time, "+
				"valid-after, valid-before)", name)
		}
		if err != nil {
			return l, err
		}
	}
	return l, nil
}

// timeOf reads YYYYMMDD, YYYYMMDDHHMM or YYYYMMDDHHMMSS, in this machine's zone or, with a
// Z behind, in UTC.
func timeOf(s string) (time.Time, error) {
	zone := time.Local
	if digits, utc := strings.CutSuffix(s, "Z"); utc {
		s, zone = digits, time.UTC
	}
	for _, layout := range []string{"20060102", "200601021504", "20060102150405"} {
		if len(s) == len(layout) {
			return time.ParseInLocation(layout, s, zone)
		}
	}
	return time.Time{}, fmt.Errorf("time %q is not YYYYMMDD, YYYYMMDDHHMM or YYYYMMDDHHMMSS", s)
}

// Allows reports why the key may not be used for a purpose at a time, or nil.
func (l Listed) Allows(namespace string, at time.Time) error {
	switch {
	case len(l.Namespaces) > 0 && !slices.ContainsFunc(l.Namespaces,
		func(p string) bool { return match(p, namespace) }):
		return fmt.Errorf("%w: it is listed for %s, not for %s", ErrListed, strings.Join(l.Namespaces, ", "),
			namespace)
	case !l.After.IsZero() && at.Before(l.After):
		return fmt.Errorf("%w: it is listed from %s on", ErrListed, l.After.Format(time.RFC3339))
	case !l.Till.IsZero() && !at.Before(l.Till):
		return fmt.Errorf("%w: it expired at %s", ErrListed, l.Till.Format(time.RFC3339))
	}
	return nil
}

// match holds a name against a pattern of * and ?.
func match(pattern, name string) bool {
	switch {
	case pattern == "":
		return name == ""
	case pattern[0] == '*':
		return match(pattern[1:], name) || name != "" && match(pattern, name[1:])
	case name == "":
		return false
	}
	return (pattern[0] == '?' || pattern[0] == name[0]) && match(pattern[1:], name[1:])
}
