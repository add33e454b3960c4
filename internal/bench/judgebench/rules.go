package main

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"clipfence/internal/core/access"
	"clipfence/internal/core/backtest"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/model"
)

// way is a way to narrow what everybody has.
type way struct {
	name string
	edit func(*judged) (access.Edit, error)
}

func ways(only string) []way {
	all := []way{
		{"cut what was not seen in 90 days, container by container", rule(seen)},
		{"the same, leaving unlogged and new alone", rule(careful(seen))},
		{"keep every project where it was ever used", rule(careful(projects))},
		{"history, naming patterns, siblings", rule(careful(page))},
		{"projects, grant by grant", grouped(backtest.Projects)},
		{"patterns and siblings, grant by grant", grouped(backtest.Page)},
		{"ours, places of use alone", drafted(1e-9)},
		{"ours, bold", drafted(draft.Bold)},
		{"ours, caution .3", drafted(.3)},
		{"ours, normal", drafted(draft.Normal)},
		{"ours, careful", drafted(draft.Careful)},
		{"ours, bold, with gates", draftedWith(draft.Bold, true)},
		{"ours, .3, with gates", draftedWith(.3, true)},
		{"ours, normal, with gates", draftedWith(draft.Normal, true)},
		{"ours, careful, with gates", draftedWith(draft.Careful, true)},
	}
	if only != "" {
		all = slices.DeleteFunc(all, func(w way) bool { return w.name != only })
	}
	return all
}

// keeping is what an identity keeps of a permission.
type keeping map[int]map[model.PathPattern]bool

func (k keeping) add(perm int, on model.PathPattern) {
	if k[perm] == nil {
		k[perm] = map[model.PathPattern]bool{}
	}
	k[perm][on] = true
}

// rule makes an edit of what each identity keeps: all grants go, and each gets lines of its own.
func rule(keep func(j *judged, who int) keeping) func(*judged) (access.Edit, error) {
	return func(j *judged) (access.Edit, error) {
		var out access.Edit
		for _, g := range j.x.Grants() {
			out.Gone.Grants = append(out.Gone.Grants, g.ID)
		}
		for who, id := range j.life.who {
			if _, ok := j.x.Number(id); !ok {
				continue
			}
			for perm, on := range keep(j, who) {
				g := model.Grant{ID: fmt.Sprintf("rule-%d-%d", who, perm), To: id,
					Rights: model.Rights{Do: []model.PermissionPattern{j.life.perms[perm].Pattern()}}}
				for p := range on {
					g.Where = append(g.Where, p)
				}
				slices.SortFunc(g.Where,
					func(a, b model.PathPattern) int { return strings.Compare(a.String(), b.String()) })
				out.Come.Grants = append(out.Come.Grants, g)
			}
		}
		// A rule widens nothing: what the identity may not do today is no part of it.
		return out, nil
	}
}

// grouped applies a rule grant by grant, as what is written in place of grants has to be.
func grouped(r backtest.Rule) func(*judged) (access.Edit, error) {
	return func(j *judged) (access.Edit, error) { return r.Edit(j.in, j.res), nil }
}

// each calls yield with what an identity was seen to do, up to the day.
func (j *judged) each(who int, yield func(c call)) {
	for _, c := range j.life.calls {
		if c.who == who && c.day <= j.day && j.life.logged(c) {
			yield(c)
		}
	}
}

func seen(j *judged, who int) keeping {
	k := keeping{}
	j.each(who, func(c call) {
		if c.day > j.day-90 && j.allowed(who, c) {
			k.add(c.perm, c.path.Below())
		}
	})
	return k
}

func (j *judged) allowed(who int, c call) bool {
	return j.x.Decide(j.life.who[who], j.life.perms[c.perm], c.path, model.Context{}).Outcome == access.Allowed
}

// projects keeps a permission in every project where it was ever used.
func projects(j *judged, who int) keeping {
	k := keeping{}
	j.each(who, func(c call) {
		if j.allowed(who, c) {
			k.add(c.perm, projectOf(c.path).Below())
		}
	})
	return k
}

var digits = regexp.MustCompile(`[0-9]+`)

// page is a page of simple rules: what was used in 400 days stays where it was; from a name with
// a number in it on all like it; from three of a kind in a project on all of the kind there.
func page(j *judged, who int) keeping {
	k := keeping{}
	type spot struct {
		perm    int
		project model.Path
		kind    string
	}
	on := map[spot]map[model.Path]bool{}
	like := map[spot]map[string]int{}
	j.each(who, func(c call) {
		if c.day < j.day-400 || !j.allowed(who, c) {
			return
		}
		k.add(c.perm, c.path.Below())
		up, _ := c.path.Parent()
		kind, name := c.path.Last()
		s := spot{c.perm, up, kind}
		if on[s] == nil {
			on[s], like[s] = map[model.Path]bool{}, map[string]int{}
		}
		if !on[s][c.path] {
			on[s][c.path] = true
			like[s][digits.ReplaceAllString(name, "*")]++
		}
	})
	for s, paths := range on {
		if len(paths) >= 3 {
			k.add(s.perm, model.MustPathPattern(s.project.String()+"/"+s.kind+":*/**"))
		}
		for mask, n := range like[s] {
			if n >= 2 {
				prefix := mask[:max(1, indexStar(mask))]
				k.add(s.perm, model.MustPathPattern(s.project.String()+"/"+s.kind+":"+prefix+"*/**"))
			}
		}
	}
	return k
}

func indexStar(s string) int {
	for i := range s {
		if s[i] == '*' {
			return i
		}
	}
	return len(s)
}

// careful keeps besides what is not logged, and all of what is younger than the window.
func careful(keep func(j *judged, who int) keeping) func(j *judged, who int) keeping {
	return func(j *judged, who int) keeping {
		k := keep(j, who)
		id := j.life.who[who]
		for _, st := range j.x.Closure(id) {
			for _, n := range j.x.GrantsTo(st.ID) {
				g := j.x.Grant(n)
				for perm, p := range j.life.perms {
					number, _ := j.x.PermNumber(p)
					if !j.x.GrantPerms(n).Has(number) {
						continue
					}
					for _, on := range g.Where {
						if g.Created.After(dayTime(j.day - 90)) {
							k.add(perm, on)
						}
						at, _ := on.Node()
						if c := j.life.estate.Catalogue[perm]; c.LogClass == "read" && c.Kinds[0] == j.life.unread {
							k.add(perm, on)
						}
						for project, since := range j.life.lit {
							if since > j.day-90 && at.Covers(project) {
								k.add(perm, project.Below())
							}
						}
						for project, class := range j.life.logless {
							if c := j.life.estate.Catalogue[perm]; c.LogClass == class && at.Covers(project) {
								k.add(perm, project.Below())
							}
						}
					}
				}
			}
		}
		return k
	}
}

// hindsight keeps what is needed in the next 90 days and nothing else.
func (j *judged) hindsight() access.Edit {
	of := make([]keeping, len(j.life.who))
	for _, c := range j.after {
		if of[c.who] == nil {
			of[c.who] = keeping{}
		}
		of[c.who].add(c.perm, c.path.Exactly())
	}
	edit, _ := rule(func(_ *judged, who int) keeping { return of[who] })(j)
	return edit
}
