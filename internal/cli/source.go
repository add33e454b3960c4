package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) sourceCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "source", Short: "Connect systems, and check the tool's own rights in them",
		Args:    cobra.NoArgs,
		Example: "  clipfence source check",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.sourceAdd(), a.sourceList(), a.sourceCheck(), a.sourceRemove())
	return cmd
}

func (a *app) sourceAdd() *cobra.Command {
	var s work.SourceConfig
	var env, file, changeEnv, changeFile string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Add a source to clipfence.yaml", Args: cobra.ExactArgs(1),
		Long: `Add a source to clipfence.yaml. Tokens are named, never given: an environment
variable or a file is read whenever the token is needed. Reading and changing use
two tokens; without the second the source cannot be changed. Paths are as seen from
clipfence.yaml.`,
		Example: `  clipfence source add mooring --kind bridge --url http://127.0.0.1:7070 --token-env READ --change-token-env CHANGE
  clipfence source add export --kind files --estate estate.yaml --logs logs/
  clipfence source add tickets --kind files --estate tickets.yaml --logs tickets/ --log-map tickets.logmap.yaml`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s.Name = args[0]
			s.Token, s.ChangeToken = work.Secret{Env: env, File: file}, work.Secret{Env: changeEnv, File: changeFile}
			name, err := work.AddSource(a.dir, s)
			if err != nil {
				return err
			}
			return a.print(&render.Doc{Head: "Source " + s.Name + " added in " + name,
				Next: []string{"clipfence source check", "clipfence survey"}, Value: map[string]string{"file": name}})
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
	f.StringSliceVar(&s.LogMaps, "log-map", nil, "files that say how logs of other formats are read "+
		"(clipfence schema logmap)")
	return cmd
}

func (a *app) sourceRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take a source out of clipfence.yaml; what was surveyed stays",
		Args:    cobra.ExactArgs(1),
		Example: "  clipfence source remove export",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := work.RemoveSource(a.dir, args[0])
			if err != nil {
				return err
			}
			return a.print(&render.Doc{Head: "Source " + args[0] + " removed in " + name,
				Value: map[string]string{"file": name}})
		},
	}
}

func (a *app) sourceList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sources", Args: cobra.NoArgs,
		Example: "  clipfence source list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "KIND"},
					{Name: "WHERE", Path: true}, {Name: "CHANGEABLE"}, {Name: "LAST SURVEY"}}}
				type row struct {
					Name       string    `json:"name"`
					Kind       string    `json:"kind"`
					Where      string    `json:"where"`
					Changeable bool      `json:"changeable" doc:"by this tool"`
					ByHand     bool      `json:"changed_by_hand,omitempty" doc:"changes are handed over"`
					Surveyed   time.Time `json:"surveyed,omitzero"`
				}
				rows := []row{}
				for _, s := range w.Sources {
					who := work.ChangesOf(s)
					r := row{Name: s.Name, Kind: s.Kind, Where: s.URL + s.Estate, Changeable: who == work.ByTool,
						ByHand: who == work.ByPeople}
					if all, err := w.Surveys(cmd.Context(), s.Name); err != nil {
						return err
					} else if len(all) > 0 {
						r.Surveyed = all[0].Finished
					}
					when := "never"
					if !r.Surveyed.IsZero() {
						when = r.Surveyed.Format("2006-01-02 15:04")
					}
					rows = append(rows, r)
					t.Row(render.C(r.Name), render.C(r.Kind), render.C(r.Where), render.C(string(who)), render.C(when))
				}
				d := &render.Doc{Head: render.Plural(len(rows), "source"), Tables: []render.Table{t}, Value: rows,
					Next: []string{"clipfence source check"}}
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
		Use: "check [NAME]", Short: "Say what the tool's own identity can and cannot do in a source",
		Args: cobra.MaximumNArgs(1),
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
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				deadline := time.Now().Add(time.Duration(wait.Duration))
				for {
					checked, err := w.Check(cmd.Context())
					if err != nil {
						return err
					}
					d, lacks := checkDoc(checked)
					if lacks > 0 && time.Now().Before(deadline) {
						a.say("%s missing; trying again until %s", render.Plural(lacks, "right"),
							deadline.Format(time.TimeOnly))
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

// checkDoc says of sources what the tool may do there, and how much is missing.
func checkDoc(sources []work.CheckedSource) (*render.Doc, int) {
	t := render.Table{Columns: []render.Column{{Name: "SOURCE"}, {Name: "FOR"}, {Name: "RIGHT"}, {Name: "OK"},
		{Name: "WHY", Wrap: true}}}
	type row struct {
		Source string `json:"source"`
		work.Right
	}
	rows := []row{}
	d := &render.Doc{}
	lacks, without := 0, 0
	for _, s := range sources {
		switch s.Changes {
		case work.ByNobody:
			d.Notes = append(d.Notes, "Source "+s.Name+" cannot be changed: it names no change_token.")
		case work.ByPeople:
			d.Notes = append(d.Notes, "Changes of source "+s.Name+
				" are written down for whoever keeps its files (changes: edit lets this tool edit them).")
		}
		for _, x := range s.Rights {
			ok := render.Cell{Text: "yes", Tone: render.Good}
			switch {
			case !x.OK && x.Optional:
				ok, without = render.C("no"), without+1
				x.Why += "; only denials take it"
			case !x.OK:
				lacks++
				ok = render.Cell{Text: "NO", Tone: render.Bad}
				d.Next = append(d.Next, x.Mend)
			}
			rows = append(rows, row{s.Name, x})
			t.Row(render.C(s.Name), render.C(x.For), render.C(x.What), ok, render.C(x.Why))
		}
	}
	n := len(rows) - without
	d.Head = fmt.Sprintf("All %s are there", render.Plural(n, "right"))
	if lacks > 0 {
		d.Head = fmt.Sprintf("%d of %s missing", lacks, render.Plural(n, "right"))
	} else {
		d.Next = []string{"clipfence survey"}
	}
	d.Tables, d.Value = []render.Table{t}, rows
	for _, s := range sources {
		if s.Preview == nil {
			continue
		}
		if !s.Preview.Understood {
			lacks++
			d.Head = fmt.Sprintf("No line of the logs of %s is understood; %s", s.Name, lowerFirst(d.Head))
			d.Next = append([]string{"write a log map for " + s.Name +
				" (docs/logs.md; clipfence schema logmap), name it under log_maps in clipfence.yaml, then: " +
				"clipfence source check"}, d.Next...)
		}
		if len(s.Preview.Records) > 0 {
			p := render.Table{Title: "The first records of its logs",
				Columns: []render.Column{{Name: "LINE", Right: true}, {Name: "FORMAT"}, {Name: "TIME"},
					{Name: "CALLER"}, {Name: "OPERATION"}, {Name: "PATH", Path: true}, {Name: "OUTCOME", Wrap: true}}}
			for _, r := range s.Preview.Records {
				previewRow(&p, &r)
			}
			d.Tables = append(d.Tables, p)
		}
	}
	return d, lacks
}

func previewRow(t *render.Table, r *work.PreviewedRecord) {
	if r.Fault != nil {
		tone := render.Bad
		if r.Skipped {
			tone = render.Dim
		}
		t.Row(render.C(fmt.Sprint(r.Line)), render.C(r.Format), render.C(""), render.C(""), render.C(""), render.C(""),
			render.Cell{Text: r.Fault.Error(), Tone: tone})
		return
	}
	who := r.Who
	if r.ActingFor != "" {
		who += " for " + r.ActingFor
	}
	t.Row(render.C(fmt.Sprint(r.Line)), render.C(r.Format), render.C(r.Time.Format("2006-01-02 15:04:05")),
		render.C(who), render.C(r.Operation), render.C(r.Path), render.C(r.Outcome))
}
