package cli

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"clipfence/internal/work"
	"clipfence/internal/yamlfile"
)

// schemas are the files that are read or written, and the answers in JSON.
var schemas = []struct {
	name, title string
	of          reflect.Type
}{
	{"config", "clipfence.yaml", reflect.TypeFor[work.Config]()},
	{"estate", "Estate file of a files source", reflect.TypeFor[work.EstateFile]()},
	{"fence", "Fence file (NAME.fence.yaml)", reflect.TypeFor[work.Fence]()},
	{"gate", "Gate file (NAME.gate.yaml)", reflect.TypeFor[work.Policy]()},
	{"operations", "Operations file", reflect.TypeFor[work.OperationsFile]()},
	{"tasks", "Tasks file", reflect.TypeFor[work.TasksFile]()},
	{"needs", "Needs file", reflect.TypeFor[work.NeedsFile]()},
	{"more", "clipfence draft --from refusals, task and needs --format json", reflect.TypeFor[moreValue]()},
	{"logmap", "Log map file (NAME.logmap.yaml)", reflect.TypeFor[work.LogMap]()},
	{"gauge", "clipfence gauge --format json", reflect.TypeFor[gaugeValue]()},
	{"uses", "One of clipfence uses --format json", reflect.TypeFor[useRow]()},
	{"finding", "One of clipfence findings --format json", reflect.TypeFor[findingRow]()},
	{"coverage", "One of clipfence coverage --format json", reflect.TypeFor[work.LogCoverage]()},
	{"reach", "clipfence reach IDENTITY --format json", reflect.TypeFor[reachValue]()},
	{"into", "clipfence reach --into and --set --format json", reflect.TypeFor[intoValue]()},
	{"comparison", "One of clipfence reach IDENTITY --compare, --with and --without --format json",
		reflect.TypeFor[work.ComparisonRow]()},
	{"escalation", "clipfence reach IDENTITY --escalation --format json", reflect.TypeFor[escalationValue]()},
	{"administrators", "clipfence reach --into NODE --escalation --format json",
		reflect.TypeFor[administratorsValue]()},
	{"why", "clipfence why --format json", reflect.TypeFor[whyValue]()},
	{"rehearsal", "clipfence rehearse --format json", reflect.TypeFor[rehearsalValue]()},
	{"survey", "One of clipfence survey --format json", reflect.TypeFor[work.SurveyRow]()},
	{"status", "clipfence status --format json", reflect.TypeFor[statusValue]()},
	{"review", "One of clipfence review list --format json", reflect.TypeFor[reviewRow]()},
	{"patrol", "clipfence patrol --format json", reflect.TypeFor[work.Round]()},
}

func (a *app) schemaCmd() *cobra.Command {
	var names []string
	for _, s := range schemas {
		names = append(names, s.name)
	}
	return &cobra.Command{
		Use: "schema NAME", Short: "Print the JSON Schema of a file or an answer", Args: cobra.ExactArgs(1),
		ValidArgs: names,
		Long: fmt.Sprintf("Print the JSON Schema (draft 2020-12) of a file that is read or written, or of an "+
			"answer in JSON. Names:\n%s", strings.Join(names, ", ")),
		Example: "  clipfence schema fence",
		RunE: func(_ *cobra.Command, args []string) error {
			i := slices.Index(names, args[0])
			if i < 0 {
				return fmt.Errorf("no schema %q; there are %s", args[0], strings.Join(names, ", "))
			}
			b, err := yamlfile.Schema(schemas[i].title, schemas[i].of)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, string(b))
			return err
		},
	}
}

func (a *app) manCmd() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the manual pages into a folder", Args: cobra.ExactArgs(1), Hidden: true,
		Example: "  clipfence man /tmp/man",
		RunE: func(cmd *cobra.Command, args []string) error {
			return doc.GenManTree(cmd.Root(), &doc.GenManHeader{Title: "CLIPFENCE", Section: "1",
				Source: "Clip Fence"}, args[0])
		},
	}
}
