package cli_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// madeUp is a call of a made-up log, and what its line says.
type madeUp struct {
	at          time.Time
	who, op     string
	box, status string
	id          int
}

func (c *madeUp) line(names map[string]string) string {
	return fmt.Sprintf(`{"%s":%q,"%s":%q,"%s":%q,"%s":%q,"%s":%q,"%s":"e%d"}`, names["t"],
		c.at.Format(time.RFC3339Nano), names["who"], c.who, names["op"], c.op, names["box"], c.box, names["status"],
		c.status, names["id"], c.id) + "\n"
}

// TestCountsAgree: whatever the log, how it is cut, packed, repeated and broken, whatever
// its map and the window, what uses says is what counting the lines says, and survey,
// coverage and gauge say the same, before and after the log was counted anew.
func TestCountsAgree(t *testing.T) {
	t.Parallel()
	const seed = 51
	rounds := 12
	if testing.Short() {
		rounds = 3
	}
	for round := range rounds {
		r := rand.New(rand.NewPCG(seed, uint64(round)))
		agree(t, r, fmt.Sprintf("seed %d, round %d", seed, round))
	}
}

func agree(t *testing.T, r *rand.Rand, name string) {
	dir := t.TempDir()
	write := func(file, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	names := map[string]string{}
	for _, f := range []string{"t", "who", "op", "box", "status", "id"} {
		names[f] = fmt.Sprintf("%s%d", f, r.IntN(100))
	}
	people, boxes, ops := []string{"ada", "bo", "everyone", "workload/ci", "Ø.m"}, []string{"a", "b", "c:d",
		"e*"}, []string{"read", "put", "drop"}
	end := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	days := 1 + r.IntN(200)
	var calls []madeUp
	for i := range 1 + r.IntN(1500) {
		calls = append(calls, madeUp{at: end.Add(-time.Duration(r.Int64N(int64(days)*int64(
			24*time.Hour))) - time.Nanosecond).Truncate(time.Millisecond),
			who: people[r.IntN(len(people))], op: ops[r.IntN(len(ops))], box: boxes[r.IntN(len(boxes))],
			status: []string{"done", "done", "done", "refused", "failed"}[r.IntN(5)], id: i})
	}
	// The log: in files, in any order, some lines twice, some no lines at all.
	broken := 0
	var files [4]strings.Builder
	for i := range calls {
		line := calls[i].line(names)
		files[r.IntN(4)].WriteString(line)
		if r.IntN(10) == 0 {
			files[r.IntN(4)].WriteString(line)
		}
		if r.IntN(20) == 0 {
			broken++
			files[r.IntN(4)].WriteString(line[:len(line)/2] + "\n")
		}
	}
	if err := os.Mkdir(filepath.Join(dir, "logs"), 0o700); err != nil {
		t.Fatal(err)
	}
	put := func(i int) {
		if i == 0 {
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			_, _ = z.Write([]byte(files[i].String()))
			_ = z.Close()
			write("logs/0.gz", packed.String())
			return
		}
		write(fmt.Sprintf("logs/%d.jsonl", i), files[i].String())
	}
	var estate strings.Builder
	estate.WriteString("estate: 2\nsource: m\ncatalogue:\n")
	for _, op := range ops {
		fmt.Fprintf(&estate, "  - {permission: \"stow/item:%s\", level: read, log_class: l}\n", op)
	}
	estate.WriteString("nodes:\n  - {path: \"/m\"}\n")
	escaped := map[string]string{"a": "a", "b": "b", "c:d": "c%3Ad", "e*": "e%2A"}
	for _, b := range boxes {
		fmt.Fprintf(&estate, "  - {path: \"/m/box:%s\"}\n", escaped[b])
	}
	estate.WriteString("identities:\n")
	id := map[string]string{}
	for _, p := range people {
		id[p] = "person/" + strings.NewReplacer("/", "%2F", "Ø", "%C3%98").Replace(p)
		fmt.Fprintf(&estate, "  - {id: %q}\n", id[p])
	}
	estate.WriteString("grants:\n")
	for i, p := range people {
		fmt.Fprintf(&estate, "  - {id: g-%d, to: %q, do: [\"stow/*:*\"], where: [\"/m/**\"], created: "+
			"2020-01-01T00:00:00Z}\n", i, id[p])
	}
	estate.WriteString("coverage: [{node: \"/m\", service: stow, log_class: l, written: true}]\n")
	write("estate.yaml", estate.String())
	logMap := func(op string) string {
		return fmt.Sprintf("logmap: 1\nname: ours\nform: json\ntime: r.%s\nid: r.%s\nidentity: r.%s\n"+
			"kind: '\"person\"'\npermission: %s\npath: '\"/m/box:\" + escape(r.%s)'\noutcome: r.%s\n", names["t"],
			names["id"], names["who"], op, names["box"], names["status"])
	}
	write("map.yaml", logMap(`'"stow/item:" + r.`+names["op"]+`'`))
	write("clipfence.yaml", "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml, logs: [logs], "+
		"log_maps: [map.yaml]}]\n")

	events := 0
	for _, i := range r.Perm(4) {
		put(i)
		got := decode[[]struct {
			New      int `json:"new_events"`
			Rejected int `json:"rejected_lines"`
		}](t, dir, "survey")
		events += got[0].New
		if i == r.IntN(4) {
			must(t, dir, "survey", "--read", "logs") // once more: nothing new
		}
	}
	if events != len(calls) {
		t.Errorf("%s: %d events, want %d", name, events, len(calls))
	}
	permission := func(c *madeUp) string { return "stow/item:" + c.op }
	check := func() {
		t.Helper()
		asOf := end.Add(-time.Second).AddDate(0, 0, -r.IntN(days))
		window := 1 + r.IntN(days+20)
		last := asOf.Truncate(24 * time.Hour)
		first := last.AddDate(0, 0, -window)
		type group struct {
			calls int64
			days  map[time.Time]bool
		}
		// Which calls are placed is asked of all days that are kept, up to the time.
		want, used, all := map[string]*group{}, map[string]map[string]bool{}, int64(0)
		for i := range calls {
			c := &calls[i]
			day := c.at.Truncate(24 * time.Hour)
			if day.After(last) || c.status == "refused" {
				continue
			}
			all++
			if day.Before(first) {
				continue
			}
			k := id[c.who] + " " + permission(c) + " /m/box:" + escaped[c.box]
			if want[k] == nil {
				want[k] = &group{days: map[time.Time]bool{}}
			}
			want[k].calls++
			want[k].days[day] = true
			if used[id[c.who]] == nil {
				used[id[c.who]] = map[string]bool{}
			}
			used[id[c.who]][permission(c)] = true
		}
		args := []string{"--as-of", asOf.Format(time.RFC3339), "--window", fmt.Sprint(window, "d")}
		rows := decode[[]struct {
			Identity, Permission, Path string
			Calls                      int64
			Days                       int
		}](t, dir, append([]string{"uses", "--by", "identity,permission,path", "--all"}, args...)...)
		got := map[string]bool{}
		for _, x := range rows {
			k := x.Identity + " " + x.Permission + " " + x.Path
			got[k] = true
			if w := want[k]; w == nil || w.calls != x.Calls || len(w.days) != x.Days {
				t.Errorf("%s, %v: %s: %d calls on %d days, want %+v", name, args, k, x.Calls, x.Days, w)
			}
		}
		for _, k := range slices.Sorted(maps.Keys(want)) {
			if !got[k] {
				t.Errorf("%s, %v: %s is missing: %d calls", name, args, k, want[k].calls)
			}
		}
		g := decode[struct {
			Calls struct {
				Let    int64 `json:"let_through"`
				Placed int64
			}
			Identities []struct {
				Identity string
				Used     int
			}
		}](t, dir, append([]string{"gauge"}, args...)...)
		if g.Calls.Let != all || g.Calls.Placed != all {
			t.Errorf("%s, %v: gauge counts %d calls, %d placed, want %d", name, args, g.Calls.Let, g.Calls.Placed, all)
		}
		for _, x := range g.Identities {
			if x.Used != len(used[x.Identity]) {
				t.Errorf("%s, %v: gauge: %s used %d, want %d", name, args, x.Identity, x.Used, len(used[x.Identity]))
			}
		}
	}
	for range 3 {
		check()
	}
	// The map was wrong: every operation is another one.
	write("map.yaml", logMap(`'r.`+names["op"]+` == "read" ? "stow/item:put" : "stow/item:read"'`))
	must(t, dir, "survey", "--reread")
	permission = func(c *madeUp) string {
		if c.op == "read" {
			return "stow/item:put"
		}
		return "stow/item:read"
	}
	for range 2 {
		check()
	}
}
