package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/bench/workdir"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// A town is many lives side by side, in one estate: as large as one likes, and everybody in it does
// what somebody of such a life does.

// joined returns a life that is a town, of as many lives from a seed on.
func joined(first, lives int, shape world) *life {
	if lives == 1 {
		return live(shapedAs(worldOf(first), shape), uint64(first))
	}
	town := &life{born: map[model.Path]int{}, logless: map[model.Path]string{}}
	for n := range lives {
		l := live(shapedAs(worldOf(first+n), shape), uint64(first+n))
		settle(&town.estate, &l.estate, n)
		town.perms, town.known, town.unread = l.perms, l.known, l.unread
		for p, day := range l.born {
			town.born[there(p, n)] = day
		}
		for p, class := range l.logless {
			town.logless[there(p, n)] = class
		}
		for _, j := range l.joined {
			j.Member, j.Group = whose(j.Member, n), whose(j.Group, n)
			town.joined = append(town.joined, j)
		}
		for _, c := range l.calls {
			c.who, c.path = c.who+len(town.who), there(c.path, n)
			town.calls = append(town.calls, c)
		}
		for _, id := range l.who {
			town.who = append(town.who, whose(id, n))
		}
		town.since = append(town.since, l.since...)
	}
	slices.SortStableFunc(town.calls, func(a, b call) int { return cmp.Compare(a.day, b.day) })
	return town
}

// surveyed are the days before the last on which a town was surveyed, where nothing else is said.
var surveyed = []int{130, 220, 310}

// surveyOften surveys a town so many times, from the first of those days on, and reads what it did.
func surveyOften(ctx context.Context, w *workdir.Workspace, town *life, times, last int) error {
	for i := range times {
		day := surveyed[0] + (last-surveyed[0])*(i+1)/times
		if err := w.Survey(ctx, town.at(day), dayTime(day)); err != nil {
			return err
		}
	}
	return w.Use(ctx, town.uses(last))
}

// liveOn reads what happened in a town in the 90 days after the last survey, and surveys what came by then, with
// the grants as they were: so drafts that were made before can be rehearsed on it.
func liveOn(dir string, first, lives int, shape world) (err error) {
	last := days[len(days)-1]
	ctx := context.Background()
	w, err := workdir.Make(ctx, dir, "w")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close(ctx, dayTime(last+90))) }()
	var town model.Estate
	for i := range lives {
		l := live(shapedAs(worldOf(first+i), shape), uint64(first+i))
		e := l.at(last)
		e.Nodes = l.at(last + 90).Nodes
		settle(&town, e, i)
		calls := l.calls
		l.calls, l.logless, l.unread = nil, nil, "" // also what no log shows
		for _, c := range calls {
			if c.day > last && c.day <= last+90 {
				l.calls = append(l.calls, c)
			}
		}
		if err := w.Use(ctx, moved(l.uses(last+90), i)); err != nil {
			return err
		}
	}
	if err := w.Survey(ctx, &town, dayTime(last+90)); err != nil {
		return err
	}
	fmt.Printf("clipfence -C %s --as-of %s rehearse --all\n", dir, dayTime(last+90).Format("2006-01-02T15:04:05Z"))
	return nil
}

// moved returns uses of a life as they are in a town.
func moved(uses []usage.Use, n int) []usage.Use {
	for k := range uses {
		uses[k].Identity, uses[k].Path = whose(uses[k].Identity, n), there(uses[k].Path, n)
	}
	return uses
}

// makeTown makes a workspace in which a town was surveyed four times, or so many times, and its log read daily, so
// that commands can be timed at its size.
func makeTown(dir string, first, lives, surveys int, shape world) (err error) {
	last := days[len(days)-1]
	ctx := context.Background()
	w, err := workdir.Make(ctx, dir, "w")
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, w.Close(ctx, dayTime(0), dayTime(last))); err == nil {
			fmt.Printf("%d uses kept\nclipfence -C %s --as-of %s gauge\n", w.Rows, dir,
				dayTime(last).Format("2006-01-02T15:04:05Z"))
		}
	}()
	if surveys > 0 {
		return surveyOften(ctx, w, joined(first, lives, shape), surveys, last)
	}
	on := append(surveyed[:len(surveyed):len(surveyed)], last)
	estates := make([]model.Estate, len(on))
	for i := range lives {
		l := live(shapedAs(worldOf(first+i), shape), uint64(first+i))
		for k, day := range on {
			settle(&estates[k], l.at(day), i)
		}
		if err := w.Use(ctx, moved(l.uses(last), i)); err != nil {
			return err
		}
	}
	for k, day := range on {
		if err := w.Survey(ctx, &estates[k], dayTime(day)); err != nil {
			return err
		}
	}
	e := &estates[len(on)-1]
	fmt.Printf("%d lives: %d nodes, %d identities, %d grants\n", lives, len(e.Nodes), len(e.Identities), len(e.Grants))
	return nil
}

// settle puts what a life holds into a town as its part of a number.
func settle(town, e *model.Estate, n int) {
	if n == 0 {
		town.Source, town.Catalogue, town.Roles = e.Source, e.Catalogue, e.Roles
	}
	for _, o := range e.Nodes {
		if o.Path.Depth() == 1 { // there is one for all
			if n == 0 {
				town.Nodes = append(town.Nodes, o)
			}
			continue
		}
		o.Path = there(o.Path, n)
		town.Nodes = append(town.Nodes, o)
	}
	for _, i := range e.Identities {
		i.ID = whose(i.ID, n)
		town.Identities = append(town.Identities, i)
	}
	for _, m := range e.Memberships {
		m.Member, m.Group = whose(m.Member, n), whose(m.Group, n)
		town.Memberships = append(town.Memberships, m)
	}
	for _, g := range e.Grants {
		g.ID, g.To = fmt.Sprintf("%d-%s", n, g.ID), whose(g.To, n)
		where := make([]model.PathPattern, len(g.Where))
		for k, on := range g.Where {
			where[k] = model.MustPathPattern(placed(on.String(), n))
		}
		g.Where = where
		town.Grants = append(town.Grants, g)
	}
	for _, c := range e.Coverage {
		c.Node = there(c.Node, n)
		town.Coverage = append(town.Coverage, c)
	}
}

func whose(id model.ID, n int) model.ID {
	id.Name = fmt.Sprintf("%s-%d", id.Name, n)
	return id
}

func there(p model.Path, n int) model.Path { return model.MustPath(placed(p.String(), n)) }

// placed returns the text of a path of a life, or of places below it, in a town.
func placed(p string, n int) string {
	const root = "/w/org:o"
	rest, ok := strings.CutPrefix(p, root)
	if !ok {
		panic("not of a life: " + p)
	}
	return fmt.Sprintf("%s%d%s", root, n, rest)
}
