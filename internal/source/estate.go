package source

import (
	"encoding/json"
	"fmt"

	"clipfence/internal/core/model"
)

// Put adds a record to an estate: its value is of the type of its kind.
func Put(e *model.Estate, kind string, value any) error {
	b, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return Parse(e, kind, b)
}

// Parse adds a record, written as JSON, to an estate.
func Parse(e *model.Estate, kind string, value []byte) error {
	switch kind {
	case Permissions:
		return grow(&e.Catalogue, value)
	case Nodes:
		return grow(&e.Nodes, value)
	case Identities:
		return grow(&e.Identities, value)
	case Memberships:
		return grow(&e.Memberships, value)
	case ActAs:
		return grow(&e.ActAs, value)
	case Roles:
		return grow(&e.Roles, value)
	case Grants:
		return grow(&e.Grants, value)
	case Denials:
		return grow(&e.Denials, value)
	case Ceilings:
		return grow(&e.Ceilings, value)
	case Guardrails:
		return grow(&e.Guardrails, value)
	case Coverage:
		return grow(&e.Coverage, value)
	case Semantics:
		return json.Unmarshal(value, &e.Semantics)
	}
	return fmt.Errorf("kind %q is not known", kind)
}

func grow[S ~[]T, T any](list *S, value []byte) error {
	var v T
	if err := json.Unmarshal(value, &v); err != nil {
		return err
	}
	*list = append(*list, v)
	return nil
}
