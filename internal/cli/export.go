package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) exportCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "export", Short: "Access and changes as files for a repository, and read back",
		Args: cobra.NoArgs,
		Example: "  clipfence export access repo\n  clipfence export compare repo\n" +
			"  clipfence export change workload/ticket-export --to out --against repo",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.exportAccess(), a.exportCompare(), a.exportChange())
	return cmd
}

func (a *app) exportAccess() *cobra.Command {
	return &cobra.Command{Use: "access FOLDER", Short: "Write who has what as a folder of files",
		Args: cobra.ExactArgs(1),
		Long: `Write the access of a source, as its newest survey found it, into a folder: a file a
holder (access/KIND/NAME.yaml), a file a role (roles/NAME.yaml), and rules/ for denials and
guardrails. Names are escaped, lists are in the order of their ids, so the same access
makes the same bytes, and a repository shows what changed. Files of holders and roles that
are gone are removed; whatever else the folder holds is left alone.`,
		Example: "  clipfence export access ~/access-of-mooring",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				x, err := w.ExportAccess(cmd.Context(), args[0], a.veiled)
				if err != nil {
					return err
				}
				return a.print(&render.Doc{Value: x, Head: fmt.Sprintf("%s: %s written, %d removed, %s as they "+
					"were", x.Folder,
					render.Plural(len(x.Written), "file"), len(x.Removed), render.Count(x.Unchanged)),
					Next: []string{command("clipfence export compare %s", x.Folder)}})
			})
		}}
}

type differenceRow struct {
	Kind   string          `json:"kind" doc:"membership, role, grant, act_as, denial, ceiling or guardrail"`
	ID     string          `json:"id"`
	Says   string          `json:"says" doc:"folder: only the folder has it; source: only the source; other: both, and not alike"`
	Folder json.RawMessage `json:"folder,omitempty"`
	Source json.RawMessage `json:"source,omitempty"`
}

func (a *app) exportCompare() *cobra.Command {
	var patch, all bool
	cmd := &cobra.Command{Use: "compare FOLDER", Short: "What a folder of files says against what stands",
		Args: cobra.ExactArgs(1),
		Long: `Read a folder of access files back and hold it against what stands, as the newest survey
found it. Exit code 1 when they differ. With --patch the unified diff is printed that makes
the folder say what stands; files that say the same in other words are left as they are.`,
		Example: "  clipfence export compare repo\n  clipfence export compare repo --patch",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if err := a.named("what a folder says"); err != nil {
					return err
				}
				c, err := w.CompareAccess(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if patch {
					if _, err := a.out.Write([]byte(c.Patch)); err != nil {
						return err
					}
				} else if err := a.print(comparedDoc(c, args[0], all)); err != nil {
					return err
				}
				if len(c.Differences) > 0 {
					return errCheck
				}
				return nil
			})
		}}
	cmd.Flags().BoolVar(&patch, "patch", false, "print a unified diff that makes the folder say what stands")
	cmd.Flags().BoolVar(&all, "all", false, "every difference, not only the first 30")
	return cmd
}

func comparedDoc(c *work.AccessComparison, dir string, all bool) *render.Doc {
	const most = 30
	rows := []differenceRow{}
	t := render.Table{Columns: []render.Column{{Name: "KIND"}, {Name: "ID"}, {Name: "SAYS"},
		{Name: "WHAT", Wrap: true}}}
	count := map[string]int{}
	for i, x := range c.Differences {
		r := differenceRow{x.Kind, x.ID, "other", x.Here, x.Then}
		what, tone, says := strings.Join(differences(x.Here, x.Then), "; "), render.Warn, "not alike"
		switch {
		case x.Here == nil:
			r.Says, what, tone, says = "source", compact(x.Then), render.Bad, "only "+c.Source
		case x.Then == nil:
			r.Says, what, tone, says = "folder", compact(x.Here), render.Plain, "only the folder"
		}
		count[r.Says]++
		rows = append(rows, r)
		if i < most || all {
			t.Row(render.C(x.Kind), render.C(x.ID), render.Cell{Text: says, Tone: tone}, render.C(what))
		}
	}
	d := &render.Doc{Value: rows, Head: fmt.Sprintf("%s says what stands in %s", dir, c.Source)}
	if len(rows) == 0 {
		return d
	}
	d.Head = fmt.Sprintf("%s and %s DIFFER: %d only in the folder, %d only in %s, %d not alike", dir, c.Source,
		count["folder"], count["source"], c.Source, count["other"])
	d.Tables = []render.Table{t}
	if len(rows) > most && !all {
		d.Notes = append(d.Notes, fmt.Sprintf("%d of %s shown; all: --all", most, render.Count(len(rows))))
	}
	d.Next = []string{command("clipfence export compare %s --patch", dir)}
	return d
}

func (a *app) exportChange() *cobra.Command {
	var to, against string
	var every bool
	cmd := &cobra.Command{Use: "change FENCE...", Short: "A fence as a folder: forward, back, evidence",
		Long: `Write each fence as a folder below --to: forward.patch and back.patch, unified diffs of a
folder of access files (--against; else of what stands), for a source that is files also of
its estate file, evidence.md with what the rehearsal found, and the fence itself. Nothing is
changed; the same workspace makes the same bytes.`,
		Example: "  clipfence export change workload/ticket-export --to out\n" +
			"  clipfence export change --every --to out --against repo",
		ValidArgsFunction: a.completeDraft,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case to == "":
				return errors.New("say where to: --to FOLDER")
			case a.veiled:
				return a.named("a patch")
			case every == (len(args) > 0):
				return errors.New("say which: FENCE..., or --every for each draft")
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				if every {
					if args = w.DraftNames(cmd.Context()); len(args) == 0 {
						return errors.New("there are no drafts; write some with: clipfence draft --all")
					}
				}
				evidence := func(f *work.Fence, s *work.Source, r *work.Rehearsal, k *work.Risk, name string) ([]byte,
					error) {
					var b bytes.Buffer
					err := a.rehearsal(f, s, r, k, name, true).Write(&b, render.Style{Format: "markdown"})
					return b.Bytes(), err
				}
				list, err := w.ExportChange(cmd.Context(), args, to, against, evidence)
				if err != nil {
					return err
				}
				d := &render.Doc{Value: list, Head: fmt.Sprintf("%s written below %s; nothing is changed",
					render.Plural(len(list), "change"), to)}
				t := render.Table{Columns: []render.Column{{Name: "FOR"}, {Name: "HOLDS"}, {Name: "FOLDER",
					Path: true}}}
				bad := 0
				for _, x := range list {
					holds := render.Cell{Text: "yes", Tone: render.Good}
					if !x.OK {
						bad++
						holds = render.Cell{Text: "no", Tone: render.Bad}
					}
					t.Row(render.C(x.For.String()), holds, render.C(x.Folder))
				}
				d.Tables = []render.Table{t}
				if bad > 0 {
					d.Notes = append(d.Notes, fmt.Sprintf("%d of them do not hold their rehearsal: see their "+
						"evidence.md before they go anywhere.", bad))
				}
				if against != "" && len(list) > 0 {
					d.Next = []string{command("git -C %s apply %s", against,
						list[0].Folder+"/forward.patch")}
				}
				return a.print(d)
			})
		}}
	cmd.Flags().StringVar(&to, "to", "", "folder to write into")
	cmd.Flags().StringVar(&against, "against", "", "folder of access files that the patches are for")
	cmd.Flags().BoolVar(&every, "every", false, "every draft")
	return cmd
}
