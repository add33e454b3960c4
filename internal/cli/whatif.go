package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

func whatIfFlags(q *work.WhatIf, f *pflag.FlagSet) {
	f.StringArrayVar(&q.Without, "without", nil,
		"as if this were gone: grant:ID, role:NAME, member:WHO>GROUP or an identity")
	f.StringArrayVar(&q.With, "with", nil, "as if this fence were in force")
}

// comparisonWords says in one line what becomes of an identity's access, or became of it.
func comparisonWords(id model.ID, past bool, count map[string]int) string {
	tense := func(then, now string) string {
		if past {
			return then
		}
		return now
	}
	number := func(n int) string {
		if n == 0 {
			return "nothing"
		}
		return render.Count(n)
	}
	lost, gained := number(count["lost"]), number(count["gained"])
	if len(count) == 0 {
		return fmt.Sprintf("%s %s and %s nothing", id, tense("lost", "would lose"), tense("gained", "gain"))
	}
	out := fmt.Sprintf("%s %s %s, %s %s", id, tense("lost", "would lose"), lost, tense("gained", "gain"), gained)
	if n := count["narrowed"]; n > 0 {
		out += fmt.Sprintf(", %s %s on fewer places", tense("keeps", "keep"), render.Count(n))
	}
	if n := count["stays"]; n > 0 {
		out += fmt.Sprintf(", %s %s by other grants", tense("keeps", "keep"), render.Count(n))
	}
	return out + " (permissions on places)"
}

// pairWords counts pairs of permission and node, the most dangerous first.
func pairWords(pairs work.PairsByLevel) string {
	sum := 0
	var levels []string
	for l := model.HandOut; l >= model.See; l-- {
		if n := int(pairs[l]); n > 0 {
			levels = append(levels, fmt.Sprintf("%s %s", render.Count(n), l))
			sum += n
		}
	}
	if sum == 0 {
		return "none"
	}
	return fmt.Sprintf("%s (%s)", render.Count(sum), strings.Join(levels, ", "))
}

// compareReach says what an identity would lose, gain and keep, or what it did since an
// earlier survey.
func (a *app) compareReach(ctx context.Context, w *work.Workspace, src work.SourceConfig, id model.ID,
	filter *work.Part, f *reachFlags) error {
	const most = 30
	c, err := w.CompareReach(ctx, src, id, filter, f.compare, &f.what)
	if err != nil {
		return err
	}
	rows := c.Rows
	count := map[string]int{}
	for _, r := range rows {
		count[r.Becomes]++
	}
	t := render.Table{Columns: []render.Column{{Name: "BECOMES"}, {Name: "PERMISSION"}, {Name: "LEVEL"},
		{Name: "BY GRANT"}, {Name: "WHERE", Wrap: true}}}
	tone := map[string]render.Tone{"lost": render.Bad, "narrowed": render.Plain, "gained": render.Warn,
		"stays": render.Good}
	for i, r := range rows {
		if i == most && !f.all {
			break
		}
		on := r.Where
		if len(r.Left) > 0 {
			on += " -> " + strings.Join(r.Left, ", ")
		}
		t.Row(render.Cell{Text: r.Becomes, Tone: tone[r.Becomes]}, render.C(r.Permission.String()), render.C(r.Level),
			render.C(r.Grant), render.C(on))
	}
	doc := &render.Doc{Head: comparisonWords(id, f.compare != 0, count), Value: rows}
	if f.compare != 0 {
		doc.Lines = append(doc.Lines, fmt.Sprintf("Between survey %d of %s and survey %d of %s.", c.Before.ID,
			c.Before.Finished.Format(time.DateTime), c.After.ID, c.After.Finished.Format(time.DateTime)))
	}
	if x := c.Exact; x != nil {
		doc.Lines = append(doc.Lines,
			fmt.Sprintf("Pairs of permission and node on the inventory, with every layer: less %s; more %s.",
				pairWords(x.Lost), pairWords(x.Gained)))
	}
	if len(rows) > 0 {
		doc.Tables = []render.Table{t}
	}
	if len(t.Rows) < len(rows) {
		doc.Notes = append(doc.Notes, fmt.Sprintf("%d of %s shown; all: --all", len(t.Rows), render.Count(len(rows))))
	}
	return a.print(doc)
}
