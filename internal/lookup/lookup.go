// Package lookup keeps what belongs to many keys in one file, in which one key is found by halving.
//
// A file is lines of text. Each begins with the CRC-32C (RFC 3720, appendix B.4) of what follows, in eight hexadecimal
// digits; a key as a JSON string, which has no line break in it, and what belongs to it, as JSON on one line, stand
// behind it, with tabs between. The keys of the lines are in order of their bytes; the first line has the empty key
// and says what the file is of, and the last one, whose key no other can have, that it is whole. It is written beside
// and renamed, so that a killed process leaves the old one or the new one. What is long and no text may be packed.
package lookup

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"iter"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
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
	sweep(filepath.Dir(file))
	f, err := os.CreateTemp(filepath.Dir(file), unfinished)
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
		_, err := out.Write(summed(line))
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
	if err == nil {
		_, err = out.Write(lastLine)
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

// What is written lies beside the file under such a name. A process that was killed leaves that behind, which may be
// hundreds of megabytes: who writes next takes away what nobody wrote to for so long.
const (
	unfinished = ".lookup-*"
	abandoned  = time.Hour
)

func sweep(dir string) {
	names, err := filepath.Glob(filepath.Join(escaped.Replace(dir), unfinished))
	for _, name := range names {
		if info, serr := os.Lstat(name); err == nil && serr == nil && time.Since(info.ModTime()) > abandoned {
			os.Remove(name) // if it cannot be, it lies there
		}
	}
}

// escaped has what [filepath.Match] takes for more than letters as letters.
var escaped = strings.NewReplacer("\\", "\\\\", "*", "\\*", "?", "\\?", "[", "\\[")

// lastLine ends a file: its key is not quoted, and behind all that are.
var lastLine = summed([]byte("~\t0\n"))

// summed is a line behind its checksum.
func summed(line []byte) []byte {
	return append(fmt.Appendf(nil, "%08x\t", crc32.Checksum(line, table)), line...)
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

// A File is one that was written. Lines are read as they are asked for: there may be millions.
type File struct {
	in   io.ReaderAt
	size int64
	io.Closer
}

// Open opens a file, to be closed by whoever asked; [ErrDamaged] where its end is missing.
func Open(file string) (*File, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	out := &File{f, info.Size(), f}
	end, err := out.read(max(0, out.size-int64(len(lastLine))), out.size)
	if err == nil && !bytes.Equal(end, lastLine) {
		err = ErrDamaged
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return out, nil
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
	from, to := int64(0), f.size // both where a line begins
	for from < to {
		begin, line, err := f.line(from, (from+to)/2, to)
		if err != nil {
			return nil, false, err
		}
		k, body, err := parse(line)
		if err != nil {
			return nil, false, err
		}
		switch c := bytes.Compare(k, want); {
		case c == 0:
			return body, true, nil
		case c < 0:
			from = begin + int64(len(line))
		default:
			to = begin
		}
	}
	return nil, false, nil
}

// All yields every line but the first one, in order; [ErrDamaged]. Bodies are only good until the next.
func (f *File) All() iter.Seq2[Line, error] {
	return func(yield func(Line, error) bool) {
		in := bufio.NewReaderSize(io.NewSectionReader(f.in, 0, f.size-int64(len(lastLine))), 1<<20)
		var line []byte
		for {
			part, err := in.ReadSlice('\n')
			line = append(line, part...)
			switch {
			case errors.Is(err, bufio.ErrBufferFull):
				continue
			case errors.Is(err, io.EOF) && len(line) == 0:
				return
			case err != nil: // the last one has no end
				yield(Line{}, errors.Join(ErrDamaged, err))
				return
			}
			key, body, err := parse(line)
			l := Line{Body: body}
			if err == nil {
				l.Key, err = unquoted(key)
			}
			if err != nil || l.Key != "" {
				if !yield(l, err) || err != nil {
					return
				}
			}
			line = line[:0]
		}
	}
}

// unquoted returns the key that [quoted] wrote.
func unquoted(b []byte) (key string, err error) {
	if json.Unmarshal(b, &key) == nil {
		return key, nil
	}
	if key, err = strconv.Unquote(string(b)); err != nil {
		err = errors.Join(ErrDamaged, err)
	}
	return key, err
}

// piece is how much is read at a time.
const piece = 1 << 12

// line returns the line that a place lies in, of some lines, and where it begins.
func (f *File) line(from, at, to int64) (begin int64, line []byte, err error) {
	begin, end := at, at
	for begin > from {
		some, err := f.read(max(from, begin-piece), begin)
		if err != nil {
			return 0, nil, err
		}
		if i := bytes.LastIndexByte(some, '\n'); i >= 0 {
			begin += int64(i + 1 - len(some))
			break
		}
		begin -= int64(len(some))
	}
	for n := int64(piece); end < to; n *= 2 {
		some, err := f.read(end, min(to, end+n))
		if err != nil {
			return 0, nil, err
		}
		if i := bytes.IndexByte(some, '\n'); i >= 0 {
			line, err = f.read(begin, end+int64(i+1))
			return begin, line, err
		}
		end += int64(len(some))
	}
	return 0, nil, ErrDamaged
}

// read reads from one place up to another.
func (f *File) read(from, to int64) ([]byte, error) {
	b := make([]byte, to-from)
	if n, err := f.in.ReadAt(b, from); n < len(b) { // it became shorter meanwhile
		return nil, errors.Join(ErrDamaged, err)
	}
	return b, nil
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
