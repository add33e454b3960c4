package columns_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	parquet "github.com/parquet-go/parquet-go"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/columns"
)

// event has the fields of OCSF as columns, with one list and one optional group.
type event struct {
	ClassUID int32  `parquet:"class_uid"`
	Time     int64  `parquet:"time"`
	Status   *int64 `parquet:"status_id,optional"`
	Metadata struct {
		UID string `parquet:"uid"`
	} `parquet:"metadata"`
	Actor *struct {
		User struct {
			UID string `parquet:"uid,dict"`
		} `parquet:"user"`
	} `parquet:"actor,optional"`
	API struct {
		Operation string `parquet:"operation,dict"`
	} `parquet:"api"`
	Resources []struct {
		UID string `parquet:"uid"`
	} `parquet:"resources,list"`
}

func write(t testing.TB, events ...event) string {
	t.Helper()
	var b bytes.Buffer
	w := parquet.NewGenericWriter[event](&b, parquet.MaxRowsPerRowGroup(3))
	if _, err := w.Write(events); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(t.TempDir(), "log.parquet")
	if err := os.WriteFile(name, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

func one(class int32, who, op string, paths ...string) event {
	e := event{ClassUID: class, Time: 1_790_000_000_000}
	e.Metadata.UID, e.API.Operation = "u", op
	if who != "" {
		e.Actor = &struct {
			User struct {
				UID string `parquet:"uid,dict"`
			} `parquet:"user"`
		}{}
		e.Actor.User.UID = who
	}
	for _, p := range paths {
		e.Resources = append(e.Resources, struct {
			UID string `parquet:"uid"`
		}{p})
	}
	return e
}

// rows says what a file holds, row by row.
func rows(t testing.TB, name string) (string, error) {
	t.Helper()
	st, err := os.Stat(name)
	if err != nil {
		t.Fatal(err)
	}
	g, err := columns.Open(name, st.Size())
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for i := range g.Len() {
		err := g.Rows(i)(func(n int, e *auditlog.Event, fault error) bool {
			if fault != nil {
				b.WriteString("! " + fault.Error() + "\n")
			} else {
				b.WriteString(string(e.Who.Text) + " " + string(e.Operation) + " " + string(e.Path) + "\n")
			}
			return true
		})
		if err != nil {
			return b.String(), err
		}
	}
	return b.String(), nil
}

func TestRows(t *testing.T) {
	name := write(t, one(6003, "person/a", "a/b:c", "/x/1", "/x/2"), one(6003, "", "a/b:d", "/x/3"),
		one(6003, "person/b", "a/b:c"), one(4001, "person/c", "a/b:c", "/x"), one(6003, "person/d", "a/b:c", "/x/4"))
	got, err := rows(t, name)
	want := "person/a a/b:c /x/1\n a/b:d /x/3\n! resources is empty: the call touched nothing\n" +
		"! an OCSF event of a class that shows no call\nperson/d a/b:c /x/4\n"
	if err != nil || got != want {
		t.Errorf("%v\n%swant\n%s", err, got, want)
	}
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if !columns.Is(f) || columns.Is(strings.NewReader("PAR")) {
		t.Error("a Parquet file is not known by its first bytes")
	}
}

// FuzzDamage: a file with a part cut off or a byte changed is an error or other rows,
// and never a panic.
func FuzzDamage(f *testing.F) {
	data, err := os.ReadFile(write(f, one(6003, "person/a", "a/b:c", "/x/1"), one(6003, "person/b", "a/b:c", "/x/2")))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(uint16(0), uint16(len(data)), byte(0))
	f.Add(uint16(10), uint16(len(data)), byte(255))
	f.Add(uint16(0), uint16(len(data)/2), byte(0))
	f.Fuzz(func(t *testing.T, at, keep uint16, flip byte) {
		b := bytes.Clone(data[:min(int(keep), len(data))])
		if int(at) < len(b) {
			b[at] ^= flip
		}
		name := filepath.Join(t.TempDir(), "x.parquet")
		if err := os.WriteFile(name, b, 0o600); err != nil {
			t.Fatal(err)
		}
		rows(t, name)
	})
}
