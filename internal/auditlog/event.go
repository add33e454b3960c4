package auditlog

import (
	"errors"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// An Event is what one record of a log says about one call, in the log's own
// words. Its byte slices are valid until the next record.
type Event struct {
	Time int64 // ms since 1970
	ID   []byte
	// Keyed says that ID tells this event apart from all others by itself: several records
	// may tell of it, and one record of several such.
	Keyed     bool
	Who       Name
	Groups    [][]byte // that Who was in, by whoever let it in; none: the log does not tell
	ActingFor Name     // empty: for itself
	Operation []byte   // a permission, or what the log calls it
	Path      []byte
	Outcome   usage.Outcome
	Network   []byte // address; empty: unknown
	Factor    model.Truth
}

// A Name is an identity as a log writes it. The empty Name is whoever calls without one.
// Whatever the text is, it is a name: it never becomes an open identity, and it gives no
// kind.
type Name struct {
	Kind model.IdentityKind // empty: not known
	Text []byte
	// Own says that the log may write names as kind/name, as a bridge's does. One of another
	// kind than Kind is none.
	Own bool
}

// A Format reads the records of one kind of log. A Format is not for several
// goroutines; each worker makes its own.
type Format interface {
	Name() string
	// Sniff reports, cheaply, whether a record could be one of this format's.
	Sniff(record []byte) bool
	// Parse reads a record and yields its events, usually one. It returns a
	// [*Skip] for a record that is understood and shows no call, and another error
	// for one that is set aside. An event that yield refuses is the record's fault.
	Parse(record []byte, yield func(*Event) error) error
}

// A Skip says why a well-formed record shows no call. It is no fault.
type Skip struct{ Why string }

// Error returns why.
func (s *Skip) Error() string { return s.Why }

// ErrForeign: a record is of none of the formats that are known.
var ErrForeign = errors.New("of no log format that is known here; a log map can say how to read it: docs/logs.md")

// A Reject is a record that was set aside.
type Reject struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Why  string `json:"why"`
}

// Times before 1990 or after 2200 are no times of calls but mistakes, in
// milliseconds since 1970.
const (
	Earliest = 631_152_000_000
	Latest   = 7_258_118_400_000
)
