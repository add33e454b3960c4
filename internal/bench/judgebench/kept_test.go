package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

var keep = flag.Bool("keep", false, "keep what drafts give on the lives of the tests from now on")

const keptFile = "testdata/kept.txt"

// keptDrafts holds what the drafts of a life give together, a line for each who gets or loses
// something, against what was kept: it says what moved where the figures of a life still agree. To
// keep what is said now:
//
//	go test ./internal/bench/judgebench -run Judged -keep
func keptDrafts(t *testing.T, name string, edit access.Edit, of func(grant string) model.ID) {
	t.Helper()
	if runtime.GOARCH != "amd64" {
		t.Log("kept on amd64; chances differ in their last digits here")
		return
	}
	by := map[model.ID]*access.Edit{}
	at := func(id model.ID) *access.Edit {
		if by[id] == nil {
			by[id] = &access.Edit{}
		}
		return by[id]
	}
	for _, g := range edit.Come.Grants {
		d := at(g.To)
		d.Come.Grants = append(d.Come.Grants, g)
	}
	for _, id := range edit.Gone.Grants {
		d := at(of(id))
		d.Gone.Grants = append(d.Gone.Grants, id)
	}
	for _, m := range edit.Gone.Memberships {
		d := at(m.Member)
		d.Gone.Memberships = append(d.Gone.Memberships, m)
	}
	var now []string
	for _, id := range slices.SortedFunc(maps.Keys(by), model.ID.Compare) {
		text, err := json.Marshal(by[id])
		if err != nil {
			t.Fatal(err)
		}
		h := sha256.Sum256(text)
		now = append(now, fmt.Sprintf("%s %s %d %s", name, id, len(by[id].Come.Grants), hex.EncodeToString(h[:6])))
	}
	all, err := os.ReadFile(keptFile)
	if err != nil && !*keep {
		t.Fatal(err)
	}
	var was, rest []string
	for line := range strings.Lines(string(all)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, name+" ") {
			was = append(was, line)
		} else {
			rest = append(rest, line)
		}
	}
	if *keep {
		text := strings.Join(slices.Concat(rest, now), "\n") + "\n"
		if err := os.WriteFile(keptFile, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	for _, line := range now {
		if !slices.Contains(was, line) {
			t.Errorf("drafts give another thing: %s", line)
		}
	}
	for _, line := range was {
		if !slices.Contains(now, line) {
			t.Errorf("they gave: %s", line)
		}
	}
}
