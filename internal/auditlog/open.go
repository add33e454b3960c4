package auditlog

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"github.com/klauspost/compress/gzip"

	"github.com/klauspost/compress/zstd"
)

// MaxLine is the longest line that is read, in bytes; a longer one is set aside
// without being held in memory.
const MaxLine = 1 << 20

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

// ArrayLines turns the elements of a JSON array into lines. What is wrong with the
// array itself comes as an error after the elements that were whole. Who reads no further
// closes it.
func ArrayLines(r io.Reader) io.ReadCloser {
	pr, pw := io.Pipe()
	go func() {
		dec := json.NewDecoder(bufio.NewReaderSize(r, 1<<16))
		_, err := dec.Token()
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

// LooksQuoted reports whether a log begins as CSV with quoted fields, where a
// record can go over several lines.
func LooksQuoted(head []byte) bool {
	line, _, _ := bytes.Cut(head, []byte{'\n'})
	return bytes.Count(line, []byte{','}) >= 3 && !bytes.ContainsAny(line, "{[") && utf8.Valid(line) && bytes.IndexByte(line, 0) < 0
}

// Finished reports whether a last line without its end is whole: JSON that closes.
func Finished(data []byte) bool {
	last := data[bytes.LastIndexByte(data, '\n')+1:]
	return json.Valid(last)
}
