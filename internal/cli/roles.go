package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"

	"clipfence/internal/render"
	"clipfence/internal/report"
	"clipfence/internal/work"
)

type rolesValue struct {
	Source string            `json:"source"`
	Lines  int               `json:"lines"`
	Kept   int               `json:"danger_kept" doc:"by the lines of the drafts, counted line by line"`
	Curve  []work.RolePoint  `json:"curve"`
	Chosen int               `json:"chosen" doc:"how many roles the proposal has"`
	Made   []work.SharedRole `json:"shared_roles"`
	There  []work.SharedRole `json:"roles_of_the_estate" doc:"that lines of drafts can have as they are"`
	Folder string            `json:"folder"`
	OK     bool              `json:"ok" doc:"all drafts of it hold, alone and together"`
	Before int               `json:"danger_before" doc:"held by all whom they are for, together"`
	After  int               `json:"danger_after"`
}

// draftRoles proposes roles that drafts share.
func (a *app) draftRoles(ctx context.Context, w *work.Workspace, q work.RolesRequest, plot string) error {
	r, err := w.DraftRoles(ctx, q)
	if err != nil {
		return err
	}
	at := r.Curve[r.Chosen]
	folder := w.Relative(w.RolesDir())
	v := rolesValue{Source: r.Source, Lines: r.Lines, Kept: int(r.Kept + .5), Curve: r.Curve, Chosen: at.Roles,
		Made: r.Made, There: r.There, Folder: folder, OK: r.Joint.OK(), Before: int(r.Joint.Before +
			.5), After: int(r.Joint.After +
			.5)}
	for i := range v.Curve {
		v.Curve[i].Extra, v.Curve[i].Share = round(v.Curve[i].Extra, 10), round(v.Curve[i].Share, 1000)
	}
	d := &render.Doc{Value: v, Rows: v.Curve, Head: fmt.Sprintf("%s can share %s in place of %s, for %.1f %% more "+
		"danger than the drafts keep; nothing is changed", render.Plural(r.Lines, "line"),
		render.Plural(at.Roles, "role"), render.Count(r.Lines), 100*at.Share)}
	t := render.Table{Columns: []render.Column{{Name: ""}, {Name: "ROLES", Right: true}, {Name: "SHARED", Right: true},
		{Name: "DANGER ADDED", Right: true}, {Name: "MORE", Right: true}, {Name: "PERMISSIONS", Right: true},
		{Name: "COMPLEXITY", Right: true}}}
	for i, p := range r.Curve {
		mark := ""
		if i == r.Chosen {
			mark = ">"
		}
		// Of a long curve a few points, those around what is chosen, and the ends.
		if n := len(r.Curve); n > 16 && i > 0 && i < n-1 && (i < r.Chosen-2 || i > r.Chosen+2) && i%(n/8) != 0 {
			continue
		}
		t.Row(render.C(mark), render.C(fmt.Sprint(p.Roles)), render.C(fmt.Sprint(p.Shared)),
			render.C(render.Count(int(p.Extra+.5))), render.C(fmt.Sprintf("%.1f %%", 100*p.Share)),
			render.C(render.Count(p.Perms)), render.C(render.Count(p.Complexity)))
	}
	d.Tables = append(d.Tables, t)
	if len(r.Made)+len(r.There) > 0 {
		t := render.Table{Title: "Shared", Columns: []render.Column{{Name: "ROLE"}, {Name: "LINES", Right: true},
			{Name: "PERMISSIONS", Right: true}, {Name: "FOR", Wrap: true}}}
		for _, m := range r.Made {
			t.Row(render.C(m.Name), render.C(fmt.Sprint(m.Lines)), render.C(fmt.Sprint(len(m.Do))),
				render.C(first(m.For, 4)))
		}
		for _, m := range r.There {
			t.Row(render.C(m.Name), render.C(fmt.Sprint(m.Lines)), render.C("is there"), render.C(first(m.For, 4)))
		}
		d.Tables = append(d.Tables, t)
	}
	d.Notes = append(d.Notes, fmt.Sprintf("%s of the proposal are in %s, each with its shared roles under `as`; "+
		"the drafts "+
		"themselves are as they were. DANGER ADDED is of what lines have beyond their need; COMPLEXITY counts "+
		"roles, lines "+
		"and permissions of roles.", render.Plural(len(r.Files), "draft"), folder))
	if plot != "" {
		format, err := plotFormat(plot)
		if err != nil {
			return err
		}
		c := &report.Curve{Title: fmt.Sprintf("Roles that %s of drafts share", render.Plural(r.Lines, "line")),
			X: "roles",
			Y: "danger added, % of what the drafts keep"}
		for i, p := range r.Curve {
			x := report.Point{X: float64(p.Roles), Y: 100 * p.Share}
			if i == r.Chosen || i == 0 || i == len(r.Curve)-1 {
				x.Name = render.Plural(p.Roles, "role")
				if x.Over = i > 0; i == r.Chosen {
					x.Name += ", proposed"
				}
			}
			c.Line = append(c.Line, x)
		}
		var b bytes.Buffer
		if err := c.Write(&b, format); err != nil {
			return fmt.Errorf("--plot %s: %w", plot, err)
		}
		if err := os.WriteFile(plot, b.Bytes(), 0o644); err != nil {
			return fmt.Errorf("--plot: %w", err)
		}
		d.Notes = append(d.Notes, "The curve is drawn in "+plot+".")
	}
	if !r.Joint.OK() {
		d.Lines = append(d.Lines, "Not all of it holds: rehearse says what does not.")
	}
	d.Next = []string{command("clipfence rehearse %s/*.fence.yaml", strings.TrimSuffix(folder, "/"))}
	return a.print(d)
}
