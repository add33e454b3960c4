package auditlog

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"iter"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
)

// MaxLine is the longest line that is read, in bytes; a longer one is set aside
// without being held in memory.
const MaxLine = 1 << 20

// A Line is one line of a log.
type Line struct {
	Number int    // from 1
	Bytes  []byte // without its end; valid until the next line; nil when Reject says why
	Reject string // why the line was set aside, or ""
}

// Open undoes gzip (RFC 1952) or zstd (RFC 8878), recognised by content.
func Open(r io.Reader) (io.Reader, func(), error) {
	br := bufio.NewReaderSize(r, 1<<16)
	head, err := br.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(br)
		if err != nil {
			return nil, nil, fmt.Errorf("gzip: %w", err)
		}
		return z, func() { _ = z.Close() }, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		// A window beyond 64 MiB is refused: it would let a small file claim memory.
		z, err := zstd.NewReader(br, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20))
		if err != nil {
			return nil, nil, fmt.Errorf("zstd: %w", err)
		}
		return z, z.Close, nil
	}
	return br, func() {}, nil
}

// Lines yields the lines of r. The last line counts also without its newline.
// An error, such as a truncated gzip, comes after the lines that were whole.
func Lines(r io.Reader) iter.Seq2[Line, error] {
	return func(yield func(Line, error) bool) {
		in, done, err := Open(r)
		if err != nil {
			yield(Line{}, err)
			return
		}
		defer done()
		br := bufio.NewReaderSize(in, 1<<18)
		var long []byte
		for n := 1; ; n++ {
			long = long[:0]
			size, tooLong := 0, false
			var line []byte
			for {
				chunk, e := br.ReadSlice('\n')
				size += len(chunk)
				if size > MaxLine+1 {
					tooLong = true
				}
				if errors.Is(e, bufio.ErrBufferFull) {
					if !tooLong {
						long = append(long, chunk...)
					}
					continue
				}
				line, err = chunk, e
				break
			}
			if err != nil && !errors.Is(err, io.EOF) {
				yield(Line{Number: n}, fmt.Errorf("line %d: %w", n, err))
				return
			}
			if len(long) > 0 && !tooLong {
				line = append(long, line...)
			}
			line = bytes.TrimRight(line, "\r\n")
			l := Line{Number: n, Bytes: line}
			switch {
			case tooLong:
				l = Line{Number: n, Reject: fmt.Sprintf("line is longer than %d bytes (%d)", MaxLine, size)}
			case bytes.IndexByte(line, 0) >= 0:
				l = Line{Number: n, Reject: "line holds NUL bytes: binary data"}
			case !utf8.Valid(line):
				l = Line{Number: n, Reject: "line is not UTF-8"}
			}
			if (l.Reject != "" || len(bytes.TrimSpace(line)) > 0) && !yield(l, nil) {
				return
			}
			if err != nil {
				return
			}
		}
	}
}
