package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
)

func testApp() *app {
	return &app{in: strings.NewReader(""), out: &bytes.Buffer{}, err: &bytes.Buffer{},
		clock: func() time.Time { return time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC) }}
}

func walk(c *cobra.Command, f func(*cobra.Command)) {
	f(c)
	for _, sub := range c.Commands() {
		walk(sub, f)
	}
}

// words splits a command line as a shell would, for quotes without escapes.
func words(line string) []string {
	var out []string
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// parses reports why a command line would not get as far as doing something.
func parses(line string) error {
	root := testApp().root()
	c, args, err := root.Find(words(line)[1:])
	if err != nil {
		return err
	}
	if err := c.ParseFlags(args); err != nil {
		return err
	}
	return c.ValidateArgs(c.Flags().Args())
}

// TestExamples: every command says what it does and shows how, and every command
// line in a help text or a document is one that the program takes.
func TestExamples(t *testing.T) {
	walk(testApp().root(), func(c *cobra.Command) {
		if c.Short == "" || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s: short help %q", c.CommandPath(), c.Short)
		}
		if c.Example == "" && c.Parent() != nil {
			t.Errorf("%s has no example", c.CommandPath())
		}
		for line := range strings.Lines(c.Example) {
			if err := parses(line); err != nil {
				t.Errorf("%s: %s: %v", c.CommandPath(), strings.TrimSpace(line), err)
			}
		}
	})
	for _, name := range []string{"../../README.md", "../../docs/guide.md", "../../docs/estate-file.md",
		"../../docs/logs.md", "../../docs/ARCHITECTURE.md", "../../docs/BENCHMARKS.md", "../../CONTRIBUTING.md"} {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Error(err)
			continue
		}
		code := false
		for line := range strings.Lines(string(data)) {
			line = strings.TrimSpace(line)
			if strings.HasPrefix(line, "```") {
				code = !code
			}
			line = strings.TrimPrefix(line, "$ ")
			line, _, _ = strings.Cut(line, " #")
			if code && strings.HasPrefix(line, "clipfence ") && !strings.ContainsAny(line, "|&$") {
				if err := parses(line); err != nil {
					t.Errorf("%s: %s: %v", name, line, err)
				}
			}
		}
	}
}

// TestSchemas: every schema is JSON, and every field of it is explained.
func TestSchemas(t *testing.T) {
	for _, s := range schemas {
		a := testApp()
		root := a.root()
		root.SetArgs([]string{"schema", s.name})
		if err := root.Execute(); err != nil {
			t.Errorf("%s: %v", s.name, err)
			continue
		}
		var v map[string]any
		if err := json.Unmarshal(a.out.(*bytes.Buffer).Bytes(), &v); err != nil ||
			v["$schema"] != "https://json-schema.org/draft/2020-12/schema" {
			t.Errorf("%s: %v %v", s.name, err, v["$schema"])
		}
	}
}
