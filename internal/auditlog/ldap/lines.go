package ldap

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"strings"

	"clipfence/internal/auditlog"
)

// Is reports whether a log begins as LDIF.
func Is(head []byte) bool {
	for line := range bytes.Lines(auditlog.WithoutMark(head)) {
		line = bytes.TrimRight(line, "\r\n")
		switch {
		case len(line) == 0, line[0] == '#', bytes.HasPrefix(line, []byte("version:")):
		default:
			return len(line) > 3 && strings.EqualFold(string(line[:3]), "dn:")
		}
	}
	return false
}

// A record is an entry of LDIF as one line of JSON.
type record struct {
	Entry map[string][]string `json:"ldif"`
	Line  int                 `json:"line"` // of its first line in the file
	Fault string              `json:"fault,omitempty"`
}

// mostValue bounds how much of a value is kept, in bytes: no value that is looked at is
// longer.
const mostValue = 64 << 10

// Lines turns the entries of LDIF into lines of JSON, for whoever reads lines. Of reqMod
// and reqOld only the names of the attributes stay: the values may be passwords. Who reads
// no further closes it.
//
// Source: RFC 2849, The LDAP Data Interchange Format.
func Lines(r io.Reader) io.ReadCloser {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(unfold(r, pw)) }()
	return pr
}

func unfold(r io.Reader, w io.Writer) error {
	br := bufio.NewReaderSize(r, 1<<16)
	out := json.NewEncoder(w)
	var at record
	var last []byte // an attribute that the next line may go on with
	n, ended := 0, true
	attribute := func() {
		if len(last) > 0 && last[0] == '#' {
			last = last[:0]
		}
		if name, value, ok := split(last); ok {
			if at.Entry == nil {
				at.Entry = map[string][]string{}
			}
			at.Entry[name] = append(at.Entry[name], value)
		} else if len(last) > 0 && at.Fault == "" {
			at.Fault = "not LDIF: a line without a colon, or with a value that is not base64"
		}
		last = last[:0]
	}
	entry := func() error {
		attribute()
		if at.Entry == nil && at.Fault == "" {
			return nil
		}
		if len(at.Entry) == 1 && at.Entry["version"] != nil {
			at = record{}
			return nil
		}
		err := out.Encode(at)
		at = record{}
		return err
	}
	for first := true; ; first = false {
		line, long, err := br.ReadLine()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		n++
		if first {
			line = auditlog.WithoutMark(line)
		}
		text := bytes.Clone(line)
		for long && err == nil {
			if line, long, err = br.ReadLine(); len(text) < mostValue {
				text = append(text, line...)
			}
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		switch {
		case len(text) == 0:
			if err := entry(); err != nil {
				return err
			}
			ended = true
		case text[0] == ' ': // the line before goes on
			if len(last) < mostValue {
				last = append(last, text[1:]...)
			}
		case text[0] == '#':
			attribute()
			last = append(last[:0], '#') // its own continuation lines are comment too
		default:
			if ended {
				at.Line, ended = n, false
			}
			attribute()
			last = append(last[:0], text...)
		}
	}
	return entry()
}

// split takes an attribute apart. Of changes only the attribute's name stays.
func split(line []byte) (name, value string, ok bool) {
	left, right, ok := bytes.Cut(line, []byte{':'})
	if !ok || len(left) == 0 {
		return "", "", false
	}
	name = string(left)
	encoded := bytes.HasPrefix(right, []byte{':'})
	right = bytes.TrimLeft(bytes.TrimPrefix(right, []byte{':'}), " ")
	if encoded {
		if len(right) >= mostValue { // cut short: what is left of whole groups is enough
			right = right[:mostValue/4*4]
		}
		raw, err := base64.StdEncoding.DecodeString(string(right))
		if err != nil {
			return "", "", false
		}
		right = raw
	}
	value = string(right)
	if name == "reqMod" || name == "reqOld" {
		value, _, _ = strings.Cut(value, ":")
	}
	return name, value, true
}
