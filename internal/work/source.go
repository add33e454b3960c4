package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"go.yaml.in/yaml/v3"

	"clipfence/internal/auditlog"
	"clipfence/internal/config"
	"clipfence/internal/source"
)

const (
	previewed = 5   // records that are shown
	lookedAt  = 500 // and that are looked at, until one is understood
)

// Preview says how the first records of a source's logs are understood.
type Preview struct {
	Understood bool // one was, as a call or as well-formed and none; or there are none
	Records    []PreviewedRecord
}

// PreviewedRecord is a record of a log as it is understood, or why it is not.
type PreviewedRecord struct {
	Line                                             int
	Format, Who, ActingFor, Operation, Path, Outcome string
	Time                                             time.Time
	Fault                                            error
	Skipped                                          bool // it is well-formed, and no call
}

// preview reads the first records of a source's logs.
func (w *Workspace) preview(ctx context.Context, s config.Source) (*Preview, error) {
	t := &Preview{}
	mk, err := w.logFormats(s)
	if err != nil {
		return nil, err
	}
	show := func(line int, format string, e *auditlog.Event, fault error) {
		var skip *auditlog.Skip
		skipped := errors.As(fault, &skip)
		t.Understood = t.Understood || fault == nil || skipped
		if len(t.Records) == previewed {
			return
		}
		r := PreviewedRecord{Line: line, Format: format, Fault: fault, Skipped: skipped}
		if fault == nil {
			r.Who, r.ActingFor, r.Operation = string(e.Who.Text), string(e.ActingFor.Text), string(e.Operation)
			r.Path, r.Outcome, r.Time = string(e.Path), string(e.Outcome), time.UnixMilli(e.Time).UTC()
		}
		t.Records = append(t.Records, r)
	}
	formats := mk()
	looked := 0
	for p, err := range w.files(s, s.Logs).Logs(ctx, "") {
		if err != nil {
			break // the check itself has said so
		}
		for _, f := range formats {
			if h, ok := f.(interface{ Header([]byte) }); ok {
				h.Header(p.Header)
			}
		}
		if p.Rows != nil {
			if err := p.Rows(func(n int, e *auditlog.Event, fault error) bool {
				show(n, "parquet", e, fault)
				looked++
				return looked < lookedAt
			}); err != nil {
				show(0, "parquet", nil, err)
			}
		}
		for line, record := range p.Chunk.Records(p.Quoted) {
			if looked++; looked > lookedAt {
				break
			}
			line = p.Chunk.Line.Next(line).Number()
			known := false
			for _, f := range formats {
				if f.Sniff(record) {
					known = true
					if err := f.Parse(record, func(e *auditlog.Event) error {
						show(line, f.Name(), e,
							nil)
						return nil
					}); err != nil {
						show(line, f.Name(), nil, err)
					}
					break
				}
			}
			if !known {
				show(line, "unknown", nil, auditlog.ErrForeign)
			}
		}
		if p.Message != "" {
			show(p.Chunk.Line.Number(), "", nil, errors.New(p.Message))
		}
		if t.Understood || looked >= lookedAt {
			break
		}
	}
	t.Understood = t.Understood || looked == 0
	return t, nil
}

// Changes says who carries changes of a source out.
type Changes string

const (
	ByTool   Changes = "yes"
	ByPeople Changes = "by hand" // they are written down, and looked for in the next survey
	ByNobody Changes = "no"      // no token is named for it
)

// ChangesOf returns who carries changes of a source out.
func ChangesOf(s config.Source) Changes {
	switch {
	case s.Kind == "files" && s.Changes == config.ByEditing, s.Kind != "files" && !s.ChangeToken.IsZero():
		return ByTool
	case s.Kind == "files":
		return ByPeople
	}
	return ByNobody
}

// CheckedSource is what the tool's own identities may do in a source.
type CheckedSource struct {
	Name    string
	Changes Changes
	Rights  []source.Right
	Preview *Preview // of a files source
}

// Check tries, right by right, what the tool may do in the sources in question.
func (w *Workspace) Check(ctx context.Context) ([]CheckedSource, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	var out []CheckedSource
	for _, s := range sources {
		r, err := w.reader(ctx, s)
		if err != nil {
			return nil, err
		}
		x := CheckedSource{Name: s.Name, Changes: ChangesOf(s)}
		if x.Rights, err = r.Check(ctx); err != nil {
			return nil, err
		}
		if x.Changes == ByTool {
			c, err := w.changer(ctx, s)
			if err != nil {
				return nil, err
			}
			more, err := c.Check(ctx)
			if err != nil {
				return nil, err
			}
			x.Rights = append(x.Rights, more...)
		}
		if s.Kind == "files" {
			if x.Preview, err = w.preview(ctx, s); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// AddSource writes a source into the clipfence.yaml of a folder, and returns that file.
func AddSource(dir string, s config.Source) (string, error) {
	return editConfig(dir, func(c *config.Config, root *yaml.Node) error {
		if _, err := c.Source(s.Name); err == nil {
			return fmt.Errorf("source %q is there already; remove it first: clipfence source remove %s", s.Name,
				s.Name)
		}
		var n yaml.Node
		if err := n.Encode(sourceMap(s)); err != nil {
			return err
		}
		list := sequence(root, "sources")
		list.Style = 0
		list.Content = append(list.Content, &n)
		return nil
	})
}

// RemoveSource takes a source out of the clipfence.yaml of a folder; what was surveyed stays.
func RemoveSource(dir, name string) (string, error) {
	return editConfig(dir, func(c *config.Config, root *yaml.Node) error {
		if _, err := c.Source(name); err != nil {
			return err
		}
		list := sequence(root, "sources")
		for i, s := range c.Sources {
			if s.Name == name {
				list.Content = append(list.Content[:i], list.Content[i+1:]...)
				break
			}
		}
		return nil
	})
}

// editConfig changes clipfence.yaml as a tree, so that comments stay, checks the
// outcome, and puts it in place in one step.
func editConfig(dir string, edit func(*config.Config, *yaml.Node) error) (string, error) {
	c, err := config.Find(dir)
	if err != nil {
		return "", err
	}
	name := filepath.Join(c.Dir, config.File)
	data, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if err := edit(c, doc.Content[0]); err != nil {
		return "", err
	}
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := errors.Join(enc.Encode(&doc), enc.Close()); err != nil {
		return "", err
	}
	if _, err := config.Parse(name, out.Bytes()); err != nil {
		return "", err
	}
	return name, replaceFile(name, out.Bytes())
}

// sourceMap is a source as it is written into the file: without empty fields.
func sourceMap(s config.Source) map[string]any {
	m := map[string]any{"name": s.Name, "kind": s.Kind}
	for k, v := range map[string]string{"url": s.URL, "ca": s.CA, "estate": s.Estate} {
		if v != "" {
			m[k] = v
		}
	}
	for k, v := range map[string][]string{"logs": s.Logs, "log_maps": s.LogMaps} {
		if len(v) > 0 {
			m[k] = v
		}
	}
	secret := func(k string, x config.Secret) {
		switch {
		case x.Env != "":
			m[k] = map[string]string{"env": x.Env}
		case x.File != "":
			m[k] = map[string]string{"file": x.File}
		}
	}
	secret("token", s.Token)
	secret("change_token", s.ChangeToken)
	return m
}

// replaceFile writes a file beside the old one and moves it over, so that the old
// one stays whole when the writing fails.
func replaceFile(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	if err != nil {
		return err
	}
	_, err = tmp.Write(data)
	err = errors.Join(err, tmp.Sync(), tmp.Close())
	if err == nil {
		err = os.Rename(tmp.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	return nil
}

// sequence returns the list under a key of a mapping, and makes it if need be.
func sequence(m *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			if m.Content[i+1].Kind != yaml.SequenceNode {
				*m.Content[i+1] = yaml.Node{Kind: yaml.SequenceNode}
			}
			return m.Content[i+1]
		}
	}
	list := &yaml.Node{Kind: yaml.SequenceNode}
	m.Content = append(m.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, list)
	return list
}
