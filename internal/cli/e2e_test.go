package cli_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// binary is the program under test, built once; examples a folder of the documents.
var binary, examples string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "clipfence-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	binary = filepath.Join(dir, "clipfence")
	if examples, err = filepath.Abs("../../docs/examples"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	build := exec.Command("go", "build", "-o", binary, "clipfence/cmd/clipfence")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	_ = os.RemoveAll(dir) // a temporary folder
	os.Exit(code)
}

// run runs the program in a folder and returns its exit code, stdout and stderr.
func run(t *testing.T, dir string, args ...string) (int, string, string) {
	t.Helper()
	return exitOf(t, command(dir, binary, args...))
}

func command(dir, name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "SSH_AUTH_SOCK=", "TZ=UTC", "CLIPFENCE_HOME="+
		filepath.Join(filepath.Dir(binary), "home"))
	return cmd
}

func exitOf(t *testing.T, cmd *exec.Cmd) (int, string, string) {
	t.Helper()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", cmd.Args, err)
	}
	return cmd.ProcessState.ExitCode(), out.String(), errs.String()
}

// must runs the program, wants exit code 0 and returns what it printed.
func must(t *testing.T, dir string, args ...string) string {
	t.Helper()
	code, out, errs := run(t, dir, args...)
	if code != 0 {
		t.Fatalf("clipfence %s: exit code %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// TestScripts runs the scripts of testdata/scripts, each in a fresh folder that
// holds the files of docs/examples. The lines of a script:
//
//	# says something
//	write NAME           the lines below it, indented by a tab, become a file;
//	                     \xNN and \n in them stand for bytes
//	append NAME          the same, at the end of the file
//	shell COMMAND        for what makes trouble, with $CLIPFENCE as the program
//	run [N] ARGS         runs the program; it must exit with N (0)
//	has TEXT             the last run printed TEXT, to stdout or stderr
//	not TEXT             it did not
func TestScripts(t *testing.T) {
	names, err := filepath.Glob("testdata/scripts/*.txt")
	if err != nil || len(names) == 0 {
		t.Fatal("no scripts", err)
	}
	for _, name := range names {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txt"), func(t *testing.T) {
			t.Parallel()
			data, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			dir := t.TempDir()
			if err := os.CopyFS(dir, os.DirFS(examples)); err != nil {
				t.Fatal(err)
			}
			for _, made := range []string{".clipfence", "drafts"} { // by somebody who tried the example in place
				if err := os.RemoveAll(filepath.Join(dir, made)); err != nil {
					t.Fatal(err)
				}
			}
			script(t, name, dir, strings.Split(string(data), "\n"))
		})
	}
}

// spaces are shown in widths that depend on the rows of a table.
var spaces = regexp.MustCompile(` +`)

var byteText = regexp.MustCompile(`\\x[0-9a-f]{2}|\\n`)

func script(t *testing.T, name, dir string, lines []string) {
	last := ""
	for i := 0; i < len(lines); i++ {
		verb, rest, _ := strings.Cut(lines[i], " ")
		fail := func(format string, args ...any) {
			t.Helper()
			t.Errorf("%s:%d: %s: %s\n%.3000s", name, i+1, lines[i], fmt.Sprintf(format, args...), last)
		}
		switch verb {
		case "", "#":
		case "write", "append":
			var b bytes.Buffer
			for ; i+1 < len(lines) && strings.HasPrefix(lines[i+1], "\t"); i++ {
				b.WriteString(byteText.ReplaceAllStringFunc(lines[i+1][1:], func(s string) string {
					if s == `\n` {
						return "\n"
					}
					n, _ := strconv.ParseUint(s[2:], 16, 8)
					return string([]byte{byte(n)})
				}) + "\n")
			}
			flag := os.O_CREATE | os.O_WRONLY | os.O_TRUNC
			if verb == "append" {
				flag = os.O_CREATE | os.O_WRONLY | os.O_APPEND
			}
			file := filepath.Join(dir, rest)
			err := os.MkdirAll(filepath.Dir(file), 0o700)
			f, err2 := os.OpenFile(file, flag, 0o600)
			if err == nil && err2 == nil {
				_, err = io.Copy(f, &b)
				err = errors.Join(err, f.Close())
			}
			if err = errors.Join(err, err2); err != nil {
				t.Fatal(err)
			}
		case "shell":
			cmd := command(dir, "sh", "-c", rest)
			cmd.Env = append(cmd.Env, "CLIPFENCE="+binary, "EXAMPLES="+examples, "FORMATS="+
				filepath.Join(filepath.Dir(filepath.Dir(examples)), "internal", "auditlog", "formats", "testdata"))
			code, out, errs := exitOf(t, cmd)
			if last = out + errs; code != 0 {
				fail("exit code %d", code)
			}
		case "run":
			want := 0
			words := split(rest)
			if n, err := strconv.Atoi(words[0]); err == nil {
				want, words = n, words[1:]
			}
			code, out, errs := run(t, dir, words...)
			if last = out + errs; code != want {
				fail("exit code %d, want %d", code, want)
			}
			if strings.Contains(last, "goroutine ") || strings.Contains(last, "panic:") {
				fail("a stack trace")
			}
			if strings.ContainsAny(last, "\x1b\x07\x00\r") {
				fail("a control character gets through")
			}
		case "has":
			if !strings.Contains(spaces.ReplaceAllString(last, " "), rest) {
				fail("it did not print that")
			}
		case "not":
			if strings.Contains(last, rest) {
				fail("it printed that")
			}
		default:
			t.Fatalf("%s:%d: what is %q?", name, i+1, verb)
		}
	}
}

// split cuts a line into words; single quotes keep one together.
func split(s string) []string {
	var out []string
	for i, part := range strings.Split(s, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}
