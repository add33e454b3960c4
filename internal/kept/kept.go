// Package kept holds what a part says of many made-up cases against what it said of them before.
//
// Laws and rows say what is right, and between them there is room in which a limit can move by one
// unseen. So what is said of each case is kept as a digest, and a test fails when it becomes
// something else. That proves nothing; it makes that nothing moves unseen. Whoever changes an answer
// on purpose compares the texts of before and after, and keeps the new ones:
//
//	go test PACKAGE -run NAME -said /tmp/now     # the same on the commit before
//	go test PACKAGE -run NAME -keep
package kept

import (
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

var (
	keep = flag.Bool("keep", false, "keep what is said of the kept cases from now on")
	said = flag.String("said", "", "write what is said of each kept case into this folder, to compare it")
)

// Same asks of n cases, several at once, what is said of them, and fails where it is not what was
// kept under testdata by the name of the test. A case has a name; lines of its text that begin with
// "# " begin a part, which has a digest of its own. On other machines than amd64 the cases are asked
// all the same, and that nothing is compared is told as a test of its own that is skipped.
func Same(t *testing.T, n int, say func(i int) (name, text string)) {
	t.Helper()
	lines := make([]string, n)
	var next atomic.Int64
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				name, text := say(i)
				if *said != "" {
					put(t, filepath.Join(*said, name+".txt"), text)
				}
				lines[i] = digest(name, text)
			}
		})
	}
	wg.Wait()
	if runtime.GOARCH != "amd64" { // others fuse multiplication and addition, and round once less
		t.Run("kept", func(t *testing.T) { t.Skip("kept on amd64; the last digits of a sum are others here") })
		return
	}
	file := filepath.Join("testdata", "kept", t.Name()+".txt")
	if *keep {
		put(t, file, strings.Join(lines, "\n")+"\n")
		return
	}
	was, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	old := strings.Split(strings.TrimSpace(string(was)), "\n")
	if len(old) != len(lines) {
		t.Fatalf("%d cases are kept, and %d were asked", len(old), len(lines))
	}
	for i := range lines {
		a, b := strings.Fields(old[i]), strings.Fields(lines[i])
		if len(a) != len(b) {
			t.Errorf("case %s: %d parts are kept, and %d were said", b[0], len(a)-1, len(b)-1)
			continue
		}
		for k := range b {
			if a[k] != b[k] {
				part, _, _ := strings.Cut(b[k], "=")
				t.Errorf("case %s: what is said of its %s is not what was: see package kept", b[0], part)
			}
		}
	}
}

// digest is a line of the digests of the parts of a text.
func digest(name, text string) string {
	for i, part := range strings.Split(text, "\n# ") {
		title := "text"
		if head, _, _ := strings.Cut(part, "\n"); i > 0 || strings.HasPrefix(part, "# ") {
			title = strings.TrimPrefix(head, "# ")
		}
		h := sha256.Sum256([]byte(part))
		name += " " + strings.ReplaceAll(title, " ", "-") + "=" + hex.EncodeToString(h[:5])
	}
	return name
}

func put(t *testing.T, file, text string) {
	t.Helper()
	err := os.MkdirAll(filepath.Dir(file), 0o755)
	if err == nil {
		err = os.WriteFile(file, []byte(text), 0o644)
	}
	if err != nil {
		t.Error(err)
	}
}
