package cli

import (
	"os/exec"
	"strings"
	"testing"

	"clipfence/internal/work"

	"go.yaml.in/yaml/v3"
)

// TestCopied: what is printed to be copied into a shell or a YAML file is one word there, whatever a name holds.
func TestCopied(t *testing.T) {
	for _, name := range []string{"person/ada", "person/o'brien", "person/$(touch x)", "workload/`id`", "person/a;b&c|d",
		"group/!x", "/m/box:a*/**", "person/x}], sources: [", "a,b", "# x", "- x", "person/\"q\"", `a\`, "~root", "é", ""} {
		out, err := exec.Command("sh", "-c", command("printf %%s %s", name)).Output()
		if err != nil || string(out) != name {
			t.Errorf("a shell takes %s for %q (%v)", command("%s", name), out, err)
		}
		var read struct{ Aliases []struct{ Log, Is string } }
		text := "aliases: [{log: " + work.YAML(name) + ", is: person/ada}]"
		if err := yaml.Unmarshal([]byte(text), &read); err != nil || len(read.Aliases) != 1 ||
			read.Aliases[0].Log != name || read.Aliases[0].Is != "person/ada" {
			t.Errorf("%s is read as %+v (%v)", text, read, err)
		}
	}
	for _, plain := range []string{"person/ada.lovelace", "/m/harbour:t/box:a", "kind/name@host"} {
		if command("%s", plain) != plain || work.YAML(plain) != plain && !strings.HasPrefix(plain, "/") {
			t.Errorf("%s needs no quotes", plain)
		}
	}
}
