// Package columns reads Parquet files with OCSF columns.
//
// A column stands where the field stands in an event: actor.user.uid is the column
// uid of the group user of the group actor. Lists may be written in any of the ways
// that Parquet knows; of resources the first counts. Only the columns that are
// needed are read, a row group at a time, so that row groups can be folded in
// parallel.
//
// Source: Apache Parquet format 2, nested types; the fields are package ocsf's.
package columns

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"

	parquet "github.com/parquet-go/parquet-go"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/jsonscan"
	"clipfence/internal/auditlog/ocsf"
)

// ErrColumns: a Parquet file lacks columns without which there is no call.
var ErrColumns = errors.New("a Parquet file without the columns of OCSF API Activity")

// Is reports whether r begins as a Parquet file.
func Is(r io.ReaderAt) bool {
	var magic [4]byte
	_, err := r.ReadAt(magic[:], 0)
	return err == nil && string(magic[:]) == "PAR1"
}

// Groups are the row groups of a file.
type Groups struct {
	name    string
	groups  []parquet.RowGroup
	columns []int // of each of ocsf.Paths, or -1
	key     string
}

// Open reads a file's footer. A damaged file is an error and never a panic.
func Open(name string, size int64) (g *Groups, err error) {
	defer guard(&err)
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	pf, err := parquet.OpenFile(f, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, fmt.Errorf("not a whole Parquet file: %w", err)
	}
	g = &Groups{name: name, groups: pf.RowGroups(), columns: make([]int, len(ocsf.Paths()))}
	for i := range g.columns {
		g.columns[i] = -1
	}
	for i, path := range pf.Schema().Columns() {
		if at := slices.Index(ocsf.Paths(), fieldOf(path)); at >= 0 {
			g.columns[at] = i
		}
	}
	for i, p := range ocsf.Paths() {
		if g.columns[i] < 0 && slices.Contains([]string{"class_uid", "time", "api.operation", "resources.0.uid"}, p) {
			return nil, fmt.Errorf("%w: no column %s", ErrColumns, p)
		}
	}
	// A Parquet file is known by its footer, which says where everything stands.
	h := sha256.New()
	tail := min(size, 1<<20)
	if _, err := io.Copy(h, io.NewSectionReader(f, size-tail, tail)); err != nil {
		return nil, err
	}
	g.key = "parquet:" + strconv.FormatInt(size, 10) + ":" + hex.EncodeToString(h.Sum(nil)[:12])
	return g, nil
}

// guard turns a panic of the library on damaged bytes into an error.
func guard(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("damaged Parquet file: %v", r)
	}
}

// fieldOf writes a column's path as ocsf.Paths does: what Parquet puts between a
// list and its elements is left out, and of the resources the first is meant.
func fieldOf(path []string) string {
	var out []string
	for _, p := range path {
		if p = strings.ToLower(p); p != "list" && p != "element" && p != "array" && p != "bag" && p != "item" {
			out = append(out, p)
		}
	}
	if len(out) > 1 && out[0] == "resources" {
		out = slices.Insert(out, 1, "0")
	}
	return strings.Join(out, ".")
}

// Key names the file by what is in it.
func (g *Groups) Key() string { return g.key }

// Len returns how many row groups there are.
func (g *Groups) Len() int { return len(g.groups) }

// column yields the first value of each row.
type column struct {
	r    parquet.ColumnChunkValueReader
	buf  []parquet.Value
	i, n int
}

func (c *column) next() (parquet.Value, error) {
	for {
		if c.i == c.n {
			n, err := c.r.ReadValues(c.buf)
			if c.i, c.n = 0, n; n == 0 {
				if err == nil || errors.Is(err, io.EOF) {
					err = io.ErrUnexpectedEOF
				}
				return parquet.Value{}, err
			}
		}
		v := c.buf[c.i]
		if c.i++; v.RepetitionLevel() == 0 {
			return v, nil
		} // further values of the row before are passed over
	}
}

// Rows returns the reader of one row group. Its events are valid until the next.
func (g *Groups) Rows(group int) func(yield func(n int, e *auditlog.Event, fault error) bool) error {
	return func(yield func(n int, e *auditlog.Event, fault error) bool) (err error) {
		defer guard(&err)
		f, err := os.Open(g.name)
		if err != nil {
			return err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return err
		}
		// A file of its own for each group: readers of one file share its buffers.
		pf, err := parquet.OpenFile(f, st.Size(), parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true),
			parquet.ReadBufferSize(1<<18))
		if err != nil {
			return fmt.Errorf("not a whole Parquet file: %w", err)
		}
		if group >= len(pf.RowGroups()) {
			return io.ErrUnexpectedEOF
		}
		rg := pf.RowGroups()[group]
		chunks := rg.ColumnChunks()
		cols := make([]*column, len(g.columns))
		for i, at := range g.columns {
			if at >= 0 {
				r := parquet.NewColumnChunkValueReader(chunks[at])
				defer r.Close()
				cols[i] = &column{r: r, buf: make([]parquet.Value, 512)}
			}
		}
		format := ocsf.New()
		values := make([]jsonscan.Value, len(cols))
		numbers := make([][]byte, len(cols))
		for n := 1; int64(n) <= rg.NumRows(); n++ {
			for i, c := range cols {
				if c == nil {
					continue
				}
				v, err := c.next()
				if err != nil {
					return fmt.Errorf("row %d of group %d: %w", n, group+1, err)
				}
				values[i] = convert(v, &numbers[i])
			}
			if err := format.Fill(values); err != nil {
				if !yield(n, nil, err) {
					return nil
				}
			} else if !yield(n, format.Event(), nil) {
				return nil
			}
		}
		return nil
	}
}

func convert(v parquet.Value, scratch *[]byte) jsonscan.Value {
	if v.IsNull() {
		return jsonscan.Value{}
	}
	number := func(n int64) jsonscan.Value {
		*scratch = strconv.AppendInt((*scratch)[:0], n, 10)
		return jsonscan.Value{Kind: jsonscan.Number, Raw: *scratch}
	}
	switch v.Kind() {
	case parquet.Boolean:
		if v.Boolean() {
			return jsonscan.Value{Kind: jsonscan.True}
		}
		return jsonscan.Value{Kind: jsonscan.False}
	case parquet.Int32:
		return number(int64(v.Int32()))
	case parquet.Int64:
		return number(v.Int64())
	case parquet.Float, parquet.Double:
		if d := v.Double(); v.Kind() == parquet.Double && d == math.Trunc(d) && math.Abs(d) < 1<<53 {
			return number(int64(d))
		}
		return jsonscan.Value{Kind: jsonscan.Other}
	case parquet.ByteArray, parquet.FixedLenByteArray:
		return jsonscan.Value{Kind: jsonscan.String, Raw: v.ByteArray()}
	}
	return jsonscan.Value{Kind: jsonscan.Other}
}
