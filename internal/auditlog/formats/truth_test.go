package formats_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"testing"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/core/model"
)

// TestWorkload: what a real PostgreSQL 15 with pgaudit wrote of about a thousand
// statements of 14 forms by four roles, over one line and several, with quotes and
// comments, is folded to exactly what the statements took: read off their forms when they
// were made, and not off the log.
func TestWorkload(t *testing.T) {
	truth, err := os.ReadFile("../postgresql/testdata/workload15.tsv")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int64{}
	all, n := rows(t, truth)
	for i, x := range all {
		path := "/x/database:postgres"
		if x[2] != "" {
			schema, table, _ := strings.Cut(x[2], "/table:")
			path += "/" + schema + "/table:" + string(model.AppendEscaped(nil, []byte(table)))
		}
		want[fmt.Sprint(x[0], " ", x[1], " ", path, " ", x[3])] = n[i]
	}
	for _, form := range []string{"csv", "json"} {
		got, _ := folded(t, "../postgresql/testdata/workload15."+form+".gz", 800)
		agree(t, form, got, want)
	}
}

// folded returns how often who did what, where and how, of a recorded log of at least some
// records, none of which may be set aside, and why others show no call.
func folded(t *testing.T, name string, records int) (calls map[string]int64, skipped map[string]int) {
	t.Helper()
	data := unpacked(t, name)
	calls, skipped = map[string]int64{}, map[string]int{}
	for b, err := range fold.Run(t.Context(), one(name, data), fold.Options{Formats: formats.For("x", nil)}) {
		if err != nil {
			t.Fatal(err)
		}
		if b.Rejects > 0 || b.Records < records {
			t.Errorf("%s: %d records, set aside: %d %v", name, b.Records, b.Rejects, b.Rejected)
		}
		for why, n := range b.Skipped {
			skipped[why] += n
		}
		for _, u := range b.Table.Uses() {
			who := u.Identity.Name
			if u.ActingFor.Name != "" {
				who = u.ActingFor.Name // whose rights were used
			}
			calls[fmt.Sprint(who, " ", u.Permission, " ", u.Path, " ", u.Outcome)] += u.Count
		}
	}
	return calls, skipped
}

func unpacked(t *testing.T, name string) []byte {
	t.Helper()
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// agree compares what was folded with what was done.
func agree(t *testing.T, what string, got, want map[string]int64) {
	t.Helper()
	for k, n := range want {
		if got[k] != n {
			t.Errorf("%s: %s: %d, want %d", what, k, got[k], n)
		}
	}
	for k, n := range got {
		if want[k] == 0 {
			t.Errorf("%s: %s: %d that nobody did", what, k, n)
		}
	}
}

// rows reads the truth beside a recording: fields of tabs, the last of them a number.
func rows(t *testing.T, data []byte) (all [][]string, n []int64) {
	t.Helper()
	for line := range strings.Lines(string(data)) {
		x := strings.Split(strings.TrimRight(line, "\n"), "\t")
		count, err := strconv.ParseInt(x[len(x)-1], 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		all, n = append(all, x), append(n, count)
	}
	return all, n
}

// TestRefusals: what real servers of 16, 17 and 18 without pgaudit wrote of some 1,000
// statements is folded to who was refused what, in either form, and who connected: of 16
// and 17 that shows only where something was refused, 18 says it ("connection ready").
func TestRefusals(t *testing.T) {
	for _, version := range []string{"16", "17", "18"} {
		truth, err := os.ReadFile("../postgresql/testdata/refused" + version + ".tsv")
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]int64{}
		all, n := rows(t, truth)
		for i, x := range all {
			path := "/x"
			if !strings.HasPrefix(x[2], "database:") {
				path += "/database:postgres"
			}
			for part := range strings.SplitSeq(x[2], "/") {
				kind, name, _ := strings.Cut(part, ":")
				path += "/" + kind + ":" + string(model.AppendEscaped(nil, []byte(name)))
			}
			want[fmt.Sprint(x[0], " ", x[1], " ", path, " ", x[3])] += n[i]
		}
		for _, form := range []string{"csv", "json"} {
			got, _ := folded(t, "../postgresql/testdata/refused"+version+"."+form+".gz", 1000)
			for k := range got {
				if strings.HasPrefix(k, "postgres ") { // who made the tables
					delete(got, k)
				}
			}
			agree(t, version+" "+form, got, want)
		}
	}
}

// TestIdentityService: what a real Keystone 22 told its bus of some 1,900 requests by eight
// people, with words of ours among their names, is folded to exactly what they did, as far
// as it tells it: who was let into a group is told as a change of the group; reads, refused
// requests, rights on the system, and by whom a user was deleted are not told at all.
func TestIdentityService(t *testing.T) {
	want := map[string]int64{}
	all, n := rows(t, unpacked(t, "../cadf/testdata/keystone22.tsv.gz"))
	untold := int64(0)
	for i, x := range all {
		what := strings.NewReplacer("group:added", "group:updated", "group:removed", "group:updated").Replace(x[1])
		if x[3] == "untold" {
			untold += n[i]
			continue
		}
		want[fmt.Sprint(x[0], " identity/", what, " /x/", x[2], " ", x[3])] += n[i]
	}
	got, skipped := folded(t, "../cadf/testdata/keystone22.jsonl.gz", 1000)
	agree(t, "keystone", got, want)
	if untold < 500 || len(skipped) != 2 {
		t.Errorf("%d untold; skipped: %v", untold, skipped)
	}
}

// TestCluster: what a real API server of version 1.37 wrote, at both stages, of some 1,400
// requests by eleven callers, with words of ours among their names, is folded to exactly
// what they did: applies and puts that create, acting as others and being refused it,
// refusals by a check behind access control, one audit id for many requests.
func TestCluster(t *testing.T) {
	want := map[string]int64{}
	all, n := rows(t, unpacked(t, "../kubernetes/testdata/apiserver137.tsv.gz"))
	for i, x := range all {
		who, verb, what, ns, name, how := x[0], x[1], x[2], x[3], x[4], x[5]
		path := "/x"
		if ns != "" {
			path += "/namespace:" + ns
		}
		_, noun, _ := strings.Cut(what, "/")
		noun, _, _ = strings.Cut(noun, "/")
		switch {
		case name == "" || verb == "list" || verb == "watch" || verb == "deletecollection":
		case noun == "namespaces":
			path += "/namespace:" + name
		default:
			path += "/" + noun + ":" + string(model.AppendEscaped(nil, []byte(name)))
		}
		want[fmt.Sprint(who, " ", what, ":", string(model.AppendEscaped(nil, []byte(verb))), " ", path, " ",
			how)] += n[i]
	}
	got, skipped := folded(t, "../kubernetes/testdata/apiserver137.jsonl.gz", 1000)
	// As whom somebody was not let act, the log tells now and then.
	for _, m := range []map[string]int64{got, want} {
		for k, n := range m {
			if who, rest, ok := strings.Cut(k, " "); ok && strings.Contains(rest, ":impersonate") &&
				strings.HasSuffix(rest, " refused") {
				delete(m, k)
				m[who+" was refused acting as others"] += n
			}
		}
	}
	agree(t, "kubernetes", got, want)
	if len(skipped) != 3 {
		t.Errorf("skipped: %v", skipped)
	}
}

// BenchmarkPostgreSQL folds the recorded workload over and over: after the first time its
// events are known, so this is the reader and the counting once, not the counting.
func BenchmarkPostgreSQL(b *testing.B) {
	for _, form := range []string{"csv", "json"} {
		b.Run(form, func(b *testing.B) {
			f, err := os.ReadFile("../postgresql/testdata/workload15." + form + ".gz")
			if err != nil {
				b.Fatal(err)
			}
			z, err := gzip.NewReader(bytes.NewReader(f))
			if err != nil {
				b.Fatal(err)
			}
			data, err := io.ReadAll(z)
			if err != nil {
				b.Fatal(err)
			}
			data = bytes.Repeat(data, 50)
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				for _, err := range fold.Run(b.Context(), one(form, data),
					fold.Options{Formats: formats.For("x", nil)}) {
					if err != nil {
						b.Fatal(err)
					}
				}
			}
		})
	}
}
