// Package files makes an exported estate and a folder of logs a source, so that
// Clip Fence works with no connection at all.
//
// The estate file is YAML or JSON in the words of the model; docs/estate-file.md
// describes it and `clipfence schema estate` prints its schema. Logs are OCSF API
// Activity lines, plain or packed; a file that did not change is not read again.
package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/ocsf"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/yamlfile"
)

// An EstateFile is what the estate file holds.
type EstateFile struct {
	Version      int `json:"estate" doc:"version of this format: 1"`
	model.Estate `yaml:",inline"`
}

// ParseEstate reads and validates an estate file. name is for messages.
func ParseEstate(name string, data []byte) (*model.Estate, error) {
	var f EstateFile
	if err := yamlfile.Decode(name, data, &f); err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s: estate: format %d is not known to this program (want 1)", name, f.Version)
	}
	if err := f.Estate.Validate(); err != nil {
		return nil, err
	}
	return &f.Estate, nil
}

// A Reader reads an estate file and log files.
type Reader struct {
	Name     string   // the source's name, as the estate file must have it
	Estate   string   // file
	LogFiles []string // files, folders and globs
}

var _ source.Reader = (*Reader)(nil)

// Check tries to read what is named.
func (r *Reader) Check(context.Context) ([]source.Right, error) {
	right := func(what, on string, err error) source.Right {
		rt := source.Right{For: "reading", What: what, On: on, OK: err == nil, Why: "readable"}
		if err != nil {
			rt.Why, rt.Mend = err.Error(), "make the file readable, or mend its name in clipfence.yaml"
		}
		return rt
	}
	_, err := r.estate()
	out := []source.Right{right("read the estate file", r.Estate, err)}
	for _, pattern := range r.LogFiles {
		names, err := expand(pattern)
		if err == nil && len(names) == 0 {
			err = errors.New("no file is there")
		}
		out = append(out, right("read the logs", pattern, err))
	}
	return out, nil
}

func (r *Reader) estate() (*model.Estate, error) {
	data, err := os.ReadFile(r.Estate)
	if err != nil {
		return nil, err
	}
	e, err := ParseEstate(r.Estate, data)
	if err != nil {
		return nil, err
	}
	if e.Source != r.Name {
		return nil, fmt.Errorf("%s: its source is %q; clipfence.yaml calls it %q", r.Estate, e.Source, r.Name)
	}
	return e, nil
}

// Survey yields the whole file at once: it is one version.
func (r *Reader) Survey(_ context.Context, _ string) iter.Seq2[source.Batch, error] {
	return func(yield func(source.Batch, error) bool) {
		e, err := r.estate()
		if err != nil {
			yield(source.Batch{}, err)
			return
		}
		yield(source.Batch{Records: Records(e), Cursor: "end", Version: "file"}, nil)
	}
}

// Records takes an estate apart.
func Records(e *model.Estate) []source.Record {
	out := []source.Record{{Kind: source.Semantics, ID: "-", Value: e.Semantics}}
	add := func(kind, id string, v any) { out = append(out, source.Record{Kind: kind, ID: id, Value: v}) }
	for _, v := range e.Catalogue {
		add(source.Permissions, v.Permission.String(), v)
	}
	for _, v := range e.Nodes {
		add(source.Nodes, v.Path.String(), v)
	}
	for _, v := range e.Identities {
		add(source.Identities, v.ID.String(), v)
	}
	for _, v := range e.Memberships {
		add(source.Memberships, v.Member.String()+">"+v.Group.String(), v)
	}
	for _, v := range e.ActAs {
		add(source.ActAs, v.ID, v)
	}
	for _, v := range e.Roles {
		add(source.Roles, v.Name, v)
	}
	for _, v := range e.Grants {
		add(source.Grants, v.ID, v)
	}
	for _, v := range e.Denials {
		add(source.Denials, v.ID, v)
	}
	for _, v := range e.Ceilings {
		add(source.Ceilings, v.ID, v)
	}
	for _, v := range e.Guardrails {
		add(source.Guardrails, v.ID, v)
	}
	for _, v := range e.Coverage {
		add(source.Coverage, v.Node.String()+"|"+v.Service+"|"+v.LogClass, v)
	}
	return out
}

// mark says how far a file was read.
type mark struct {
	Size  int64 `json:"size"`
	MTime int64 `json:"mtime"`
	Lines int   `json:"lines"`
	Whole bool  `json:"whole"`
}

// batchLines is how many lines are counted, or not counted, together.
const batchLines = 20_000

// Logs yields what files hold that were not read whole before. A file that
// changed is read again from its beginning; events counted before are known by
// their ids and do not count twice.
func (r *Reader) Logs(ctx context.Context, from string) iter.Seq2[source.LogBatch, error] {
	return func(yield func(source.LogBatch, error) bool) {
		marks := map[string]mark{}
		if from != "" {
			if err := json.Unmarshal([]byte(from), &marks); err != nil {
				yield(source.LogBatch{}, fmt.Errorf("source %s: log cursor: %w", r.Name, err))
				return
			}
		}
		var names []string
		for _, pattern := range r.LogFiles {
			more, err := expand(pattern)
			if err != nil {
				yield(source.LogBatch{}, fmt.Errorf("source %s: logs: %w", r.Name, err))
				return
			}
			names = append(names, more...)
		}
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			if err := ctx.Err(); err != nil {
				yield(source.LogBatch{}, err)
				return
			}
			if !r.file(ctx, name, marks, yield) {
				return
			}
		}
	}
}

func (r *Reader) file(ctx context.Context, name string, marks map[string]mark, yield func(source.LogBatch, error) bool) bool {
	f, err := os.Open(name)
	if err != nil {
		return yield(source.LogBatch{}, err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return yield(source.LogBatch{}, err)
	}
	id := fingerprint(name)
	m := marks[id]
	if m.Size != st.Size() || m.MTime != st.ModTime().UnixNano() {
		m = mark{Size: st.Size(), MTime: st.ModTime().UnixNano()}
	}
	if m.Whole {
		return true
	}
	var b source.LogBatch
	flush := func(whole bool) bool {
		m.Whole = whole
		marks[id] = m
		cursor, err := json.Marshal(marks)
		b.Cursor = string(cursor)
		ok := yield(b, err)
		b = source.LogBatch{}
		return ok
	}
	for l, err := range auditlog.Lines(f) {
		switch {
		case err != nil:
			b.Rejected = append(b.Rejected, source.Reject{File: name, Line: l.Number, Why: err.Error() + "; what follows in this file cannot be read"})
		case l.Number <= m.Lines:
			continue
		case l.Reject != "":
			b.Rejected = append(b.Rejected, source.Reject{File: name, Line: l.Number, Why: l.Reject})
		default:
			call, err := ocsf.Parse(l.Bytes)
			if err != nil {
				b.Rejected = append(b.Rejected, source.Reject{File: name, Line: l.Number, Why: err.Error()})
			} else {
				b.Calls = append(b.Calls, call)
			}
		}
		b.Lines++
		m.Lines = max(m.Lines, l.Number)
		if b.Lines == batchLines && (ctx.Err() != nil || !flush(false)) {
			return false
		}
	}
	return flush(true)
}

func fingerprint(name string) string {
	h := sha256.Sum256([]byte(name))
	return hex.EncodeToString(h[:8])
}

// expand lists the files behind a file name, a folder or a glob.
func expand(pattern string) ([]string, error) {
	names, err := filepath.Glob(pattern)
	if err != nil {
		return nil, fmt.Errorf("%q: %w", pattern, err)
	}
	var out []string
	for _, n := range names {
		st, err := os.Stat(n)
		if err != nil {
			return nil, err
		}
		if !st.IsDir() {
			out = append(out, n)
			continue
		}
		es, err := os.ReadDir(n)
		if err != nil {
			return nil, err
		}
		for _, e := range es {
			if e.Type().IsRegular() {
				out = append(out, filepath.Join(n, e.Name()))
			}
		}
	}
	return out, nil
}
