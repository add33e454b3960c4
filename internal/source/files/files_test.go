package files_test

import (
	"fmt"
	"os"
	"slices"
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

// TestCoverageOfAll: a coverage record without a service, or a class, is of every log that the catalogue
// names, but for those of which another says more; one of no log is told.
func TestCoverageOfAll(t *testing.T) {
	const head = `estate: 2
source: ferry
catalogue:
  - {permission: "stow/box:put", level: change, log_class: calls}
  - {permission: "stow/box:look", level: see, log_class: looks}
  - {permission: "muster/crew:look", level: see, log_class: looks}
  - {permission: "muster/crew:hum", level: see}
nodes: [{path: /ferry/berth:tides}]
identities: [{id: person/liv}]
coverage:
`
	for _, c := range []struct{ records, want string }{
		{"  - {node: /ferry, written: true}",
			"muster/looks=true stow/calls=true stow/looks=true"},
		{"  - {node: /ferry, service: stow, written: true}", "stow/calls=true stow/looks=true"},
		{"  - {node: /ferry, log_class: looks, written: true}", "muster/looks=true stow/looks=true"},
		{"  - {node: /ferry, written: true}\n  - {node: /ferry, log_class: looks, written: false}\n" +
			"  - {node: /ferry, service: muster, log_class: looks, written: true}",
			"muster/looks=true stow/calls=true stow/looks=false"},
		{"  - {node: /ferry, service: stow, log_class: look, written: true}",
			`stow/look=true; x:11:5: coverage of service "stow", log_class "look" says nothing: ` +
				"no permission of the catalogue is shown by such a log"},
		{"  - {node: /ferry, service: mustre, written: true}",
			`; x:11:5: coverage of service "mustre", log_class "" says nothing: ` +
				"no permission of the catalogue is shown by such a log"},
		{"  - {node: /ferry, written: true}\n  - {node: /ferry, written: false}",
			`x:12:5: coverage of service "", log_class "" at /ferry is listed twice`},
		{"  - {written: true}", "x:11:5: coverage names no node"},
		{"  - {node: /other, written: true}", `x:11:5: coverage: node /other lies outside source "ferry"`},
	} {
		e, err := files.ParseEstate("x", []byte(head+c.records))
		if err != nil {
			if err.Error() != c.want {
				t.Errorf("%s:\n%v, want\n%s", c.records, err, c.want)
			}
			continue
		}
		var got []string
		for _, r := range e.Coverage {
			got = append(got, fmt.Sprintf("%s/%s=%t", r.Service, r.LogClass, r.Written))
		}
		slices.Sort(got)
		text := strings.Join(got, " ")
		for _, r := range e.Remarks {
			text += "; " + r.String()
		}
		if text != c.want {
			t.Errorf("%s:\n%s, want\n%s", c.records, text, c.want)
		}
	}
}
