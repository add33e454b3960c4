package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/fencefile"
	"clipfence/internal/render"
)

func (a *app) draftCmd() *cobra.Command {
	from := choice{value: "use", of: []string{"use"}}
	var window windowFlag
	var who, out string
	var top int
	var giveUp, force bool
	cmd := &cobra.Command{
		Use: "draft --for IDENTITY", Short: "Write the narrower access as a fence file", Args: cobra.NoArgs,
		Long: `Write a fence file: the access that one identity or group should have in place
of the grants it replaces, drafted from what was used. Fewer permissions, fewer
places; a role of the source where one fits. What no log would have shown is kept,
and said so. With --top N: for the N identities with the
most danger that can go; a grant that others make needless goes, and idle people
leave the groups that their access comes by.`,
		Example: "  clipfence draft --for workload/ticket-export\n  clipfence draft --top 5",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (who == "") == (top == 0) {
				return errors.New("say for whom: --for IDENTITY, or --top N")
			}
			return a.with(cmd.Context(), func(w *workspace) error {
				id, s, in, res, err := w.gaugedFor(cmd.Context(), who, window.Duration)
				if err != nil {
					return err
				}
				ids, most := []model.ID{id}, 1
				if who == "" {
					ids, most = draft.Candidates(in, res), top
				}
				return w.draft(s, in, res, ids, most, who == "", draft.Options{GiveUpUnobservable: giveUp}, out, force)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&who, "for", "", "whose access to narrow")
	f.IntVar(&top, "top", 0, "the N identities with the most danger that can go")
	f.Var(&from, "from", "what to draft from: use")
	f.Var(&window, "window", "how far to look back (default: the window of clipfence.yaml)")
	f.StringVar(&out, "out", "", "file to write (default: drafts/IDENTITY.fence.yaml)")
	f.BoolVar(&giveUp, "give-up-unobservable", false, "drop also what no log could have shown")
	f.BoolVar(&force, "force", false, "write over a fence file that is there")
	_ = cmd.RegisterFlagCompletionFunc("for", a.completeIdentity)
	return cmd
}

func draftName(id model.ID) string {
	return strings.NewReplacer("/", "-", "%", "_", ":", "-").Replace(id.String()) + fencefile.Suffix
}

func (w *workspace) draft(s *surveyed, in *gauge.Input, res *gauge.Result, ids []model.ID, most int, top bool, o draft.Options, out string, force bool) error {
	t := render.Table{Columns: []render.Column{{Name: "FOR"}, {Name: "REPLACES", Right: true}, {Name: "LINES", Right: true}, {Name: "GIVES UP", Right: true}, {Name: "DANGER", Right: true}, {Name: "FILE", Path: true}}}
	type row struct {
		For      model.ID `json:"for"`
		Replaces int      `json:"replaces"`
		Leaves   int      `json:"leaves"`
		Lines    int      `json:"lines"`
		GivesUp  int      `json:"gives_up"`
		Before   int      `json:"danger_before"`
		After    int      `json:"danger_after"`
		File     string   `json:"file"`
	}
	rows := []row{}
	d := &render.Doc{}
	var left []string
	for _, id := range ids {
		if len(rows) == most {
			break
		}
		f, err := draft.FromUse(in, res, id, o)
		if err != nil {
			if top {
				left = append(left, "Left alone: "+err.Error())
				continue
			}
			return err
		}
		f.Survey = s.survey.ID
		name := out
		if name == "" {
			name = filepath.Join(w.DraftDir(), draftName(id))
		}
		if _, err := os.Stat(name); err == nil && !force {
			return fmt.Errorf("%s is there already; to write over it: --force", name)
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := replaceFile(name, fencefile.Write(f, fmt.Sprintf("evidence complete for %s of what is granted", render.Percent(res.Observable)))); err != nil {
			return err
		}
		r := rehearse.Run(s.engine, f, nil, nil, in.Weights)
		x := row{f.For, len(f.Replaces), len(f.Leaves), len(f.Allow), len(f.GivenUp()), int(r.Before + 0.5), int(r.After + 0.5), name}
		rows = append(rows, x)
		t.Row(render.C(id.String()), render.C(fmt.Sprint(x.Replaces+x.Leaves)), render.C(fmt.Sprint(x.Lines)), render.C(render.Count(x.GivesUp)), render.C(fmt.Sprintf("%d -> %d", x.Before, x.After)), render.C(w.relative(name)))
	}
	if n := len(left); n > 5 {
		left = append(left[:5], fmt.Sprintf("... and %d more", n-5))
	}
	d.Notes = append(d.Notes, left...)
	d.Value = rows
	if len(rows) == 0 {
		d.Head = "Nothing to narrow: nobody has access that can go by what was observed"
		d.Next = []string{"clipfence coverage", "clipfence findings"}
		return w.app.print(d)
	}
	d.Head = render.Plural(len(rows), "draft") + " written; nothing is changed yet"
	d.Tables = []render.Table{t}
	d.Notes = append(d.Notes, "REPLACES counts grants that go and groups that are left; DANGER is of everything that reaches the identity.")
	d.Next = []string{"clipfence rehearse " + w.relative(rows[0].File), "clipfence apply " + w.relative(rows[0].File)}
	return w.app.print(d)
}

// relative shortens a file of the workspace to how one would type it there.
func (w *workspace) relative(name string) string {
	if r, err := filepath.Rel(w.Dir, name); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	return name
}

// readFence reads a fence file named by its path, its name, or an identity, and
// holds it against the survey.
func (w *workspace) readFence(cmd *cobra.Command, arg string) (string, *draft.Fence, *surveyed, error) {
	return w.fenceOf(arg, func(f *draft.Fence) (*surveyed, error) {
		src, err := w.Source(f.For.Source)
		if err != nil {
			return nil, err
		}
		return w.surveyed(cmd.Context(), src)
	})
}

// fence reads a fence file and holds it against a survey that is at hand.
func (w *workspace) fence(arg string, s *surveyed) (string, *draft.Fence, *surveyed, error) {
	return w.fenceOf(arg, func(f *draft.Fence) (*surveyed, error) {
		if f.For.Source != s.Name {
			return nil, fmt.Errorf("it is for source %s, and the question is about %s", f.For.Source, s.Name)
		}
		return s, nil
	})
}

func (w *workspace) fenceOf(arg string, survey func(*draft.Fence) (*surveyed, error)) (string, *draft.Fence, *surveyed, error) {
	candidates := []string{arg, w.Path(arg), filepath.Join(w.DraftDir(), arg), filepath.Join(w.DraftDir(), arg+fencefile.Suffix)}
	if id, err := model.ParseID(arg); err == nil {
		id.Source = ""
		candidates = append(candidates, filepath.Join(w.DraftDir(), draftName(id)))
	}
	for _, name := range candidates {
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", nil, nil, err
		}
		f, err := fencefile.Read(name, data)
		if err != nil {
			return "", nil, nil, err
		}
		w.remark(f.Remarks...)
		s, err := survey(f)
		if err != nil {
			return "", nil, nil, fmt.Errorf("%s: for: %w", name, err)
		}
		id := f.For
		id.Source = ""
		if err := s.known(id); err != nil {
			return "", nil, nil, fmt.Errorf("%s: for: %w", name, err)
		}
		if err := f.Validate(s.engine.Estate); err != nil {
			return "", nil, nil, err
		}
		return name, f, s, nil
	}
	return "", nil, nil, fmt.Errorf("no fence file %q, here or in %s; write one with: clipfence draft --for IDENTITY", arg, w.DraftDir())
}

func (a *app) completeDraft(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	w, err := a.open(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	defer w.close()
	es, _ := os.ReadDir(w.DraftDir())
	var out []string
	for _, e := range es {
		out = append(out, strings.TrimSuffix(e.Name(), fencefile.Suffix))
	}
	return out, cobra.ShellCompDirectiveDefault
}

func (a *app) completeIdentity(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	w, err := a.open(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer w.close()
	var out []string
	for _, src := range w.Sources {
		e, _, err := w.store.Estate(cmd.Context(), src.Name, 0)
		if err != nil {
			continue
		}
		for _, i := range e.Identities {
			out = append(out, i.ID.String())
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
