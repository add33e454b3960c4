package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"clipfence/internal/config"
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

// Init makes a workspace in a folder: clipfence.yaml, the store, and folders for drafts and
// gates. It returns where.
func Init(ctx context.Context, dir string) (string, error) {
	name := filepath.Join(dir, config.File)
	if _, err := os.Stat(name); err == nil {
		return "", fmt.Errorf("%s is there already; nothing was changed", name)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	for _, d := range []string{dir, filepath.Join(dir, "drafts"), filepath.Join(dir, "gates")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return "", err
		}
	}
	if err := os.WriteFile(name, []byte(newConfig), 0o600); err != nil {
		return "", err
	}
	c, err := config.Find(dir)
	if err != nil {
		return "", err
	}
	s, err := store.Open(ctx, c.StoreFile())
	if err != nil {
		return "", err
	}
	if err := s.Close(); err != nil {
		return "", err
	}
	return c.Dir, nil
}
