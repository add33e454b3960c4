package cli

import (
	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) initCmd() *cobra.Command {
	return &cobra.Command{
		Use: "init [FOLDER]", Short: "Make a workspace", Args: cobra.MaximumNArgs(1),
		Long: "Make a workspace: clipfence.yaml, the store, and folders for drafts and gates. What is there " +
			"already is left as it is.",
		Example: "  clipfence init ternhaven",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := a.dir
			if len(args) == 1 {
				dir = args[0]
			}
			c, err := work.Init(cmd.Context(), dir)
			if err != nil {
				return err
			}
			return a.print(&render.Doc{Head: "Workspace made in " + c,
				Next: []string{"cd " + dir,
					"clipfence source add mooring --kind bridge --url https://... --token-env MOORING_TOKEN"},
				Value: map[string]string{"workspace": c}})
		},
	}
}
