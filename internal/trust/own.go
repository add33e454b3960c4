package trust

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// ErrForeign: a configuration, key or token is not this account's alone to write.
var ErrForeign = errors.New("it is not used, since somebody else could have written it")

// AnywayVariable is set to 1 by whoever wants foreign files used all the same.
const AnywayVariable = "CLIPFENCE_USE_FOREIGN"

// Safe reports [ErrForeign] for a configuration that others may write, or whose folder they
// may, and for one that was found above the folder that was named and belongs to another
// account: it names a command that prints the token, which would run as us.
func Safe(name string, above bool) error {
	if os.Getenv(AnywayVariable) == "1" {
		return nil
	}
	for _, f := range []string{name, filepath.Dir(name)} {
		if err := Own(f); err != nil {
			return err
		}
	}
	if owner, me, known := owners(name); known && above && owner != me {
		return fmt.Errorf("%s lies above this folder and belongs to user %d: %w; name its folder with -C to use "+
			"it, or set %s=1", name, owner, ErrForeign, AnywayVariable)
	} else if known && owner != me && owner != 0 {
		return fmt.Errorf("%s belongs to user %d: %w; take it over (chown), or set %s=1", name, owner, ErrForeign,
			AnywayVariable)
	}
	return nil
}

// Own returns [ErrForeign] for a file or folder that other accounts may write. Where the
// system has no such bits nothing is said.
func Own(name string) error {
	if os.Getenv(AnywayVariable) == "1" {
		return nil
	}
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	if loose(info) {
		return fmt.Errorf("%s may be written by others (its mode is %04o): %w; chmod go-w, or set %s=1", name,
			info.Mode().Perm(), ErrForeign, AnywayVariable)
	}
	return nil
}
