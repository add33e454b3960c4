package files

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sync"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
	"clipfence/internal/yamlfile"
)

// A Changer edits an estate file: the records of a change at once, every other byte of the file as it
// was. It is for estates whose file is the truth, such as one that is kept in a repository
// and rolled out from there.
//
// The file is put in place whole, so a crash leaves the old one or the new one. Somebody
// else who writes it in the moment between reading and renaming may be overwritten; two
// changes of this tool are kept apart by their lease.
type Changer struct{ *Reader }

var _ source.AtOnce = Changer{}

// Planner returns the planner of documents: an estate file can say whatever the model can.
func (c Changer) Planner() source.Planner { return documents.Planner{} }

// Self returns nobody: whoever runs the tool edits the file with their own rights.
func (c Changer) Self(context.Context) (model.ID, error) { return model.ID{}, nil }

// Peer refuses: what is lent for a time is lent by a system that is asked at every call.
func (c Changer) Peer(context.Context) (source.Peer, error) {
	return source.Peer{}, fmt.Errorf("source %s: %w; a gate opens in a system that is connected as a bridge", c.Name,
		source.ErrReadOnly)
}

// Check tries whether the file can be put in place anew.
func (c Changer) Check(context.Context) ([]source.Right, error) {
	r := source.Right{For: "changing", What: "write the estate file", Where: c.Estate, OK: true,
		Why: "its folder is writable"}
	f, err := os.CreateTemp(filepath.Dir(c.Estate), ".clipfence-*")
	if err == nil {
		err = errors.Join(f.Close(), os.Remove(f.Name()))
	}
	if err != nil {
		r.OK, r.Why, r.Mend = false, err.Error(), "let this account write the folder of the estate file"
	}
	return []source.Right{r}, nil
}

// Get returns a record as the file says it.
func (c Changer) Get(_ context.Context, kind, id string) (source.Document, error) {
	e, _, err := c.read()
	if err != nil {
		return source.Document{}, err
	}
	body, err := find(&e.Estate, kind, id)
	if err == nil && body == nil {
		err = fmt.Errorf("%s: %s %q: %w", c.Estate, kind, id, source.ErrGone)
	}
	return source.Document{Body: body}, err
}

// Do edits the file.
func (c Changer) Do(ctx context.Context, s source.Step) error { return c.DoAll(ctx, []source.Step{s}) }

// DoAll edits the file once: whoever reads it sees all steps done, or none.
func (c Changer) DoAll(_ context.Context, steps []source.Step) error {
	e, data, err := c.read()
	if err != nil {
		return err
	}
	says := bodies(&e.Estate, steps)
	var open []source.Step
	for _, s := range steps {
		body, err := says(s.Kind, s.ID)
		switch {
		case err != nil:
			return err
		case source.Same(body, s.After):
		case !source.Same(body, s.Before):
			return fmt.Errorf("%s: %s %q: %w; survey again and draft anew", c.Estate, s.Kind, s.ID,
				source.ErrConflict)
		default:
			open = append(open, s)
		}
	}
	if len(open) == 0 {
		return nil
	}
	out, _, err := c.Known.edited(c.Estate, data, e, open)
	if err != nil {
		return err
	}
	return c.write(data, out)
}

func (c Changer) read() (*EstateFile, []byte, error) {
	data, err := os.ReadFile(c.Estate)
	if err != nil {
		return nil, nil, err
	}
	e, err := c.Known.parse(c.Estate, data)
	return e, data, err
}

// Known is what a file says that was looked at last, and what it is about to say. A change looks at it several
// times, and reading takes long where there are thousands of records. Nobody may change what it says. A nil one
// keeps nothing.
type Known struct {
	mu   sync.Mutex
	last [2]text // the newest first
}

// text is what a file holds, and says.
type text struct {
	data []byte
	file *EstateFile
}

// parse returns what a file says.
func (k *Known) parse(name string, data []byte) (*EstateFile, error) {
	if k == nil {
		return ParseEstate(name, data)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, t := range k.last {
		if t.file != nil && bytes.Equal(t.data, data) {
			return t.file, nil
		}
	}
	f, err := ParseEstate(name, data)
	if err == nil {
		k.last = [2]text{{data, f}, k.last[0]}
	}
	return f, err
}

// write puts a file in the place of one that is still as it was read.
func (c Changer) write(was, data []byte) error {
	st, err := os.Stat(c.Estate)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(c.Estate), "."+filepath.Base(c.Estate)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(st.Mode().Perm()), f.Sync(), f.Close())
	if now, rerr := os.ReadFile(c.Estate); err == nil && (rerr != nil || !bytes.Equal(now, was)) {
		err = errors.Join(rerr, fmt.Errorf("%s: %w; it was not written over", c.Estate, source.ErrConflict))
	}
	if err == nil {
		err = os.Rename(f.Name(), c.Estate)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// find returns what a record says; nil where it is none.
func find(e *model.Estate, kind, id string) (json.RawMessage, error) {
	return bodies(e, []source.Step{{Kind: kind, ID: id}})(kind, id)
}

// bodies returns what says what the records say that some steps are about; nil where one is none.
func bodies(e *model.Estate, about []source.Step) func(kind, id string) (json.RawMessage, error) {
	is := map[record]any{}
	for _, s := range about {
		is[record{s.Kind, s.ID}] = nil
	}
	for _, r := range Records(e) {
		k := record{r.Kind, r.ID}
		if was, asked := is[k]; asked && was == nil {
			is[k] = r.Value
		}
	}
	return func(kind, id string) (json.RawMessage, error) {
		if v := is[record{kind, id}]; v != nil {
			return json.Marshal(v)
		}
		return nil, editable(e, kind)
	}
}

// editable says of a kind of which nothing is edited that it is not.
func editable(e *model.Estate, kind string) error {
	if !slices.Contains([]string{source.Roles, source.Grants, source.Memberships, source.Denials}, kind) {
		return fmt.Errorf("%s: %s are not edited by this tool: %w", e.Source, kind, source.ErrCannot)
	}
	return nil
}

// Edited returns an estate file as it is after some steps, of which only the records that
// they are about differ from what it was. name is for messages.
func (k *Known) Edited(name string, data []byte, steps []source.Step) ([]byte, error) {
	was, err := k.parse(name, data)
	if err != nil {
		return nil, err
	}
	out, _, err := k.edited(name, data, was, steps)
	return out, err
}

// record names a record of an estate.
type record struct{ kind, id string }

// edited returns a file that says something as it is after some steps, and what it says then.
func (k *Known) edited(name string, data []byte, was *EstateFile, steps []source.Step) ([]byte, *EstateFile,
	error) {
	if was.Version != source.FormatVersion {
		return nil, nil, fmt.Errorf("%s: it is of format %d, which is read and not written; write estate: %d and "+
			"what the remarks say first", name, was.Version, source.FormatVersion)
	}
	// Whoever does them one by one gets the same text: what comes to a list stands behind what is left of it.
	done, gone := map[record]bool{}, map[string]bool{}
	for i, s := range steps {
		ref := record{s.Kind, s.ID}
		if done[ref] || gone[s.Kind] && s.Before == nil {
			first, is, err := k.edited(name, data, was, steps[:i])
			if err != nil {
				return nil, nil, err
			}
			return k.edited(name, first, is, steps[i:])
		}
		done[ref], gone[s.Kind] = true, gone[s.Kind] || s.After == nil
	}
	at, kinds := map[record]int{}, map[string]int{}
	for ref := range done {
		at[ref] = -1
	}
	for _, r := range Records(&was.Estate) {
		ref := record{r.Kind, r.ID}
		if i, asked := at[ref]; asked && i < 0 {
			at[ref] = kinds[r.Kind]
		}
		kinds[r.Kind]++
	}
	about := map[record]json.RawMessage{}
	var edits []yamlfile.Edit
	for _, s := range steps {
		ref := record{s.Kind, s.ID}
		if at[ref] < 0 {
			if err := editable(&was.Estate, s.Kind); err != nil {
				return nil, nil, err
			}
			if s.After == nil {
				continue
			}
		}
		edits, about[ref] = append(edits, yamlfile.Edit{Key: s.Kind, Index: at[ref], With: s.After}), s.After
	}
	data, err := yamlfile.ReplaceAll(data, edits)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	is, err := k.parse(name, data)
	if err != nil {
		return nil, nil, fmt.Errorf("%s after %d steps: %w", name, len(steps), err)
	}
	if err := onlyThese(&was.Estate, &is.Estate, about); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, is, nil
}

// onlyThese sees to it that steps changed what they are about, to what they say, and nothing else.
func onlyThese(was, is *model.Estate, about map[record]json.RawMessage) error {
	rest := func(e *model.Estate) (out []source.Record, bodies map[record]json.RawMessage) {
		bodies = map[record]json.RawMessage{}
		for _, r := range Records(e) {
			b, err := json.Marshal(r.Value)
			if err != nil {
				b = nil
			}
			k := record{r.Kind, r.ID}
			if _, is := about[k]; is {
				bodies[k] = b
				continue
			}
			out = append(out, source.Record{Kind: r.Kind, ID: r.ID, Value: string(b)})
		}
		return out, bodies
	}
	before, _ := rest(was)
	after, bodies := rest(is)
	same := reflect.DeepEqual(before, after)
	for k, want := range about {
		if !same || !source.Same(bodies[k], want) {
			return fmt.Errorf("%s %q cannot be replaced in the file without changing more than that; edit it by hand",
				k.kind, k.id)
		}
	}
	return nil
}

// Seen reports which steps an estate shows as done.
func Seen(e *model.Estate, steps []source.Step) ([]bool, error) {
	var out []bool
	for _, s := range steps {
		body, err := find(e, s.Kind, s.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, source.Same(undated(body), undated(s.After)))
	}
	return out, nil
}

// undated leaves out when a record was made: whoever carries a step out by hand makes it at a
// time of their own.
func undated(body json.RawMessage) json.RawMessage {
	var m map[string]json.RawMessage
	if len(body) == 0 || json.Unmarshal(body, &m) != nil {
		return body
	}
	delete(m, "created")
	out, err := json.Marshal(m)
	if err != nil {
		return body
	}
	return out
}
