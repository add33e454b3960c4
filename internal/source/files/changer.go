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

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/documents"
	"clipfence/internal/yamlfile"
)

// A Changer edits an estate file: one record at a time, every other byte of the file as it
// was. It is for estates whose file is the truth, such as one that is kept in a repository
// and rolled out from there.
//
// The file is put in place whole, so a crash leaves the old one or the new one. Somebody
// else who writes it in the moment between reading and renaming may be overwritten; two
// changes of this tool are kept apart by their lease.
type Changer struct{ *Reader }

var _ source.Changer = Changer{}

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
	_, body, err := find(e, kind, id)
	if err == nil && body == nil {
		err = fmt.Errorf("%s: %s %q: %w", c.Estate, kind, id, source.ErrGone)
	}
	return source.Document{Body: body}, err
}

// Do edits the file.
func (c Changer) Do(_ context.Context, s source.Step) error {
	e, data, err := c.read()
	if err != nil {
		return err
	}
	_, body, err := find(e, s.Kind, s.ID)
	switch {
	case err != nil:
		return err
	case source.Same(body, s.After):
		return nil
	case !source.Same(body, s.Before):
		return fmt.Errorf("%s: %s %q: %w; survey again and draft anew", c.Estate, s.Kind, s.ID, source.ErrConflict)
	}
	out, err := Edited(c.Estate, data, []source.Step{s})
	if err != nil {
		return err
	}
	return c.write(data, out)
}

func (c Changer) read() (*model.Estate, []byte, error) {
	data, err := os.ReadFile(c.Estate)
	if err != nil {
		return nil, nil, err
	}
	e, err := ParseEstate(c.Estate, data)
	if err != nil {
		return nil, nil, err
	}
	return &e.Estate, data, nil
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

// find returns the place of a record in its list and what it says; nil where it is none.
func find(e *model.Estate, kind, id string) (int, json.RawMessage, error) {
	at := -1
	for _, r := range Records(e) {
		if r.Kind != kind {
			continue
		}
		at++
		if r.ID == id {
			body, err := json.Marshal(r.Value)
			return at, body, err
		}
	}
	if !slices.Contains([]string{source.Roles, source.Grants, source.Memberships, source.Denials}, kind) {
		return -1, nil, fmt.Errorf("%s: %s are not edited by this tool: %w", e.Source, kind, source.ErrCannot)
	}
	return -1, nil, nil
}

// Edited returns an estate file as it is after some steps, of which only the records that
// they are about differ from what it was. name is for messages.
func Edited(name string, data []byte, steps []source.Step) ([]byte, error) {
	for _, s := range steps {
		was, err := ParseEstate(name, data)
		if err != nil {
			return nil, err
		}
		if was.Version != source.FormatVersion {
			return nil, fmt.Errorf("%s: it is of format %d, which is read and not written; write estate: %d and "+
				"what the remarks say first", name, was.Version, source.FormatVersion)
		}
		at, body, err := find(&was.Estate, s.Kind, s.ID)
		if err != nil {
			return nil, err
		}
		if body == nil && s.After == nil {
			continue
		}
		out, err := yamlfile.Replace(data, s.Kind, at, s.After)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		is, err := ParseEstate(name, out)
		if err != nil {
			return nil, fmt.Errorf("%s with %s %s replaced: %w", name, s.Kind, s.ID, err)
		}
		if err := onlyOne(&was.Estate, &is.Estate, s); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		data = out
	}
	return data, nil
}

// onlyOne sees to it that a step changed what it is about and nothing else.
func onlyOne(was, is *model.Estate, s source.Step) error {
	rest := func(e *model.Estate) (out []source.Record, body json.RawMessage) {
		for _, r := range Records(e) {
			b, err := json.Marshal(r.Value)
			if err != nil {
				b = nil
			}
			if r.Kind == s.Kind && r.ID == s.ID {
				body = b
				continue
			}
			out = append(out, source.Record{Kind: r.Kind, ID: r.ID, Value: string(b)})
		}
		return out, body
	}
	before, _ := rest(was)
	after, body := rest(is)
	if !source.Same(body, s.After) || !reflect.DeepEqual(before, after) {
		return fmt.Errorf("%s %q cannot be replaced in the file without changing more than that; edit it by hand",
			s.Kind, s.ID)
	}
	return nil
}

// Seen reports which steps an estate shows as done.
func Seen(e *model.Estate, steps []source.Step) ([]bool, error) {
	var out []bool
	for _, s := range steps {
		_, body, err := find(e, s.Kind, s.ID)
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
