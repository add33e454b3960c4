package formats_test

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
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
	want := map[string]string{}
	for line := range strings.Lines(string(truth)) {
		x := strings.Split(strings.TrimRight(line, "\n"), "\t")
		path := "/x/database:postgres"
		if x[2] != "" {
			schema, table, _ := strings.Cut(x[2], "/table:")
			path += "/" + schema + "/table:" + string(model.AppendEscaped(nil, []byte(table)))
		}
		want[fmt.Sprint(x[0], " ", x[1], " ", path, " ", x[3])] = x[4]
	}
	for _, form := range []string{"csv", "json"} {
		f, err := os.Open("../postgresql/testdata/workload15." + form + ".gz")
		if err != nil {
			t.Fatal(err)
		}
		z, err := gzip.NewReader(f)
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(z)
		if err != nil {
			t.Fatal(err)
		}
		_ = f.Close()
		got := map[string]string{}
		for b, err := range fold.Run(t.Context(), one(form, data), fold.Options{Formats: formats.For("x", nil)}) {
			if err != nil {
				t.Fatal(err)
			}
			if b.Rejects > 0 || b.Records < 800 {
				t.Errorf("%s: %d records, set aside: %d %v", form, b.Records, b.Rejects, b.Rejected)
			}
			for _, u := range b.Table.Uses() {
				got[fmt.Sprint(u.Identity.Name, " ", u.Permission, " ", u.Path, " ", u.Outcome)] = fmt.Sprint(u.Count)
			}
		}
		for k, n := range want {
			if got[k] != n {
				t.Errorf("%s: %s: %s, want %s", form, k, got[k], n)
			}
		}
		for k, n := range got {
			if want[k] == "" {
				t.Errorf("%s: %s: %s that nobody did", form, k, n)
			}
		}
	}
}
