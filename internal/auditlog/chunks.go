package auditlog

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"sync"
)

// A Chunk is a run of whole records.
type Chunk struct {
	Line   Line   // its first
	Data   []byte // whole lines; give it back with [Chunk.Free]
	Offset int64  // of what follows it, in the unpacked stream
	Torn   bool   // its last line has no end: the file may still be growing
	Reject string // in place of Data: a line that is too long, and was passed over
}

// A Line is a place in a log. Its number is not known before every chunk before it
// was read, so that nobody needs to count lines in advance.
type Line struct {
	count *counts // of the stream; nil: Plus is the number itself
	chunk int
	Plus  int // lines after the chunk's first
}

// At returns the line of a number.
func At(n int) Line { return Line{Plus: n} }

// Next returns the line so many further on.
func (l Line) Next(n int) Line { l.Plus += n; return l }

// Number returns the line's number, from 1, as far as the chunks before it are read.
func (l Line) Number() int {
	if l.count == nil {
		return l.Plus
	}
	l.count.mu.Lock()
	defer l.count.mu.Unlock()
	n := l.count.first + l.Plus
	for _, k := range l.count.lines[:l.chunk] {
		n += k
	}
	return n
}

// read says how many lines the chunk that begins here has.
func (l Line) read(n int) {
	if l.count != nil {
		l.count.mu.Lock()
		l.count.lines[l.chunk] = n
		l.count.mu.Unlock()
	}
}

// counts are the lines of a stream's chunks; 0 where one is not read yet.
type counts struct {
	mu    sync.Mutex
	first int
	lines []int
}

func (c *counts) next(lines int) Line {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lines = append(c.lines, lines)
	return Line{count: c, chunk: len(c.lines) - 1}
}

const chunkSize = 256 << 10 // small enough to be in a near cache still when a worker reads it

var buffers = sync.Pool{New: func() any { b := make([]byte, 0, chunkSize+chunkSize/2); return &b }}

// End returns the line after the chunk.
func (c *Chunk) End() Line {
	l := c.Line
	if l.count == nil {
		return l.Next(bytes.Count(c.Data, []byte{'\n'}))
	}
	l.chunk++
	return l
}

// Free gives the chunk's memory back; its data must not be used any more.
func (c *Chunk) Free() {
	if cap(c.Data) >= chunkSize && cap(c.Data) <= 4*chunkSize {
		b := c.Data[:0]
		buffers.Put(&b)
	}
	c.Data = nil
}

// Chunks yields r, from a place on, in runs of whole lines, each a few megabytes
// long. With quoted, a newline between double quotes ends no line (RFC 4180). Lines
// over [MaxLine] are passed over without being held in memory. An error, such as a
// truncated gzip, comes after the lines that were whole.
func Chunks(r io.Reader, from int64, line int, quoted bool) iter.Seq2[Chunk, error] {
	return func(yield func(Chunk, error) bool) {
		br := bufio.NewReaderSize(r, 1<<16)
		offset := from
		lines := &counts{first: max(1, line)}
		var rest []byte
		for eof := false; !eof; {
			buf := (*buffers.Get().(*[]byte))[:0]
			buf = append(buf, rest...)
			rest = rest[:0]
			had := len(buf)
			grow := max(chunkSize, had) // a record that goes on and on is not copied chunk by chunk
			if cap(buf)-had < chunkSize/2 || had > chunkSize {
				buf = append(make([]byte, 0, had+grow), buf...)
			}
			buf, eof = buf[:min(cap(buf), had+grow)], false
			n, broken := had, error(nil)
			for n < len(buf) && !eof && broken == nil {
				m, err := br.Read(buf[n:])
				n += m
				if errors.Is(err, io.EOF) {
					eof = true
				} else if err != nil {
					broken = err
				}
			}
			buf = buf[:n]
			end := lastEnd(buf, quoted)
			torn := false
			if (eof || broken != nil) && end < len(buf) {
				if torn = true; broken == nil {
					end = len(buf)
				}
			}
			if end == 0 && len(buf) > Longest(quoted) && !eof && broken == nil {
				size, more, stop, err := passOver(br, quoted && inside(buf))
				offset += int64(len(buf)) + size
				if quoted {
					more += bytes.Count(buf, []byte{'\n'})
				}
				if !yield(Chunk{Line: lines.next(1 + more), Offset: offset,
					Reject: fmt.Sprintf("record is longer than %d bytes (%d)", Longest(quoted), int64(len(buf))+size)},
					nil) {
					return
				}
				if eof = stop; err != nil {
					yield(Chunk{Line: lines.next(0), Offset: offset}, err)
					return
				}
				continue
			}
			rest = append(rest, buf[end:]...)
			if end > 0 {
				offset += int64(end)
				c := Chunk{Line: lines.next(0), Data: buf[:end], Offset: offset, Torn: torn && broken == nil}
				if !yield(c, nil) {
					return
				}
			}
			if broken != nil {
				yield(Chunk{Line: lines.next(0), Offset: offset}, broken)
				return
			}
		}
	}
}

// lastEnd returns where the last whole line ends.
func lastEnd(b []byte, quoted bool) int {
	if !quoted {
		return bytes.LastIndexByte(b, '\n') + 1
	}
	end, open := 0, false
	for from := 0; ; {
		n := bytes.IndexByte(b[from:], '\n')
		if n < 0 {
			break
		}
		if open = open != inside(b[from:from+n]); !open {
			end = from + n + 1
		}
		from += n + 1
	}
	return end
}

// inside reports whether a record that begins with b is within quotes at its end.
func inside(b []byte) bool { return bytes.Count(b, []byte{'"'})%2 == 1 }

// passOver reads up to the end of a record, which a newline within quotes is not, and
// reports how many lines more it goes over and whether the stream ended.
func passOver(r *bufio.Reader, quotes bool) (size int64, lines int, end bool, err error) {
	for {
		part, err := r.ReadSlice('\n')
		size += int64(len(part))
		quotes = quotes != inside(part)
		switch {
		case err == nil && quotes:
			lines++
		case err == nil:
			return size, lines, false, nil
		case errors.Is(err, io.EOF):
			return size, lines, true, nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return size, lines, false, err
		}
	}
}

// Records yields the records of a chunk with how many lines after its first they
// stand; empty ones are left out. It must be read to its end for later chunks to know
// their lines.
func (c *Chunk) Records(quoted bool) iter.Seq2[int, []byte] {
	return func(yield func(int, []byte) bool) {
		line := 0
		defer func() {
			if c.Reject == "" {
				c.Line.read(line)
			}
		}()
		for b := c.Data; len(b) > 0; {
			end := bytes.IndexByte(b, '\n')
			at, lines := line, 1
			if quoted {
				for from, open := 0, false; end >= 0; lines++ {
					if open = open != inside(b[from:end]); !open {
						break
					}
					n := bytes.IndexByte(b[end+1:], '\n')
					if n < 0 {
						end = -1
						break
					}
					from, end = end+1, end+1+n
				}
			}
			record := b
			if end >= 0 {
				record, b = b[:end], b[end+1:]
			} else {
				b = nil
			}
			line += lines
			if at == 0 {
				record = WithoutMark(record)
			}
			if n := len(record); n > 0 && record[n-1] == '\r' {
				record = record[:n-1]
			}
			if len(bytes.TrimSpace(record)) > 0 && !yield(at, record) {
				return
			}
		}
	}
}
