package files_test

import (
	"os"
	"strings"
	"testing"

	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/source/files"
)

// TestExample: the estate file of the documents is whole, and says of every word
// of the model at least one thing.
func TestExample(t *testing.T) {
	const name = "../../../docs/examples/estate.yaml"
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	e, err := files.ParseEstate(name, data)
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, r := range files.Records(&e.Estate) {
		kinds[r.Kind]++
	}
	for _, k := range []string{source.Permissions, source.Nodes, source.Identities, source.Memberships, source.ActAs,
		source.Roles, source.Grants, source.Denials, source.Ceilings, source.Guardrails, source.Coverage} {
		if kinds[k] == 0 {
			t.Errorf("the example has no %s", k)
		}
	}
}

// FuzzParseEstate: whatever the bytes, an estate that is taken holds together.
func FuzzParseEstate(f *testing.F) {
	for _, name := range []string{"../../../docs/examples/estate.yaml", "../../judge/testdata/systems/kubernetes.yaml",
		"../../judge/testdata/systems/keystone.yaml"} {
		data, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Add([]byte("estate: 2\nsource: x\ncatalogue: []\nnodes: [{path: /x}]\nidentities: []"))
	f.Fuzz(func(t *testing.T, in []byte) {
		e, err := files.ParseEstate("x", in)
		if err != nil {
			if strings.TrimSpace(err.Error()) == "" {
				t.Fatal("an error that says nothing")
			}
			return
		}
		if err := e.Validate(); err != nil {
			t.Fatalf("taken, and does not hold together: %v", err)
		}
		for _, n := range e.Nodes {
			if _, err := model.ParsePath(n.Path.String()); err != nil {
				t.Fatal(err)
			}
		}
	})
}
