package auditlog

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"unicode/utf8"

	"github.com/klauspost/compress/gzip"

	"github.com/klauspost/compress/zstd"
)

// MaxLine is the longest line that is read, in bytes, and MaxQuoted the longest record of a
// CSV log, which may hold a statement that loads a table; a longer one is set aside without
// being held in memory.
const (
	MaxLine   = 1 << 20
	MaxQuoted = 64 << 20
)

// Longest returns how long a record may be.
func Longest(quoted bool) int {
	if quoted {
		return MaxQuoted
	}
	return MaxLine
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

// IsArray reports whether a log begins as one JSON array.
func IsArray(head []byte) bool {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	return len(head) > 0 && head[0] == '['
}

// IsList reports whether a log begins as one EventList of Kubernetes, whose items are the
// events, over several lines.
func IsList(head []byte) bool {
	head = bytes.TrimLeft(WithoutMark(head), " \t\r\n")
	line, rest, _ := bytes.Cut(head, []byte{'\n'})
	return len(head) > 0 && head[0] == '{' && len(rest) > 0 && !json.Valid(line) && listKind.Match(head)
}

var listKind = regexp.MustCompile(`"kind"\s*:\s*"EventList"`)

// ArrayLines turns the elements of a JSON array into lines. What is wrong with the
// array itself comes as an error after the elements that were whole. Who reads no further
// closes it.
func ArrayLines(r io.Reader) io.ReadCloser {
	pr, pw := io.Pipe()
	go func() {
		br := bufio.NewReaderSize(r, 1<<16)
		if mark, err := br.Peek(3); err == nil && len(WithoutMark(mark)) == 0 {
			_, _ = br.Discard(3) // just peeked
		}
		dec := json.NewDecoder(br)
		first, err := dec.Token()
		if first == json.Delim('{') { // the events are what items holds
			err = toItems(dec)
		}
		for err == nil && dec.More() {
			var raw json.RawMessage
			if err = dec.Decode(&raw); err != nil {
				break
			}
			var one bytes.Buffer
			if err = json.Compact(&one, raw); err == nil {
				one.WriteByte('\n')
				_, err = pw.Write(one.Bytes())
			}
		}
		if err == nil {
			_, err = dec.Token()
		}
		if err != nil {
			err = fmt.Errorf("JSON array: %w", err)
		}
		pw.CloseWithError(err) // nil is the end
	}()
	return pr
}

// toItems reads on in an object up to the elements of its list items.
func toItems(dec *json.Decoder) error {
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return err
		}
		if key == "items" {
			if t, err := dec.Token(); err != nil || t != json.Delim('[') {
				return errors.Join(err, errors.New("items is no list"))
			}
			return nil
		}
		var skip json.RawMessage
		if err := dec.Decode(&skip); err != nil {
			return err
		}
	}
	return errors.New("it has no items")
}

// LooksQuoted reports whether a log begins as CSV with quoted fields, where a
// record can go over several lines.
func LooksQuoted(head []byte) bool {
	line, _, _ := bytes.Cut(WithoutMark(head), []byte{'\n'})
	if bytes.Count(line, []byte{','}) < 3 || !utf8.Valid(line) || bytes.IndexByte(line, 0) >= 0 {
		return false
	}
	// Braces are of JSON that begins in its middle, but for a line that begins as a server's
	// csvlog does: there a statement may hold them, and a client be [local].
	return !bytes.ContainsAny(line, "{[") || csvlog(line)
}

// csvlog reports whether a line begins with a time and a comma, as 2026-11-24 08:00:00.123
// UTC, does.
func csvlog(line []byte) bool {
	const shape = "0000-00-00 00:00:00"
	if len(line) < len(shape) {
		return false
	}
	for i, c := range []byte(shape) {
		if digit := '0' <= line[i] && line[i] <= '9'; digit != (c == '0') || !digit && line[i] != c {
			return false
		}
	}
	return bytes.IndexByte(line[:min(len(line), 40)], ',') > 0
}

// WithoutMark returns what follows a byte order mark, if there is one.
func WithoutMark(b []byte) []byte { return bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")) }

// Finished reports whether a last line without its end is whole: JSON that closes.
func Finished(data []byte) bool {
	last := data[bytes.LastIndexByte(data, '\n')+1:]
	return json.Valid(last)
}

// Whole returns how much of a chunk is whole records: where the last one has no end, it may
// be written still.
func Whole(data []byte, quoted bool) int { return lastEnd(data, quoted) }
