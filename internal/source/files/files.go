// Package files makes an exported estate and a folder of logs a source, so that
// Clip Fence works with no connection at all.
//
// The estate file is YAML or JSON in the words of the model; docs/estate-file.md
// describes it and `clipfence schema estate` prints its schema. Logs are files in any
// of the formats below auditlog, plain or packed.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/yamlfile"
)

// An EstateFile is what the estate file holds.
type EstateFile struct {
	Version      int `json:"estate" doc:"version of this format: 2"`
	model.Estate `yaml:",inline"`
	Remarks      []model.Remark `json:"-"` // what to write otherwise now
}

// ParseEstate reads and validates an estate file. name is for messages.
func ParseEstate(name string, data []byte) (*EstateFile, error) {
	var f EstateFile
	if err := yamlfile.Decode(name, data, &f); err != nil {
		return nil, err
	}
	if err := yamlfile.Version(name, "estate", f.Version, 2, &f.Remarks); err != nil {
		return nil, err
	}
	if err := f.Estate.Validate(); err != nil {
		return nil, err
	}
	f.spreadCoverage()
	return &f, nil
}

// spreadCoverage puts in place of a coverage record that names no service, or no class, one for
// each log that the catalogue tells of; what names more goes first. Of a record that no permission
// of the catalogue is shown by it is said: whoever mistypes one would else be told that nothing can
// be judged, and not why.
func (f *EstateFile) spreadCoverage() {
	type log struct {
		node           model.Path
		service, class string
	}
	named := func(r model.CoverageRecord) (n int) {
		for _, name := range []string{r.Service, r.LogClass} {
			if name != "" {
				n++
			}
		}
		return n
	}
	slices.SortStableFunc(f.Coverage, func(a, b model.CoverageRecord) int { return named(b) - named(a) })
	var out []model.CoverageRecord
	done := map[log]bool{}
	for _, r := range f.Coverage {
		shows := false
		for _, c := range f.Catalogue {
			one := r
			one.Service, one.LogClass = c.Permission.Service(), c.LogClass
			if c.LogClass == "" || (r.Service != "" && r.Service != one.Service) ||
				(r.LogClass != "" && r.LogClass != one.LogClass) {
				continue
			}
			shows = true
			if l := (log{r.Node, one.Service, one.LogClass}); !done[l] {
				out, done[l] = append(out, one), true
			}
		}
		if shows {
			continue
		}
		f.Remarks = append(f.Remarks, model.Remark{At: r.At, Text: fmt.Sprintf("coverage of service %q, log_class %q "+
			"says nothing: no permission of the catalogue is shown by such a log", r.Service, r.LogClass)})
		if named(r) == 2 {
			out = append(out, r)
		}
	}
	f.Coverage = out
}

// A Reader reads an estate file and log files.
type Reader struct {
	Name     string    // the source's name, as the estate file must have it
	Estate   string    // file
	LogFiles []string  // files, folders and globs; "-" is Stdin
	Stdin    io.Reader // may be nil where no "-" is named

	Remark func(model.Remark) // told what to write otherwise in the estate file now; may be nil

	// Known is what the estate file said when it was looked at last, for those who look again and again; nil: it is
	// read each time.
	Known *Known
}

var _ source.Reader = (*Reader)(nil)

// Check tries to read what is named.
func (r *Reader) Check(context.Context) ([]source.Right, error) {
	right := func(what, on string, err error) source.Right {
		rt := source.Right{For: "reading", What: what, Where: on, OK: err == nil, Why: "readable"}
		if err != nil {
			rt.Why, rt.Mend = err.Error(), "make the file readable, or mend its name in clipfence.yaml"
		}
		return rt
	}
	_, err := r.estate()
	out := []source.Right{right("read the estate file", r.Estate, err)}
	for _, pattern := range r.LogFiles {
		names, err := Find(pattern)
		if err == nil && len(names) == 0 {
			err = errors.New("no file is there")
		}
		out = append(out, right("read the logs", pattern, err))
	}
	return out, nil
}

func (r *Reader) estate() (*model.Estate, error) {
	if st, err := os.Stat(r.Estate); err == nil && !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: it is no file (%s)", r.Estate, kindOf(st.Mode()))
	}
	data, err := os.ReadFile(r.Estate)
	if err != nil {
		return nil, err
	}
	e, err := r.Known.parse(r.Estate, data)
	if err != nil {
		return nil, err
	}
	if e.Source != r.Name {
		return nil, fmt.Errorf("%s: its source is %q; clipfence.yaml calls it %q", r.Estate, e.Source, r.Name)
	}
	if r.Remark != nil {
		for _, m := range e.Remarks {
			r.Remark(m)
		}
	}
	return &e.Estate, nil
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
