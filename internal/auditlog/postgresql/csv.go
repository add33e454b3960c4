package postgresql

import (
	"bytes"
	"errors"
	"fmt"
)

var errQuote = errors.New("csvlog: a quote is not closed")

// fields cuts some columns, in order, out of a CSV record (RFC 4180), and returns about how
// many there are in all: commas within later ones are counted, too. What is cut out is part
// of the record, or of buf where quotes within it had to be undone.
func fields(record []byte, columns []int, out [][]byte, buf []byte) (int, []byte, error) {
	want, n := 0, 0
	for rest := record; ; n++ {
		take := want < len(columns) && columns[want] == n
		var field []byte
		if len(rest) > 0 && rest[0] == '"' {
			at, plain := 1, true
			for {
				i := bytes.IndexByte(rest[at:], '"')
				if i < 0 {
					return n, buf, errQuote
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
				from := len(buf)
				for f := field; len(f) > 0; {
					i := bytes.IndexByte(f, '"')
					if i < 0 {
						buf = append(buf, f...)
						break
					}
					buf = append(buf, f[:i+1]...)
					f = f[min(len(f), i+2):]
				}
				field = buf[from:len(buf):len(buf)]
			}
			rest = rest[at:]
			if len(rest) > 0 && rest[0] != ',' {
				return n, buf, fmt.Errorf("csvlog: column %d goes on behind its quote", n+1)
			}
		} else {
			i := 0 // most are empty, or short
			for i < len(rest) && rest[i] != ',' {
				i++
			}
			field, rest = rest[:i], rest[i:]
		}
		if take {
			out[want] = field
			if want++; want == len(columns) { // the rest is only counted
				return n + 1 + bytes.Count(rest, []byte{','}), buf, nil
			}
		}
		if len(rest) == 0 {
			n++
			break
		}
		rest = rest[1:] // the comma
	}
	return n, buf, fmt.Errorf("csvlog: %d columns, want at least %d", n, columns[len(columns)-1]+1)
}
