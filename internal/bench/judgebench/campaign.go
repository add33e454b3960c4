package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"text/tabwriter"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
	"clipfence/internal/source"
	"clipfence/internal/store"
	"clipfence/internal/work"
)

// A campaign carries drafts out: of a life that is kept in an estate file, surveyed every month from a day on, all
// is drafted and applied, as the commands do it. What somebody is refused since is drafted for it from the refusals,
// and applied as well. The life goes on meanwhile: people come, join and leave, and are granted what it grants.

// month is what came between two surveys of a campaign, and of the second.
type month struct {
	calls, refused, again int // calls that were refused, of how many, and of whom that had been refused before
	before, after         float64
	drafts, back          int     // that were carried out: narrower, and from refusals
	expected              float64 // of whom a call is expected to be refused within 90 days, by those drafts
}

// monthLong is how many days lie between two surveys of a campaign, and firstMonth when it begins.
const (
	monthLong  = 30
	firstMonth = 305
)

// campaigns carries drafts out in some lives, and prints what became of that month by month.
func campaigns(first, lives, side, last int, shape world) error {
	home, err := os.MkdirTemp("", "campaign-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	if err := os.Setenv("CLIPFENCE_HOME", filepath.Join(home, "home")); err != nil { // nobody's own
		return err
	}
	var sum []month
	for i := range lives {
		c := &campaign{life: joined(first+i*side, side, shape),
			dir: filepath.Join(home, fmt.Sprint(i)), broken: map[int]bool{}}
		if err := os.Mkdir(c.dir, 0o700); err != nil {
			return err
		}
		months, err := c.run(context.Background(), last)
		if err != nil {
			return fmt.Errorf("life %d: %w", first+i, err)
		}
		for k, m := range months {
			if k == len(sum) {
				sum = append(sum, month{})
			}
			s := &sum[k]
			s.calls, s.refused, s.again = s.calls+m.calls, s.refused+m.refused, s.again+m.again
			s.before, s.after, s.drafts = s.before+m.before, s.after+m.after, s.drafts+m.drafts
			s.back, s.expected = s.back+m.back, s.expected+m.expected
		}
	}
	n := float64(lives)
	t := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintf(t, "%d lives, each\t\t\t\t\t\t\n", lives)
	fmt.Fprintln(t, "day\tcalls refused\tof identities\trefused before\tdrafts carried out\tgiven back\texpected"+
		"\tdanger before and after")
	for k, m := range sum {
		fmt.Fprintf(t, "%d\t%.1f\t%.1f\t%.1f\t%.1f\t%.1f\t%.1f\t%.0f -> %.0f\n", firstMonth+k*monthLong,
			float64(m.calls)/n, float64(m.refused)/n, float64(m.again)/n, float64(m.drafts)/n, float64(m.back)/n,
			m.expected/n, m.before/n, m.after/n)
	}
	return t.Flush()
}

// campaign is one that goes on.
type campaign struct {
	*life
	dir    string
	work   *work.Workspace
	store  *store.Store
	now    time.Time
	broken map[int]bool // who was ever refused
}

// estateFile is how an estate stands in a file.
type estateFile struct {
	Version int `json:"estate"`
	model.Estate
}

func (c *campaign) file() string { return filepath.Join(c.dir, "estate.json") }

func (c *campaign) read() (*model.Estate, error) {
	b, err := os.ReadFile(c.file())
	if err != nil {
		return nil, err
	}
	var f estateFile
	return &f.Estate, json.Unmarshal(b, &f)
}

func (c *campaign) write(e *model.Estate) error {
	listed := map[model.ID]bool{} // in some lives somebody joins before it comes
	for _, i := range e.Identities {
		listed[i.ID] = true
	}
	e.Memberships = slices.DeleteFunc(e.Memberships, func(m model.Membership) bool { return !listed[m.Member] })
	b, err := json.Marshal(estateFile{source.FormatVersion, *e})
	if err != nil {
		return err
	}
	return os.WriteFile(c.file(), b, 0o600)
}

func (c *campaign) run(ctx context.Context, last int) (months []month, err error) {
	err = os.WriteFile(filepath.Join(c.dir, "clipfence.yaml"), []byte(
		"clipfence: 2\nsources: [{name: w, kind: files, estate: estate.json, changes: edit}]\n"), 0o600)
	if err != nil {
		return nil, err
	}
	c.work, err = work.Open(ctx, work.Options{Folder: c.dir, Clock: func() time.Time { return c.now }})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, c.work.Close()) }()
	if c.store, err = store.Open(ctx, filepath.Join(c.dir, ".clipfence", "store.db")); err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, c.store.Close()) }()
	if err := c.store.LogRead(ctx, "w", dayTime(0)); err != nil {
		return nil, err
	}
	for day := firstMonth; day <= last; day += monthLong {
		c.now = dayTime(day).Add(6 * time.Hour)
		m := month{}
		refused, err := c.liveOn(ctx, day-monthLong, day, day == firstMonth, &m)
		if err == nil {
			err = c.narrow(ctx, refused, &m)
		}
		if err != nil {
			return months, fmt.Errorf("day %d: %w", day, err)
		}
		months = append(months, m)
	}
	return months, nil
}

// liveOn brings the estate file to what the life has come to, reads the calls since, and surveys; it returns who was
// refused a call. All is let through until the first day.
func (c *campaign) liveOn(ctx context.Context, prev, day int, first bool, m *month) ([]int, error) {
	var x, meant *index.Index
	e := c.at(day)
	if first {
		prev = -1
	} else {
		var err error
		if meant, err = index.Build(e); err != nil {
			return nil, err
		}
		had, err := c.read()
		if err != nil {
			return nil, err
		}
		e = grown(had, c.at(prev), e)
		if x, err = index.Build(e); err != nil {
			return nil, err
		}
	}
	if err := c.write(e); err != nil {
		return nil, err
	}
	uses, who := usage.Fold{}, map[int]bool{}
	for _, l := range c.calls {
		if l.day <= prev || l.day > day {
			continue
		}
		out := usage.Done
		denies := func(x *index.Index) bool {
			return x.Decide(c.who[l.who], c.perms[l.perm], l.path, model.Context{}).Outcome == access.Denied
		}
		if x != nil && denies(x) && !denies(meant) {
			out = usage.Refused
			m.calls++
			who[l.who] = true
		}
		if c.logged(l) {
			uses.Add(usage.Call{Time: dayTime(l.day), Identity: c.who[l.who], Permission: c.perms[l.perm],
				Path: l.path, Outcome: out})
		}
	}
	table := &usage.Table{}
	for _, u := range uses.Uses() {
		table.MergeUse(u)
	}
	if err := c.store.SaveFold(ctx, "w", &fold.Batch{Table: table, Records: table.Len()}); err != nil {
		return nil, err
	}
	if err := c.store.LogRead(ctx, "w", c.now); err != nil {
		return nil, err
	}
	var list []int
	for i := range who {
		if m.refused++; c.broken[i] {
			m.again++
		}
		c.broken[i] = true
		list = append(list, i)
	}
	slices.Sort(list)
	return list, c.work.Survey(ctx, true, func(work.SurveyResult) {})
}

// grown returns an estate as it is with what a life brought since it was so.
func grown(e, was, is *model.Estate) *model.Estate {
	e.Nodes, e.Coverage = is.Nodes, is.Coverage
	for _, i := range is.Identities {
		if !slices.ContainsFunc(e.Identities, func(o model.Identity) bool { return o.ID == i.ID }) {
			e.Identities = append(e.Identities, i)
		}
	}
	e.Memberships = slices.DeleteFunc(e.Memberships, func(m model.Membership) bool {
		return slices.Contains(was.Memberships, m) && !slices.Contains(is.Memberships, m)
	})
	for _, m := range is.Memberships {
		if !slices.Contains(was.Memberships, m) && !slices.Contains(e.Memberships, m) {
			e.Memberships = append(e.Memberships, m)
		}
	}
	for _, g := range is.Grants {
		if !slices.ContainsFunc(was.Grants, func(o model.Grant) bool { return o.ID == g.ID }) {
			e.Grants = append(e.Grants, g)
		}
	}
	return e
}

// narrow gives back what was refused, and carries out what is drafted for everybody.
func (c *campaign) narrow(ctx context.Context, refused []int, m *month) (err error) {
	if m.before, err = c.danger(ctx); err != nil {
		return err
	}
	for _, i := range refused {
		more, err := c.work.DraftMore(ctx, work.MoreRequest{For: c.who[i].String(), Refused: true, Force: true})
		if errors.Is(err, work.ErrNoLine) { // no log shows what was refused
			continue
		}
		if err == nil {
			err = c.apply(ctx, more.File)
		}
		if err != nil {
			return err
		}
		m.back++
	}
	if err := os.RemoveAll(c.work.DraftDir()); err != nil {
		return err
	}
	drafts, err := c.work.Draft(ctx, work.DraftRequest{All: true})
	if err != nil {
		return err
	}
	expected := map[model.ID]float64{}
	for _, d := range drafts.Written {
		if d.Risk != nil {
			expected[d.Fence.For] = d.Risk.Expected
		}
	}
	err = c.applyAll(ctx, func(who model.ID) {
		m.drafts++
		m.expected += expected[who]
	})
	if err != nil {
		return err
	}
	c.now = c.now.Add(time.Hour)
	if err := c.work.Survey(ctx, true, func(work.SurveyResult) {}); err != nil {
		return err
	}
	m.after, err = c.danger(ctx)
	return err
}

func (c *campaign) apply(ctx context.Context, file string) error {
	p, err := c.work.PrepareApply(ctx, file, "", false)
	if err != nil {
		return err
	}
	_, err = p.Run(ctx, func(int, source.Step) {})
	return err
}

// applyAll accepts all drafts and carries them out, as one stage.
func (c *campaign) applyAll(ctx context.Context, did func(who model.ID)) error {
	all, err := c.work.Review(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if !r.Holds || r.Applied != "" {
			continue
		}
		if _, err := c.work.Decide(ctx, r, review.Accepted, "", time.Time{}, &work.Decider{}); err != nil {
			return err
		}
	}
	stages, err := c.work.PlanStages(ctx, work.StagedRequest{Stages: 1, Every: time.Millisecond})
	if err != nil {
		return err
	}
	return stages.Run(ctx, func(e work.StageEvent) {
		if e.Applied != "" {
			did(e.For)
		}
	})
}

// danger is what everybody but groups holds.
func (c *campaign) danger(ctx context.Context) (d float64, err error) {
	_, _, _, res, err := c.work.GaugedFor(ctx, "", 0)
	if err != nil {
		return 0, err
	}
	for _, s := range res.Standings {
		if s.ID.Kind != model.Group {
			d += s.Danger
		}
	}
	return d, nil
}
