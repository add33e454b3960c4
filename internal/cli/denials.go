package cli

import (
	"context"
	"errors"
	"fmt"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type denialsValue struct {
	Source   string       `json:"source"`
	Drafts   int          `json:"drafts" doc:"that the proposal is made of"`
	Denials  []denialLine `json:"denials"`
	Needless []model.ID   `json:"needless" doc:"for whom drafts are needless then"`
	Before   int          `json:"pieces_before" doc:"of the drafts: grants that go, groups that are left, lines that come"`
	After    int          `json:"pieces_after" doc:"of the proposal; of a denial, one and each that it spares"`
	Folder   string       `json:"folder"`
	OK       bool         `json:"ok" doc:"all of the proposal holds, alone and together"`
	Held     int          `json:"danger_before" doc:"held by everybody, together"`
	Drafted  int          `json:"danger_after_drafts"`
	Left     int          `json:"danger_after" doc:"of the proposal"`
}

type denialLine struct {
	Do     []model.PermissionPattern `json:"do"`
	Where  []model.PathPattern       `json:"where"`
	Unless []model.ID                `json:"unless,omitempty"`
}

// draftDenials proposes denials in place of drafts.
func (a *app) draftDenials(ctx context.Context, w *work.Workspace, force bool) error {
	r, err := w.DraftDenials(ctx, force)
	if errors.Is(err, work.ErrNoDenial) {
		return a.print(&render.Doc{Head: "No denial is proposed: " + err.Error(),
			Lines: []string{"A denial is worth it where the same goes from at least three drafts, few keep it, and " +
				"it may not be asked for through a gate."},
			Value: denialsValue{Denials: []denialLine{}, Needless: []model.ID{}},
			Next:  []string{"clipfence rehearse --all"}})
	}
	if err != nil {
		return err
	}
	folder := w.Relative(w.DenialsDir())
	v := denialsValue{Source: r.Source, Drafts: r.Drafts, Needless: r.Needless, Before: r.Before, After: r.After,
		Folder: folder, OK: r.Joint.OK(), Held: int(r.Joint.Before + .5), Drafted: int(r.Left + .5),
		Left: int(r.Joint.After + .5)}
	t := render.Table{Columns: []render.Column{{Name: "REFUSED", Wrap: true}, {Name: "WHERE", Path: true},
		{Name: "BUT NOT TO", Wrap: true}}}
	for _, l := range r.Fence.Denies {
		v.Denials = append(v.Denials, denialLine{l.Do, l.Where, l.Unless})
		but := "nobody"
		if len(l.Unless) > 0 {
			but = first(l.Unless, 6)
		}
		t.Row(render.C(fmt.Sprintf("%s: %s", render.Plural(len(l.Do), "permission"), first(l.Do, 4))),
			render.C(fewPlaces(l.Where, 3)), render.C(but))
	}
	d := &render.Doc{Value: v, Rows: v.Denials, Tables: []render.Table{t}, Head: fmt.Sprintf("%s would make %s of %s "+
		"needless: %s to read and change in place of %s; nothing is changed", render.Plural(len(v.Denials), "denial"),
		render.Count(len(v.Needless)), render.Plural(r.Drafts, "draft"), render.Plural(v.After, "piece"),
		render.Count(v.Before))}
	d.Lines = append(d.Lines, fmt.Sprintf("Danger held by everybody together: %s; with the drafts %s, with the "+
		"denials and the drafts that are left %s.", render.Count(v.Held), render.Count(v.Drafted),
		render.Count(v.Left)),
		"Needless then: "+first(v.Needless, 6)+".",
		"A denial holds against every grant, also one that somebody makes later, and for everybody who comes: "+
			"whoever needs it then must be spared first.")
	if !v.OK {
		d.Lines = append(d.Lines, "Not all of it holds: rehearse says what does not.")
	}
	d.Notes = append(d.Notes, fmt.Sprintf("The denials and the drafts that are left, %s, are in %s; the drafts "+
		"themselves are as they were. PIECES are grants that go, groups that are left and lines that come; a denial "+
		"is one, and so is each whom it spares.", render.Plural(len(r.Files), "file"), folder))
	d.Next = []string{command("clipfence rehearse %s/*.fence.yaml", folder)}
	return a.print(d)
}
