package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"clipfence/internal/config"
	"clipfence/internal/render"
	"clipfence/internal/store"
)

const newConfig = `# The workspace of Clip Fence. Its fields: clipfence schema config
clipfence: 2
window: 90d
max_survey_age: 24h

# Identities whose access is never changed.
protected: []

# Connected systems; add one with: clipfence source add
sources: []
`

func (a *app) initCmd() *cobra.Command {
	return &cobra.Command{
		Use: "init [FOLDER]", Short: "Make a workspace", Args: cobra.MaximumNArgs(1),
		Long:    "Make a workspace: clipfence.yaml, the store, and folders for drafts and gates. What is there already is left as it is.",
		Example: "  clipfence init ternhaven",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := a.dir
			if len(args) == 1 {
				dir = args[0]
			}
			name := filepath.Join(dir, config.File)
			if _, err := os.Stat(name); err == nil {
				return fmt.Errorf("%s is there already; nothing was changed", name)
			} else if !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, d := range []string{dir, filepath.Join(dir, "drafts"), filepath.Join(dir, "gates")} {
				if err := os.MkdirAll(d, 0o700); err != nil {
					return err
				}
			}
			if err := os.WriteFile(name, []byte(newConfig), 0o600); err != nil {
				return err
			}
			c, err := config.Find(dir)
			if err != nil {
				return err
			}
			s, err := store.Open(cmd.Context(), c.StoreFile())
			if err != nil {
				return err
			}
			if err := s.Close(); err != nil {
				return err
			}
			return a.print(&render.Doc{Head: "Workspace made in " + c.Dir,
				Next:  []string{"cd " + dir, "clipfence source add mooring --kind bridge --url https://... --token-env MOORING_TOKEN"},
				Value: map[string]string{"workspace": c.Dir}})
		},
	}
}
