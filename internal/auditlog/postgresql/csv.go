package postgresql

import (
	"bytes"
	"errors"
	"fmt"
)

var errQuote = errors.New("csvlog: a quote is not closed")

// fields cuts some columns, in order, out of a CSV record (RFC 4180), and returns about how
// many there are in all (commas within later ones are counted, too), and which of those
// that were cut out hold quotes that have to be undone: a bit each, by its place in out.
func fields(record []byte, columns []int, out [][]byte) (n int, doubled uint32, err error) {
	want := 0
	for rest := record; ; n++ {
		take := want < len(columns) && columns[want] == n
		var field []byte
		switch {
		case len(rest) == 0 || rest[0] == ',':
			field = rest[:0]
		case rest[0] == '"':
			at, plain := 1, true
			for {
				i := bytes.IndexByte(rest[at:], '"')
				if i < 0 {
					return n, doubled, errQuote
				}
				at += i + 1
				if at >= len(rest) || rest[at] != '"' {
					break
				}
				plain = false
				at++
			}
			field = rest[1 : at-1]
			if take && !plain {
				doubled |= 1 << want
			}
			rest = rest[at:]
			if len(rest) > 0 && rest[0] != ',' {
				return n, doubled, fmt.Errorf("csvlog: column %d goes on behind its quote", n+1)
			}
		default:
			i := 1 // most are short
			for i < len(rest) && i < 8 && rest[i] != ',' {
				i++
			}
			if i == 8 {
				if more := bytes.IndexByte(rest[i:], ','); more >= 0 {
					i += more
				} else {
					i = len(rest)
				}
			}
			field, rest = rest[:i], rest[i:]
		}
		if take {
			out[want] = field
			if want++; want == len(columns) { // the rest is only counted
				return n + 1 + bytes.Count(rest, []byte{','}), doubled, nil
			}
		}
		if len(rest) == 0 {
			n++
			break
		}
		rest = rest[1:] // the comma
	}
	return n, doubled, fmt.Errorf("csvlog: %d columns, want at least %d", n, columns[len(columns)-1]+1)
}

// undoubled returns a field with each two quotes made one.
func undoubled(field []byte) []byte {
	out := make([]byte, 0, len(field))
	for {
		i := bytes.IndexByte(field, '"')
		if i < 0 {
			return append(out, field...)
		}
		out = append(out, field[:i+1]...)
		field = field[min(len(field), i+2):]
	}
}
