package cli

import (
	"fmt"
	"strings"
	"time"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

type jointValue struct {
	OK      bool        `json:"ok"`
	Source  string      `json:"source"`
	Fences  []jointRow  `json:"fences"`
	Calls   int64       `json:"calls_replayed"`
	Touched int         `json:"identities_touched"`
	Before  int         `json:"danger_before" doc:"held by all who are touched, together"`
	After   int         `json:"danger_after"`
	Broken  []brokenRow `json:"broken" doc:"when all stand"`
	Going   int         `json:"given_up_and_going_on,omitempty" doc:"of the uses that they name as given up, those that were made on several days of the window"`
	Only    []brokenRow `json:"broken_only_together" doc:"by no fence alone, and named as given up by none"`
	Risk    riskValue   `json:"risk" doc:"of all together"`
	Applied int         `json:"applied_already,omitempty" doc:"so many drafts are applied, and left out"`
	Left    []string    `json:"left_out,omitempty" doc:"drafts that cannot be rehearsed any more, and why"`
}

type jointRow struct {
	For    string   `json:"for"`
	File   string   `json:"file"`
	OK     bool     `json:"ok" doc:"alone"`
	Before int      `json:"danger_before"`
	After  int      `json:"danger_after"`
	Broken int      `json:"broken" doc:"uses that it would have refused and does not name as given up"`
	Why    []string `json:"why_not,omitempty"`
}

// mostNext is how many commands are told that one may go on with.
const mostNext = 10

// jointly shows what several fences do alone and together.
func jointly(j *work.Joint, all bool) *render.Doc {
	v := jointValue{OK: j.OK(), Source: j.Source, Calls: j.Calls, Touched: len(j.Touched), Before: int(j.Before + .5),
		After: int(j.After + .5), Risk: valueOf(j.Risk), Going: j.Going, Broken: []brokenRow{}, Only: []brokenRow{}}
	row := func(b work.Break) brokenRow {
		return brokenRow{b.Use.Principal(), b.Use.Permission, b.Use.Path, b.Use.Count, b.Use.Last, b.GivenUp}
	}
	named := 0
	for _, b := range j.Broken {
		v.Broken = append(v.Broken, row(b))
		if b.GivenUp {
			named++
		}
	}
	for _, b := range j.Only {
		v.Only = append(v.Only, row(b))
	}
	t := render.Table{Title: "Each alone", Columns: []render.Column{{Name: "FOR", Wrap: true}, {Name: "HOLDS"},
		{Name: "HELD", Right: true}, {Name: "BREAKS", Right: true}, {Name: "FILE", Wrap: true}}}
	var order, hold []int // those that do not hold come first: of thousands nobody looks for them
	for i, r := range j.Each {
		if r.OK() {
			hold = append(hold, i)
		} else {
			order = append(order, i)
		}
	}
	fail := len(order)
	for _, i := range append(order, hold...) {
		r := j.Each[i]
		x := jointRow{For: j.Fences[i].For.String(), File: j.Names[i], OK: r.OK(), Before: int(r.Before + .5),
			After: int(r.After + .5)}
		for _, b := range r.Broken {
			if !b.GivenUp {
				x.Broken++
			}
		}
		holds := render.Cell{Text: "yes", Tone: render.Good}
		if !r.OK() {
			x.Why = why(r, x.Broken)
			holds = render.Cell{Text: "no: " + strings.Join(x.Why, ", "), Tone: render.Bad}
		}
		v.Fences = append(v.Fences, x)
		t.Row(render.C(x.For), holds, render.C(arrow(x.Before, x.After)), render.C(render.Count(x.Broken)),
			render.C(x.File))
	}
	d := &render.Doc{Rows: v.Fences}
	breaks := "nothing observed breaks"
	if named > 0 {
		breaks += fmt.Sprintf(" but %s that they name as given up%s", render.Plural(named, "use"), goingOn(j.Going))
	}
	switch {
	case fail > 0:
		d.Head = fmt.Sprintf("DO NOT HOLD: %d of %s alone", fail, render.Plural(len(j.Each), "fence"))
		if n := len(j.Only); n > 0 {
			d.Head += fmt.Sprintf(", and together %s more would break", render.Plural(n, "use"))
		}
	case len(j.Only) > 0:
		d.Head = fmt.Sprintf("DO NOT HOLD TOGETHER: each of %s holds alone, and with all of them %s would break",
			render.Plural(len(j.Each), "fence"), render.Plural(len(j.Only), "use"))
	default:
		d.Head = fmt.Sprintf("Hold together: with %s %s; danger held by %s %s", render.Plural(len(j.Each), "fence"),
			breaks, render.Plural(v.Touched, "identity"), arrow(v.Before, v.After))
	}
	for _, err := range j.Left {
		v.Left = append(v.Left, err.Error())
		d.Notes = append(d.Notes, "Left out: "+err.Error())
	}
	if n := len(j.Left); n > 0 {
		d.Head += fmt.Sprintf("; %s left out", isAre(n, "draft"))
	}
	if v.Applied = j.Applied; j.Applied > 0 {
		d.Notes = append(d.Notes, isAre(j.Applied, "draft")+" applied already, and left out.")
	}
	d.Value = v
	d.Lines = append(d.Lines, fmt.Sprintf("  note %s calls of %s replayed against all of them at once",
		render.Count(v.Calls), render.Plural(v.Touched, "identity")), "  note risk of all together: "+v.Risk.words())
	d.Lines = append(d.Lines, v.Risk.lines(map[bool]int{false: 3, true: len(v.Risk.Worst)}[all])...)
	d.Tables = append(d.Tables, t)
	if len(v.Only) > 0 {
		t := render.Table{Title: "Refused only when all stand",
			Columns: []render.Column{{Name: "CALLS", Right: true}, {Name: "IDENTITY"}, {Name: "PERMISSION"},
				{Name: "LAST"}, {Name: "PATH", Path: true}}}
		for i, b := range v.Only {
			if i == 10 && !all {
				d.Notes = append(d.Notes, fmt.Sprintf("10 of %s refused uses shown; all: --all",
					render.Count(len(v.Only))))
				break
			}
			t.Row(render.C(render.Count(b.Calls)), render.C(b.Identity.String()), render.C(b.Permission.String()),
				render.C(b.Last.Format(time.DateOnly)), render.C(b.Path.String()))
		}
		d.Tables = append(d.Tables, t)
	}
	for i, x := range v.Fences[:min(len(v.Fences), mostNext)] {
		switch {
		case !x.OK:
			d.Next = append(d.Next, command("clipfence rehearse %s", x.File))
		case v.OK && i < 3:
			d.Next = append(d.Next, command("clipfence apply %s", x.File))
		}
	}
	if fail == 0 && len(j.Only) > 0 {
		d.Next = []string{"apply some of them, survey, and draft the others anew: " +
			"clipfence draft --force --for IDENTITY"}
	}
	return d
}
