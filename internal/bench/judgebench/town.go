package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"clipfence/internal/bench/workdir"
	"clipfence/internal/core/model"
)

// A town is many lives side by side, in one estate: as large as one likes, and everybody in it does
// what somebody of such a life does.

// surveyed are the days before the last on which a town was surveyed.
var surveyed = []int{130, 220, 310}

// makeTown makes a workspace in which a town was surveyed four times and its log read daily, so that
// commands can be timed at its size.
func makeTown(dir string, first, lives int, shape world) (err error) {
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
	on := append(surveyed[:len(surveyed):len(surveyed)], last)
	estates := make([]model.Estate, len(on))
	for i := range lives {
		l := live(shapedAs(worldOf(first+i), shape), uint64(first+i))
		for k, day := range on {
			settle(&estates[k], l.at(day), i)
		}
		uses := l.uses(last)
		for k := range uses {
			uses[k].Identity, uses[k].Path = whose(uses[k].Identity, i), there(uses[k].Path, i)
		}
		if err := w.Use(ctx, uses); err != nil {
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
		town.Nodes = append(town.Nodes, e.Nodes[0])
	}
	for _, o := range e.Nodes[1:] {
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
