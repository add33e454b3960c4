package config

import (
	_ "embed" // the tasks that come with the program
	"errors"
	"fmt"
	"slices"

	"clipfence/internal/core/model"
	"clipfence/internal/yamlfile"
)

// A Step is a part of a task, or of what a feature needs: permissions, and on which nodes.
type Step struct {
	Do    []model.PermissionPattern `json:"do" doc:"permissions"`
	Spot  string                    `json:"at,omitempty" doc:"place (default): the place itself; below: it and everything in it; parent: what it is in; above: every node that it is in"`
	Place string                    `json:"place,omitempty" doc:"of a need: which place, by its name under places"`
	For   string                    `json:"for,omitempty" doc:"only where it is for a person, workload or group"`
	Why   string                    `json:"why,omitempty" doc:"what it is needed for"`
	At    model.Position            `json:"-"`
}

// A Task is something that somebody does on a kind of place.
type Task struct {
	Name       string         `json:"name" doc:"the task's name"`
	Title      string         `json:"title" doc:"in a sentence"`
	Kinds      []string       `json:"kinds,omitempty" doc:"kinds of node that it is done on; none: any"`
	Steps      []Step         `json:"steps" doc:"what it takes"`
	Companions []Step         `json:"companions,omitempty" doc:"what people's tools ask besides, to find the way there"`
	At         model.Position `json:"-"`
}

// A TasksFile is the content of a tasks file.
type TasksFile struct {
	Version int    `json:"tasks" doc:"version of this format: 1"`
	List    []Task `json:"list" doc:"the tasks; one of a name that came before takes its place"`
}

// A Feature is a part of a product, and what it needs.
type Feature struct {
	Name   string         `json:"name" doc:"the feature's name"`
	Title  string         `json:"title,omitempty" doc:"in a sentence"`
	Always bool           `json:"always,omitempty" doc:"it cannot be switched off"`
	Needs  []Step         `json:"needs" doc:"what it takes"`
	At     model.Position `json:"-"`
}

// A NeedsFile is the content of a needs file: what a product asks for.
type NeedsFile struct {
	Version  int               `json:"needs" doc:"version of this format: 1"`
	Product  string            `json:"product" doc:"what it is"`
	Places   map[string]string `json:"places" doc:"names of the places that it works on, and what each is; which they are is said with --at"`
	Features []Feature         `json:"features" doc:"its parts"`
}

// Where a step is, seen from its place.
const (
	AtPlace  = "place"
	AtBelow  = "below"
	AtParent = "parent"
	AtAbove  = "above"
)

//go:embed mooring.tasks.yaml
var ownTasks []byte

// OwnTasks are the tasks that come with the program, in the words of the sample estate.
func OwnTasks() []Task {
	list, err := ParseTasks("the program's own tasks", ownTasks)
	if err != nil {
		panic(err) // a test reads them
	}
	return list
}

// ParseTasks reads a tasks file; name is for messages.
func ParseTasks(name string, data []byte) ([]Task, error) {
	var f TasksFile
	if err := yamlfile.Decode(name, data, &f); err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s: tasks: format %d is not known to this program (want 1)", name, f.Version)
	}
	var errs []error
	seen := map[string]bool{}
	for _, t := range f.List {
		switch {
		case t.Name == "":
			errs = append(errs, &model.Fault{At: t.At, What: "name: a task needs a name"})
		case seen[t.Name]:
			errs = append(errs, &model.Fault{At: t.At, What: fmt.Sprintf("name: there are two tasks %q", t.Name)})
		case len(t.Steps) == 0:
			errs = append(errs, &model.Fault{At: t.At, What: fmt.Sprintf("steps: task %q takes nothing", t.Name)})
		}
		seen[t.Name] = true
		for _, s := range slices.Concat(t.Steps, t.Companions) {
			if s.Place != "" {
				errs = append(errs, &model.Fault{At: s.At, What: "place: a task has one place, which is not named"})
			}
			errs = append(errs, s.check())
		}
	}
	return f.List, errors.Join(errs...)
}

// ParseNeeds reads a needs file; name is for messages.
func ParseNeeds(name string, data []byte) (*NeedsFile, error) {
	f := &NeedsFile{}
	if err := yamlfile.Decode(name, data, f); err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s: needs: format %d is not known to this program (want 1)", name, f.Version)
	}
	var errs []error
	if f.Product == "" {
		errs = append(errs, fmt.Errorf("%s: product: say what it is", name))
	}
	if len(f.Features) == 0 {
		errs = append(errs, fmt.Errorf("%s: features: there are none", name))
	}
	seen := map[string]bool{}
	for _, t := range f.Features {
		switch {
		case t.Name == "":
			errs = append(errs, &model.Fault{At: t.At, What: "name: a feature needs a name"})
		case seen[t.Name]:
			errs = append(errs, &model.Fault{At: t.At, What: fmt.Sprintf("name: there are two features %q", t.Name)})
		}
		seen[t.Name] = true
		for _, s := range t.Needs {
			if _, ok := f.Places[s.Place]; !ok {
				errs = append(errs, &model.Fault{At: s.At,
					What: fmt.Sprintf("place: %q is not one of the names under places", s.Place)})
			}
			errs = append(errs, s.check())
		}
	}
	return f, errors.Join(errs...)
}

func (s *Step) check() error {
	var errs []error
	fault := func(format string, args ...any) {
		errs = append(errs, &model.Fault{At: s.At, What: fmt.Sprintf(format, args...)})
	}
	if len(s.Do) == 0 {
		fault("do: no permission is named")
	}
	if s.Spot != "" && !slices.Contains([]string{AtPlace, AtBelow, AtParent, AtAbove}, s.Spot) {
		fault("at: %q is none of place, below, parent, above", s.Spot)
	}
	if s.For != "" && !slices.Contains([]string{"person", "workload", "group"}, s.For) {
		fault("for: %q is none of person, workload, group", s.For)
	}
	return errors.Join(errs...)
}

// Where returns the places of a step for somebody, seen from its place; none where it is for
// others.
func (s *Step) Where(place model.Path, who model.ID) []model.PathPattern {
	if s.For != "" && string(who.Kind) != s.For {
		return nil
	}
	switch s.Spot {
	case AtBelow:
		return []model.PathPattern{place.Below()}
	case AtParent:
		if up, ok := place.Parent(); ok {
			return []model.PathPattern{up.Exactly()}
		}
		return nil
	case AtAbove:
		var out []model.PathPattern
		for up, ok := place.Parent(); ok; up, ok = up.Parent() {
			out = append(out, up.Exactly())
		}
		return out
	}
	return []model.PathPattern{place.Exactly()}
}
