// Package lookup keeps what belongs to many keys in one file, in which one key is found by halving.
//
// A file is lines of text. Each begins with the CRC-32C (RFC 3720, appendix B.4) of what follows, in eight hexadecimal
// digits; a key as a JSON string, which has no line break in it, and what belongs to it, as JSON on one line, stand
// behind it, with tabs between. The keys of the lines are in order of their bytes; the first line has the empty key
// and says what the file is of. It is written beside and renamed, so that a killed process leaves the old one or
// the new one.
package lookup

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"iter"
	"os"
	"path/filepath"
)

// ErrDamaged: a file is not as it was written.
var ErrDamaged = errors.New("the file is damaged")

var table = crc32.MakeTable(crc32.Castagnoli)

// A Line is what belongs to a key.
type Line struct {
	Key  string
	Body []byte // JSON
}

// Compare compares keys as they are ordered in a file.
func Compare(a, b string) int { return bytes.Compare(quoted(a), quoted(b)) }

// Write writes a file, at once or not at all: what it is of, as JSON, and lines, each key once, in the order of
// [Compare]. An error of one ends it.
func Write(file string, head []byte, lines iter.Seq2[Line, error]) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".lookup-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // it is gone where it was renamed
	out := bufio.NewWriterSize(f, 1<<20)
	var line, last []byte
	put := func(key, body []byte) error {
		switch {
		case last != nil && bytes.Compare(last, key) >= 0:
			return fmt.Errorf("%s does not come behind %s", key, last)
		case bytes.IndexByte(body, '\n') >= 0:
			return fmt.Errorf("what belongs to %s has more than one line", key)
		}
		last = key
		line = append(append(append(append(line[:0], key...), '\t'), body...), '\n')
		fmt.Fprintf(out, "%08x\t", crc32.Checksum(line, table))
		_, err := out.Write(line)
		return err
	}
	err = put(quoted(""), head)
	for l, lerr := range lines {
		if err == nil {
			err = lerr
		}
		if err == nil {
			err = put(quoted(l.Key), l.Body)
		}
		if err != nil {
			break
		}
	}
	if end := out.Flush(); err == nil {
		err = end
	}
	if end := f.Close(); err == nil {
		err = end
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

// quoted is a key as it stands in a line. [json.Marshal] writes a tab and a line break as escapes, and what is no
// UTF-8 all alike, so that two keys may be one: the key stands once more, byte by byte, where it is not.
func quoted(key string) []byte {
	b, err := json.Marshal(key)
	if err != nil {
		panic(err) // of a string: cannot fail
	}
	var back string
	if json.Unmarshal(b, &back); back != key {
		b = fmt.Appendf(nil, "%q", key)
	}
	return b
}

// A File is one that was written.
type File struct{ data []byte }

// Open reads a file.
func Open(file string) (*File, error) {
	data, err := os.ReadFile(file)
	return &File{data}, err
}

// Head returns what the file is of; [ErrDamaged].
func (f *File) Head() ([]byte, error) {
	body, found, err := f.Get("")
	if err == nil && !found {
		err = ErrDamaged
	}
	return body, err
}

// Get returns what belongs to a key, and whether anything does; [ErrDamaged].
func (f *File) Get(key string) ([]byte, bool, error) {
	want := quoted(key)
	from, to := 0, len(f.data) // both where a line begins
	for from < to {
		at := (from + to) / 2
		begin := bytes.LastIndexByte(f.data[from:at], '\n') + 1 + from
		n := bytes.IndexByte(f.data[begin:to], '\n')
		if n < 0 {
			return nil, false, ErrDamaged
		}
		k, body, err := parse(f.data[begin : begin+n+1])
		if err != nil {
			return nil, false, err
		}
		switch c := bytes.Compare(k, want); {
		case c == 0:
			return body, true, nil
		case c < 0:
			from = begin + n + 1
		default:
			to = begin
		}
	}
	return nil, false, nil
}

// parse takes a line apart, and sees that it is as it was written.
func parse(line []byte) (key, body []byte, err error) {
	sum, rest, ok := bytes.Cut(line, []byte("\t"))
	if !ok || string(sum) != fmt.Sprintf("%08x", crc32.Checksum(rest, table)) {
		return nil, nil, ErrDamaged
	}
	key, body, ok = bytes.Cut(rest, []byte("\t"))
	if !ok {
		return nil, nil, ErrDamaged
	}
	return key, bytes.TrimSuffix(body, []byte("\n")), nil
}
