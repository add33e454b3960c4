package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/columns"
	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/ldap"
	"clipfence/internal/source"
)

// A mark says how far one log was read. A log is known by how it begins and not by
// its name, so that one that was rotated, renamed or packed meanwhile is not read
// again.
type mark struct {
	Head   int           `json:"head"` // bytes that the sum is over, unpacked
	Sum    string        `json:"sum"`
	Offset int64         `json:"offset"` // of what is not read yet, unpacked
	Line   int           `json:"line"`   // number of the line there
	at     auditlog.Line // the same, while it has no number
	Name   string        `json:"name"`
	Size   int64         `json:"size"` // of the file as it was then, packed
	MTime  int64         `json:"mtime"`
	Done   bool          `json:"done,omitempty"` // nothing more is to be had from the file as it was then
}

const (
	headSize     = 64 << 10
	cursorChunks = 64 // a cursor stands after so many chunks of a large file, and after each file
	stdinName    = "-"
	cut          = "; what follows in this file cannot be read"
)

func sum(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:12])
}

// Logs yields what the log files hold that was not read before. "-" is standard
// input, which has no cursor.
func (r *Reader) Logs(ctx context.Context, from string) iter.Seq2[fold.Part, error] {
	return func(yield func(fold.Part, error) bool) {
		marks := map[string]mark{}
		if from != "" {
			if err := json.Unmarshal([]byte(from), &marks); err != nil {
				yield(fold.Part{}, fmt.Errorf("source %s: log cursor: %w", r.Name, err))
				return
			}
		}
		var names []string
		var faults []string
		before := maps.Clone(marks)
		for _, pattern := range r.LogFiles {
			more, bad := expand(pattern)
			faults = append(faults, bad...)
			if len(more) == 0 && len(bad) == 0 {
				faults = append(faults, fmt.Sprintf("%s: no log file is there", pattern))
			}
			names = append(names, more...)
		}
		slices.Sort(names)
		found := len(before) == 0
		for _, name := range slices.Compact(names) {
			l := &logFile{name: name, marks: marks, stdin: r.Stdin, yield: yield}
			err := l.read(ctx)
			found = found || l.known || slices.ContainsFunc(slices.Collect(maps.Values(before)),
				func(m mark) bool { return m.Name == name })
			switch {
			case errors.Is(err, errStop):
				return
			case err != nil && ctx.Err() != nil:
				yield(fold.Part{}, err)
				return
			case err != nil: // one that cannot be read keeps no other from being read
				faults = append(faults, err.Error())
			}
		}
		if !found && len(names) > 0 && names[0] != stdinName {
			faults = append(faults,
				fmt.Sprintf("none of the %d log files that were read before is there any more; is this another "+
					"folder?", len(before)))
		}
		if len(faults) > 0 {
			yield(fold.Part{}, fmt.Errorf("source %s: %w:\n%s", r.Name, source.ErrLog, strings.Join(faults, "\n")))
		}
	}
}

var errStop = errors.New("nobody wants more")

// logFile reads one file.
type logFile struct {
	name   string
	marks  map[string]mark
	stdin  io.Reader
	yield  func(fold.Part, error) bool
	header []byte // first line of a CSV file
	known  bool   // it begins as one that was read before
}

func (l *logFile) give(p fold.Part) error {
	if !l.yield(p, nil) {
		return errStop
	}
	return nil
}

// cursor returns the cursor behind what was given so far. The numbers of lines are
// known when it is asked for.
func (l *logFile) cursor() func() (string, error) {
	marks := maps.Clone(l.marks)
	return func() (string, error) {
		for k, m := range marks {
			if m.at != (auditlog.Line{}) {
				m.Line = m.at.Number()
				marks[k] = m
			}
		}
		b, err := json.Marshal(marks)
		return string(b), err
	}
}

func (l *logFile) read(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if l.name == stdinName {
		return l.stream(ctx, l.stdin, mark{Name: "standard input"})
	}
	f, err := os.Open(l.name)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	at := mark{Name: l.name, Size: st.Size(), MTime: st.ModTime().UnixNano()}
	for _, m := range l.marks {
		if m.Name == at.Name && m.Size == at.Size && m.MTime == at.MTime && m.Done {
			l.known = true
			return nil
		}
	}
	if columns.Is(f) {
		return l.columns(f, st.Size(), at)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return l.stream(ctx, f, at)
}

// columns gives a Parquet file a row group at a time. Such a file never grows.
func (l *logFile) columns(f *os.File, size int64, at mark) error {
	groups, err := columns.Open(f.Name(), size)
	if err != nil {
		return l.end(at, fold.Part{Name: l.name, Message: err.Error()})
	}
	key := groups.Key()
	if m, ok := l.marks[key]; ok {
		at.Sum, at.Offset = m.Sum, m.Offset
		l.known = true
	} else {
		at.Sum = key
	}
	for i := int(at.Offset); i < groups.Len(); i++ {
		p := fold.Part{Name: l.name, Rows: groups.Rows(i)}
		at.Offset = int64(i + 1)
		l.marks[key] = at
		p.Cursor = l.cursor()
		if err := l.give(p); err != nil {
			return err
		}
	}
	return l.end(at, fold.Part{Name: l.name})
}

// end gives the last part of a file, with the cursor behind it.
func (l *logFile) end(at mark, p fold.Part) error {
	if at.Sum == "" {
		at.Sum = sum([]byte(at.Name))
	}
	at.Done = true
	if l.name != stdinName {
		l.marks[at.Sum] = at
	}
	p.Cursor = l.cursor()
	return l.give(p)
}

func (l *logFile) stream(ctx context.Context, packed io.Reader, at mark) error {
	in, done, err := auditlog.Open(packed)
	if err != nil {
		return l.end(at, fold.Part{Name: at.Name, Message: err.Error() + "; nothing in this file can be read"})
	}
	defer done()
	head := make([]byte, headSize)
	n, err := io.ReadFull(in, head)
	head = head[:n]
	if n == 0 {
		if err != nil && !errors.Is(err, io.EOF) {
			return l.end(at, fold.Part{Name: at.Name, Message: err.Error() + "; nothing in this file can be read"})
		}
		return nil
	}
	array := auditlog.IsArray(head) || auditlog.IsList(head)
	ldif := !array && ldap.Is(head)
	quoted := !array && !ldif && auditlog.LooksQuoted(head)
	if l.name != stdinName {
		sums := map[int]string{} // of what begins the file, by length: most logs share one
		for _, key := range slices.Sorted(maps.Keys(l.marks)) {
			m := l.marks[key]
			if m.Head <= 0 || m.Head > n {
				continue
			}
			if sums[m.Head] == "" {
				sums[m.Head] = sum(head[:m.Head])
			}
			if sums[m.Head] == m.Sum {
				delete(l.marks, key)
				l.known = true
				at.Offset, at.Line, at.at = m.Offset, m.Line, m.at
				break
			}
		}
	}
	at.Head, at.Sum = n, sum(head)
	in = io.MultiReader(bytes.NewReader(head), in)
	if array { // of events: they become lines, and places are counted in those
		lines := auditlog.ArrayLines(in)
		defer lines.Close()
		in = lines
	} else if ldif { // entries too
		lines := ldap.Lines(in)
		defer lines.Close()
		in = lines
	}
	if at.Offset > 0 {
		if _, err := io.CopyN(io.Discard, in, at.Offset); err != nil {
			if !errors.Is(err, io.EOF) { // it is packed, and broken
				return l.end(at, fold.Part{Name: at.Name, Message: err.Error() + cut})
			}
			at.Offset, at.Line = 0, 0 // shorter than it was: another log after all
			return l.end(at, fold.Part{Name: at.Name,
				Message: "the file is shorter than what was read of it before; it is read again when it changes"})
		}
	}
	if quoted {
		l.header, _, _ = bytes.Cut(auditlog.WithoutMark(head), []byte{'\n'})
	}
	return l.chunks(ctx, in, at, quoted)
}

func (l *logFile) chunks(ctx context.Context, in io.Reader, at mark, quoted bool) error {
	n := 0
	for c, err := range auditlog.Chunks(in, at.Offset, at.Line, quoted) {
		if err != nil {
			at.Offset, at.at = c.Offset, c.Line
			return l.end(at, fold.Part{Name: at.Name, Chunk: auditlog.Chunk{Line: c.Line}, Message: err.Error() + cut})
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if c.Torn && !auditlog.Finished(c.Data) {
			// The last line is still being written: it is left for the next time.
			keep := auditlog.Whole(c.Data, quoted)
			c.Offset -= int64(len(c.Data) - keep)
			c.Data = c.Data[:keep]
		}
		at.Offset, at.at = c.Offset, c.End()
		p := fold.Part{Name: at.Name, Chunk: c, Quoted: quoted, Header: l.header}
		if n++; n%cursorChunks == 0 && l.name != stdinName {
			l.marks[at.Sum] = at
			p.Cursor = l.cursor()
		}
		if err := l.give(p); err != nil {
			return err
		}
	}
	return l.end(at, fold.Part{Name: at.Name})
}

// Find returns the files that a file name, a folder with those below it or a glob stands for.
func Find(pattern string) ([]string, error) {
	names, faults := expand(pattern)
	if len(faults) > 0 {
		return names, errors.New(strings.Join(faults, "\n"))
	}
	return names, nil
}

// expand returns the log files that a pattern stands for, and what is wrong with others.
func expand(pattern string) (out, faults []string) {
	if pattern == stdinName {
		return []string{pattern}, nil
	}
	bad := func(name string, err error) {
		var p *fs.PathError
		if errors.As(err, &p) {
			err = p.Err
		}
		faults = append(faults, fmt.Sprintf("%s: %v", name, err))
	}
	names, err := filepath.Glob(pattern)
	if err != nil {
		bad(pattern, err)
		return nil, faults
	}
	if len(names) == 0 && !strings.ContainsAny(pattern, "*?[") {
		_, err := os.Stat(pattern)
		if err == nil {
			err = errors.New("no log file is there")
		}
		bad(pattern, err)
		return nil, faults
	}
	for _, n := range names {
		st, err := os.Stat(n)
		switch {
		case err != nil:
			bad(n, err)
			continue
		case st.Mode().IsRegular():
			out = append(out, n)
			continue
		case !st.IsDir():
			bad(n, fmt.Errorf("it is no file (%s), and reading it might never end; only files and folders are read",
				kindOf(st.Mode())))
			continue
		}
		if link, err := os.Lstat(n); err == nil && link.Mode()&fs.ModeSymlink != 0 {
			bad(n, errors.New("it is a link to a folder, and whoever may change the link chooses what is read; "+
				"name the folder itself"))
			continue
		}
		_ = filepath.WalkDir(n, func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				bad(name, err)
				if d != nil && d.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			if d.IsDir() {
				return nil
			}
			// A link counts as what it leads to; a link to a folder is not followed.
			if st, err := os.Stat(name); err != nil {
				bad(name, err)
			} else if st.Mode().IsRegular() {
				out = append(out, name)
			}
			return nil
		})
	}
	return out, faults
}

func kindOf(m fs.FileMode) string {
	switch {
	case m&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeDevice != 0:
		return "a device"
	}
	return "of another kind"
}
