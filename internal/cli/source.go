package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	yaml "go.yaml.in/yaml/v3"

	"clipfence/internal/config"
	"clipfence/internal/render"
	"clipfence/internal/source"
)

func (a *app) sourceCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "source", Short: "Connect systems, and check the tool's own rights in them", Args: cobra.NoArgs,
		Example: "  clipfence source check",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.sourceAdd(), a.sourceList(), a.sourceCheck(), a.sourceRemove())
	return cmd
}

func (a *app) sourceAdd() *cobra.Command {
	var s config.Source
	var env, file, changeEnv, changeFile string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Add a source to clipfence.yaml", Args: cobra.ExactArgs(1),
		Long: `Add a source to clipfence.yaml. Tokens are named, never given: an environment
variable or a file is read whenever the token is needed. Reading and changing use
two tokens; without the second the source cannot be changed.`,
		Example: `  clipfence source add mooring --kind bridge --url http://127.0.0.1:7070 --token-env READ --change-token-env CHANGE
  clipfence source add export --kind files --estate estate.yaml --logs logs/`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s.Name = args[0]
			s.Token, s.ChangeToken = config.Secret{Env: env, File: file}, config.Secret{Env: changeEnv, File: changeFile}
			return a.editConfig(func(c *config.Config, root *yaml.Node) error {
				if _, err := c.Source(s.Name); err == nil {
					return fmt.Errorf("source %q is there already; remove it first: clipfence source remove %s", s.Name, s.Name)
				}
				var n yaml.Node
				if err := n.Encode(sourceMap(s)); err != nil {
					return err
				}
				list := sequence(root, "sources")
				list.Style = 0
				list.Content = append(list.Content, &n)
				return nil
			}, "Source "+s.Name+" added", "clipfence source check", "clipfence survey")
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.Kind, "kind", "bridge", "bridge (a system that speaks the bridge protocol) or files")
	f.StringVar(&s.URL, "url", "", "bridge: its address")
	f.StringVar(&s.CA, "ca", "", "bridge: PEM file of the issuer of its certificate")
	f.StringVar(&env, "token-env", "", "environment variable that holds the token for reading")
	f.StringVar(&file, "token-file", "", "file that holds the token for reading")
	f.StringVar(&changeEnv, "change-token-env", "", "environment variable that holds the token for changing")
	f.StringVar(&changeFile, "change-token-file", "", "file that holds the token for changing")
	f.StringVar(&s.Estate, "estate", "", "files: the estate file")
	f.StringSliceVar(&s.Logs, "logs", nil, "files: log files, folders or globs")
	return cmd
}

// sourceMap is a source as it is written into the file: without empty fields.
func sourceMap(s config.Source) map[string]any {
	m := map[string]any{"name": s.Name, "kind": s.Kind}
	for k, v := range map[string]string{"url": s.URL, "ca": s.CA, "estate": s.Estate} {
		if v != "" {
			m[k] = v
		}
	}
	if len(s.Logs) > 0 {
		m["logs"] = s.Logs
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

// editConfig changes clipfence.yaml as a tree, so that comments stay, checks the
// outcome, and puts it in place in one step.
func (a *app) editConfig(edit func(*config.Config, *yaml.Node) error, done string, next ...string) error {
	c, err := config.Find(a.dir)
	if err != nil {
		return err
	}
	name := filepath.Join(c.Dir, config.File)
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if err := edit(c, doc.Content[0]); err != nil {
		return err
	}
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := errors.Join(enc.Encode(&doc), enc.Close()); err != nil {
		return err
	}
	if _, err := config.Parse(name, out.Bytes()); err != nil {
		return err
	}
	if err := replaceFile(name, out.Bytes()); err != nil {
		return err
	}
	return a.print(&render.Doc{Head: done + " in " + name, Next: next, Value: map[string]string{"file": name}})
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

func (a *app) sourceRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take a source out of clipfence.yaml; what was surveyed stays", Args: cobra.ExactArgs(1),
		Example: "  clipfence source remove export",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.editConfig(func(c *config.Config, root *yaml.Node) error {
				if _, err := c.Source(args[0]); err != nil {
					return err
				}
				list := sequence(root, "sources")
				for i, s := range c.Sources {
					if s.Name == args[0] {
						list.Content = append(list.Content[:i], list.Content[i+1:]...)
						break
					}
				}
				return nil
			}, "Source "+args[0]+" removed")
		},
	}
}

func (a *app) sourceList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sources", Args: cobra.NoArgs,
		Example: "  clipfence source list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *workspace) error {
				t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "KIND"}, {Name: "WHERE", Path: true}, {Name: "CHANGEABLE"}, {Name: "LAST SURVEY"}}}
				type row struct {
					Name       string    `json:"name"`
					Kind       string    `json:"kind"`
					Where      string    `json:"where"`
					Changeable bool      `json:"changeable"`
					Surveyed   time.Time `json:"surveyed,omitzero"`
				}
				rows := []row{}
				for _, s := range w.Sources {
					r := row{Name: s.Name, Kind: s.Kind, Where: s.URL + s.Estate, Changeable: !s.ChangeToken.IsZero()}
					if all, err := w.store.Surveys(cmd.Context(), s.Name); err != nil {
						return err
					} else if len(all) > 0 {
						r.Surveyed = all[0].Finished
					}
					when := "never"
					if !r.Surveyed.IsZero() {
						when = r.Surveyed.Format("2006-01-02 15:04")
					}
					rows = append(rows, r)
					t.Row(render.C(r.Name), render.C(r.Kind), render.C(r.Where), render.C(yesNo(r.Changeable)), render.C(when))
				}
				d := &render.Doc{Head: render.Plural(len(rows), "source"), Tables: []render.Table{t}, Value: rows, Next: []string{"clipfence source check"}}
				if len(rows) == 0 {
					d.Tables, d.Next = nil, []string{"clipfence source add NAME --help"}
				}
				return a.print(d)
			})
		},
	}
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) sourceCheck() *cobra.Command {
	var wait durationFlag
	cmd := &cobra.Command{
		Use: "check [NAME]", Short: "Say what the tool's own identity can and cannot do in a source", Args: cobra.MaximumNArgs(1),
		Long: `Try, right by right, what the tool's own identities may do: for reading, and
separately for changing. A right that is missing comes with the smallest grant
that mends it. Of log files the first lines are read and it is shown what was
understood. With --wait, a lack is tried again until that long has passed: a
grant that was just made can take minutes to be visible.`,
		Example: "  clipfence source check mooring --wait 5m",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				a.source = args[0]
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				deadline := time.Now().Add(time.Duration(wait.Duration))
				for {
					d, lacks, err := w.check(cmd)
					if err != nil {
						return err
					}
					if lacks > 0 && time.Now().Before(deadline) {
						a.say("%s missing; trying again until %s", render.Plural(lacks, "right"), deadline.Format(time.TimeOnly))
						select {
						case <-cmd.Context().Done():
							return cmd.Context().Err()
						case <-time.After(2 * time.Second):
						}
						continue
					}
					if err := a.print(d); err != nil {
						return err
					}
					if lacks > 0 {
						return errCheck
					}
					return nil
				}
			})
		},
	}
	cmd.Flags().Var(&wait, "wait", "try again for so long while a right is missing")
	return cmd
}

func (w *workspace) check(cmd *cobra.Command) (*render.Doc, int, error) {
	ctx := cmd.Context()
	sources, err := w.each()
	if err != nil {
		return nil, 0, err
	}
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "FOR"}, {Name: "RIGHT"}, {Name: "OK"}, {Name: "WHY", Wrap: true}}}
	type row struct {
		Source string `json:"source"`
		source.Right
	}
	rows := []row{}
	d := &render.Doc{}
	lacks := 0
	for _, s := range sources {
		r, err := w.reader(ctx, s)
		if err != nil {
			return nil, 0, err
		}
		rights, err := r.Check(ctx)
		if err != nil {
			return nil, 0, err
		}
		if s.ChangeToken.IsZero() {
			d.Notes = append(d.Notes, "Source "+s.Name+" cannot be changed: it names no change_token.")
		} else {
			c, err := w.changer(ctx, s)
			if err != nil {
				return nil, 0, err
			}
			more, err := c.Check(ctx)
			if err != nil {
				return nil, 0, err
			}
			rights = append(rights, more...)
		}
		for _, x := range rights {
			ok := render.Cell{Text: "yes", Tone: render.Good}
			if !x.OK {
				lacks++
				ok = render.Cell{Text: "NO", Tone: render.Bad}
				d.Next = append(d.Next, x.Mend)
			}
			rows = append(rows, row{s.Name, x})
			t.Row(render.C(s.Name), render.C(x.For), render.C(x.What), ok, render.C(x.Why))
		}
	}
	d.Head = fmt.Sprintf("All %s are there", render.Plural(len(rows), "right"))
	if lacks > 0 {
		d.Head = fmt.Sprintf("%d of %s missing", lacks, render.Plural(len(rows), "right"))
	} else {
		d.Next = []string{"clipfence survey"}
	}
	d.Tables, d.Value = []render.Table{t}, rows
	for _, s := range sources {
		if s.Kind == "files" {
			p, understood, err := w.preview(ctx, s)
			if err != nil {
				return nil, 0, err
			}
			if !understood {
				lacks++
				d.Head = fmt.Sprintf("No line of the logs of %s is understood; %s", s.Name, lowerFirst(d.Head))
				d.Next = append([]string{"write a log map for " + s.Name + " (docs/logs.md; clipfence schema logmap), name it under log_maps in clipfence.yaml, then: clipfence source check"}, d.Next...)
			}
			if len(p.Rows) > 0 {
				d.Tables = append(d.Tables, p)
			}
		}
	}
	return d, lacks, nil
}
