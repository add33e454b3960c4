package change

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// LogGrant returns the smallest grant that lets the writer of a log write it, and
// false when it may already, or when a grant would not help: then blocked says what
// refuses it.
func LogGrant(x *index.Index, r model.CoverageRecord) (gr model.Grant, needed bool, blocked string) {
	if r.Writer.IsZero() || r.WriterNeeds.IsZero() {
		return gr, false, ""
	}
	d := x.Decide(r.Writer, r.WriterNeeds, r.Node, model.Context{})
	switch {
	case d.Outcome != access.Denied:
		return gr, false, ""
	case len(d.Refusals) > 0:
		return gr, false, fmt.Sprintf("%s %s refuses %s", d.Refusals[0].Layer, d.Refusals[0].ID, r.Writer)
	}
	if id, ok := x.Identity(r.Writer); !ok || id.Disabled {
		return gr, false, fmt.Sprintf("%s does not exist or is disabled", r.Writer)
	}
	return model.Grant{To: r.Writer, Rights: model.Permissions(r.WriterNeeds),
		Where: []model.PathPattern{r.Node.Exactly()}, KeptWith: model.WithHolder}, true, ""
}

// Mend turns logs that are off, or whose writer may not write, into steps: first the
// grants that the writers lack, then the settings documents, of which nothing else is
// touched. It returns [ErrGuard] where a grant would not help, or would go to one of
// the tool's own identities.
func Mend(ctx context.Context, c source.Changer, x *index.Index, logs []model.CoverageRecord, self []model.ID,
	now time.Time) ([]source.Step, []source.Edited, error) {
	type lack struct {
		to    model.ID
		needs model.Permission
	}
	var lacks []lack
	on := map[lack][]model.PathPattern{}
	var nodes []model.Path
	off := map[model.Path][]model.CoverageRecord{}
	for _, r := range logs {
		gr, needed, blocked := LogGrant(x, r)
		if blocked != "" {
			return nil, nil, fmt.Errorf("%w: the log %s/%s at %s: %s, and a grant does not change that", ErrGuard,
				r.Service, r.LogClass, r.Node, blocked)
		}
		if needed {
			if slices.Contains(self, r.Writer) {
				return nil, nil, fmt.Errorf("%w: %s is what this tool itself works as; it does not give itself rights",
					ErrGuard, r.Writer)
			}
			l := lack{r.Writer, r.WriterNeeds}
			if !slices.Contains(lacks, l) {
				lacks = append(lacks, l)
			}
			if !slices.Contains(on[l], gr.Where[0]) {
				on[l] = append(on[l], gr.Where[0])
			}
		}
		if !r.Written {
			if off[r.Node] == nil {
				nodes = append(nodes, r.Node)
			}
			off[r.Node] = append(off[r.Node], r)
		}
	}
	var want source.Diff
	for _, l := range lacks {
		want.Put = append(want.Put, writer(x, l.to, l.needs, on[l], now)...)
	}
	for _, node := range nodes {
		for _, r := range off[node] {
			r := model.CoverageRecord{Node: node, Service: r.Service, LogClass: r.LogClass, Written: true,
				Since: now.UTC().Truncate(time.Second)}
			want.Put = append(want.Put, source.Record{Kind: source.Coverage, ID: source.LogID(&r), Value: r})
		}
	}
	return source.Planned(ctx, c, want)
}

// writer returns the grant that a writer lacks: of a role that gives just that, or of a new
// one.
func writer(x *index.Index, to model.ID, needs model.Permission, on []model.PathPattern,
	now time.Time) []source.Record {
	slices.SortFunc(on, func(a, b model.PathPattern) int { return cmp.Compare(a.String(), b.String()) })
	h := sha256.New()
	fmt.Fprintln(h, to, needs, on)
	name := "log-" + fence.Slug(to.String()) + "-" + hex.EncodeToString(h.Sum(nil)[:3])
	var out []source.Record
	role := ""
	for r := range x.Roles() {
		sets := x.RoleSets(r)
		if len(sets) == 1 && len(sets[0].Do) == 1 && len(sets[0].Except) == 0 && sets[0].Do[0] == needs.Pattern() {
			role = r
			break
		}
	}
	if role == "" {
		role = name
		out = append(out, source.Record{Kind: source.Roles, ID: name,
			Value: model.Role{Name: name, Title: "Clip Fence: writes log entries", Rights: model.Permissions(needs)}})
	}
	g := model.Grant{ID: name, To: to, Role: role, Where: on, KeptWith: model.WithHolder,
		Created: now.UTC().Truncate(time.Second)}
	return append(out, source.Record{Kind: source.Grants, ID: name, Value: g})
}
