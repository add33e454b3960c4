package usage

import (
	"fmt"
	"strings"

	"clipfence/internal/core/model"
)

// Strangers are callers in the logs that are known to be nobody of a source. The zero
// Strangers holds none.
type Strangers struct {
	exact map[model.ID]bool
	globs []glob
}

// NewStrangers reads a list of names, kind/name, in which * stands for any run of
// characters.
func NewStrangers(names []string) (*Strangers, error) {
	s := &Strangers{exact: map[model.ID]bool{}}
	for _, n := range names {
		kind, name, _ := strings.Cut(n, "/")
		if !strings.Contains(name, "*") {
			id, err := model.ParseID(n)
			if err != nil {
				return nil, err
			}
			if id.Open() {
				return nil, fmt.Errorf("%s is open to anybody and no caller", n)
			}
			s.exact[id] = true
			continue
		}
		p, err := namePattern(name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		s.globs = append(s.globs, glob{kind: kind, name: p})
	}
	return s, nil
}

// Has reports whether a caller is one of them.
func (s *Strangers) Has(id model.ID) bool {
	if s.exact[id] {
		return true
	}
	for _, g := range s.globs {
		if g.matches(id) {
			return true
		}
	}
	return false
}
