package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestRoles: drafts share roles in a proposal that holds, is carried out one by one with one role
// for all, and is taken back in an order that leaves nobody without.
func TestRoles(t *testing.T) {
	t.Parallel()
	dir := warehouse(t, 6)
	type value struct {
		Lines  int  `json:"lines"`
		OK     bool `json:"ok"`
		Before int  `json:"danger_before"`
		After  int  `json:"danger_after"`
		Chosen int  `json:"chosen"`
		Curve  []struct {
			Roles int     `json:"roles"`
			Extra float64 `json:"danger_added"`
		} `json:"curve"`
		Made []struct {
			Name  string `json:"name"`
			Lines int    `json:"lines"`
		} `json:"shared_roles"`
	}
	estate := filepath.Join(dir, "estate.yaml")
	was, err := os.ReadFile(estate)
	if err != nil {
		t.Fatal(err)
	}
	v := decode[value](t, dir, "draft", "--roles", "--plot", "roles.svg")
	if !v.OK || v.Lines < 6 || len(v.Made) == 0 || v.After >= v.Before || v.Curve[0].Extra != 0 {
		t.Fatalf("%+v", v)
	}
	for i, p := range v.Curve {
		if i > 0 && (p.Roles != v.Curve[i-1].Roles-1 || p.Extra < v.Curve[i-1].Extra) {
			t.Errorf("%+v", v.Curve)
		}
	}
	if svg, err := os.ReadFile(filepath.Join(dir, "roles.svg")); err != nil || !strings.Contains(string(svg),
		"proposed") {
		t.Errorf("the curve: %v", err)
	}
	shared := v.Made[0].Name
	var files []string
	for _, n := range []string{"0", "1"} {
		name := filepath.Join(dir, "drafts", "roles", "workload-clerk-00"+n+".fence.yaml")
		text, err := os.ReadFile(name)
		if err != nil || !strings.Contains(string(text), "as: "+shared) {
			t.Fatalf("%v: it does not share %s:\n%s", err, shared, text)
		}
		files = append(files, name)
	}
	must(t, dir, append([]string{"rehearse"}, files...)...)
	for _, f := range files {
		must(t, dir, "apply", f, "--yes")
	}
	now, err := os.ReadFile(estate)
	if err != nil || strings.Count(string(now), "name: "+shared) != 1 || strings.Count(string(now),
		"role: "+shared) != 2 {
		t.Errorf("%v: one role and two grants of it are wanted:\n%s", err, now)
	}
	code, _, errs := run(t, dir, "undo", "c-1", "--yes")
	if code != 4 || !strings.Contains(errs, "gives role "+shared+", which would go") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	must(t, dir, "undo", "c-2", "--yes")
	must(t, dir, "undo", "c-1", "--yes")
	if now, err := os.ReadFile(estate); err != nil || strings.Contains(string(now), shared) ||
		strings.Count(string(now), "id: g-0") != strings.Count(string(was), "id: g-0") {
		t.Errorf("%v: after both were taken back:\n%s", err, now)
	}
	// A role of the estate that holds just what lines need is had as it is.
	more := strings.Replace(strings.Replace(string(was), "identities:\n",
		"roles:\n  - {name: looker, do: [\"store/shelf:look\"]}\n"+
			"identities:\n  - {id: workload/other}\n", 1), "grants:\n", "grants:\n  - {id: g-x, to: workload/other, "+
		"role: looker, where: "+
		"[\"/w/shelf:000/**\"], created: 2020-01-01T00:00:00Z}\n", 1)
	if err := os.WriteFile(estate, []byte(more), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "survey")
	must(t, dir, "draft", "--roles", "--force")
	if text, err := os.ReadFile(files[0]); err != nil || !strings.Contains(string(text), "role: looker") {
		t.Errorf("%v: it does not have the role that is there:\n%s", err, text)
	}
	must(t, dir, append([]string{"rehearse"}, files...)...)
	if err := os.WriteFile(estate, was, 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "survey")
	must(t, dir, "draft", "--roles", "--force")
	// A role of that name that holds something else is not given.
	text, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"Not a name", "../x"} {
		if err := os.WriteFile(files[0], []byte(strings.Replace(string(text), "as: "+shared, "as: \""+bad+"\"", 1)),
			0o600); err != nil {
			t.Fatal(err)
		}
		if code, _, errs := run(t, dir, "rehearse", files[0]); code == 0 || !strings.Contains(errs,
			"small letters, digits") {
			t.Errorf("as %q: exit code %d: %s", bad, code, errs)
		}
	}
	for _, args := range [][]string{{"--roles"}, {"--roles", "--for", "workload/clerk-000"}, {"--roles", "--force",
		"--number", "99"},
		{"--number", "2", "--all"}, {"--roles", "--force", "--plot", "x.pdf"}} {
		if code, out, _ := run(t, dir, append([]string{"draft"}, args...)...); code == 0 {
			t.Errorf("%v passes:\n%s", args, out)
		}
	}
}
