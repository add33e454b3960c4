package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// git runs git in a folder that is a repository of its own.
func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=t", "-c", "user.email=t@example.org"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CEILING_DIRECTORIES="+filepath.Dir(dir))
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// TestExport: access goes into a repository and comes back; a fence becomes patches that apply
// there, and to the estate file, and take themselves back.
func TestExport(t *testing.T) {
	t.Parallel()
	dir := warehouse(t, 12)
	repo := filepath.Join(dir, "repo")
	must(t, dir, "export", "access", "repo")
	git(t, repo, "init", "-q")
	// What else is in the repository is left alone.
	if err := os.WriteFile(filepath.Join(repo, "README.yaml"), []byte("ours\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	git(t, repo, "add", ".")
	git(t, repo, "commit", "-qm", "as it stands")
	if out := must(t, dir, "export", "access", "repo"); !strings.Contains(out,
		"0 files written, 0 removed, 12 as they were") {
		t.Errorf("once more:\n%s", out)
	}
	if out := must(t, dir, "export", "compare", "repo", "--patch"); out != "" {
		t.Errorf("nothing changed, and the patch is\n%s", out)
	}
	first := must(t, dir, "export", "change", "workload/clerk-003", "--to", "out", "--against", "repo")
	read := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, "out", "workload-clerk-003", name))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	names := []string{"forward.patch", "back.patch", "estate.forward.patch", "estate.back.patch", "evidence.md",
		"fence.yaml"}
	was := map[string]string{}
	for _, n := range names {
		was[n] = read(n)
	}
	if again := must(t, dir, "export", "change", "workload/clerk-003", "--to", "out", "--against",
		"repo"); again != first {
		t.Errorf("once more:\n%s", again)
	}
	for _, n := range names {
		if read(n) != was[n] {
			t.Errorf("%s is another one each time", n)
		}
	}
	if !strings.Contains(was["evidence.md"], "**Holds: w:workload/clerk-003") {
		t.Errorf("the evidence:\n%s", was["evidence.md"])
	}
	forward := filepath.Join(dir, "out", "workload-clerk-003", "forward.patch")
	git(t, repo, "apply", forward)
	code, out, _ := run(t, dir, "export", "compare", "repo")
	if code != 1 || !strings.Contains(out, "repo and w DIFFER: 1 only in the folder, 1 only in w, 0 not alike") {
		t.Errorf("exit code %d\n%s", code, out)
	}
	// A patch against a folder that already says otherwise is refused.
	code, _, errs := run(t, dir, "export", "change", "workload/clerk-003", "--to", "out2", "--against", "repo")
	if code == 0 || !strings.Contains(errs, "says otherwise than what stands") {
		t.Errorf("exit code %d: %s", code, errs)
	}
	_, patch, _ := run(t, dir, "export", "compare", "repo", "--patch")
	if patch != was["back.patch"] {
		t.Errorf("what makes the folder say what stands is not the way back:\n%s\n%s", patch, was["back.patch"])
	}
	git(t, repo, "apply", strings.Replace(forward, "forward", "back", 1))
	if out := git(t, repo, "status", "--porcelain"); out != "" {
		t.Errorf("after the way back:\n%s", out)
	}
	// The estate file: forward, seen by a survey, and back to the byte.
	estate := filepath.Join(dir, "estate.yaml")
	before, err := os.ReadFile(estate)
	if err != nil {
		t.Fatal(err)
	}
	git(t, dir, "init", "-q")
	git(t, dir, "apply", "out/workload-clerk-003/estate.forward.patch")
	must(t, dir, "survey")
	if code, out, _ := run(t, dir, "export", "compare", "repo"); code != 1 || !strings.Contains(out, "only in w") {
		t.Errorf("exit code %d\n%s", code, out)
	}
	out = must(t, dir, "export", "access", "repo")
	if !strings.Contains(out, "2 files written, 0 removed") { // the holder's, and the role's
		t.Errorf("%s", out)
	}
	git(t, dir, "apply", "out/workload-clerk-003/estate.back.patch")
	if after, err := os.ReadFile(estate); err != nil || string(after) != string(before) {
		t.Errorf("the estate file is not as it was: %v", err)
	}
	must(t, dir, "survey")
	if out = must(t, dir, "export", "access", "repo"); !strings.Contains(out, "1 file written, 1 removed") {
		t.Errorf("%s", out)
	}
	// A link does not lead out of the folder.
	if err := os.RemoveAll(filepath.Join(repo, "access")); err != nil {
		t.Fatal(err)
	}
	outside := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(repo, "access")); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, dir, "export", "access", "repo"); code == 0 {
		t.Errorf("it writes through a link: %s", errs)
	}
	if es, err := os.ReadDir(outside); err != nil || len(es) > 0 {
		t.Errorf("outside lie %v, %v", es, err)
	}
}
