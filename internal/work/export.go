package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"clipfence/internal/accessfile"
	"clipfence/internal/change"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
	"clipfence/internal/source/files"
)

// Exported says what became of the files of a folder.
type Exported struct {
	Source    string   `json:"source"`
	Folder    string   `json:"folder"`
	Written   []string `json:"written" doc:"new, or other than they were"`
	Removed   []string `json:"removed" doc:"of holders and roles that are not there any more"`
	Unchanged int      `json:"unchanged"`
}

// ExportAccess writes the access of a source, as its newest survey found it, as a folder of files:
// see [accessfile]. Files there that are as they are to be are not touched, those of holders and
// roles that are gone are removed, and others are left alone.
//
// With pseudonyms people are named by theirs, also in the names of files.
func (w *Workspace) ExportAccess(ctx context.Context, dir string, pseudonyms bool) (*Exported, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	e, _, err := w.estate(ctx, src, 0)
	if err != nil {
		return nil, err
	}
	if pseudonyms {
		if e, err = w.veiled(e); err != nil {
			return nil, err
		}
	}
	want, err := accessfile.Files(e)
	if err != nil {
		return nil, err
	}
	if pseudonyms { // what names them in texts and paths
		mask, err := w.Pseudonyms(ctx)
		if err != nil {
			return nil, err
		}
		veiled := map[string][]byte{}
		for name, text := range want {
			veiled[mask.Replace(name)] = []byte(mask.Replace(string(text)))
		}
		want = veiled
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir) // nothing leaves the folder, whatever links are in it
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	have, err := accessFiles(root)
	if err != nil {
		return nil, err
	}
	out := &Exported{Source: src.Name, Folder: dir, Written: []string{}, Removed: []string{}}
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if was, ok := have[name]; ok && bytes.Equal(was, want[name]) {
			out.Unchanged++
			continue
		}
		err := root.MkdirAll(filepath.FromSlash(path.Dir(name)), 0o755)
		if err == nil {
			err = root.WriteFile(filepath.FromSlash(name), want[name], 0o644)
		}
		if err != nil {
			return nil, err
		}
		out.Written = append(out.Written, name)
	}
	for _, name := range slices.Sorted(maps.Keys(have)) {
		if _, ok := want[name]; ok {
			continue
		}
		if err := root.Remove(filepath.FromSlash(name)); err != nil {
			return nil, err
		}
		out.Removed = append(out.Removed, name)
	}
	return out, nil
}

// accessFiles reads the files of a folder that say access.
func accessFiles(root *os.Root) (map[string][]byte, error) {
	out := map[string][]byte{}
	err := fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name != "." && !accessfile.Ours(name+"/x.yaml") && name != "rules" {
				return fs.SkipDir
			}
			return nil
		}
		if !accessfile.Ours(name) || !d.Type().IsRegular() {
			return nil
		}
		out[name], err = root.ReadFile(filepath.FromSlash(name))
		return err
	})
	return out, err
}

// readAccess reads a folder of access files.
func readAccess(source, dir string) (*model.Estate, map[string][]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = root.Close() }()
	have, err := accessFiles(root)
	if err != nil {
		return nil, nil, err
	}
	if len(have) == 0 {
		return nil, nil, fmt.Errorf("%s holds no access files; write them with: clipfence export access %s", dir, dir)
	}
	e, err := accessfile.Read(source, have)
	return e, have, err
}

// AccessComparison is what a folder says against what stands.
type AccessComparison struct {
	Source      string
	Differences []accessfile.Difference // Here: in the folder; Then: what stands
	Patch       string                  // makes the folder say what stands
}

// CompareAccess holds a folder of access files against what stands, as the newest survey found it.
func (w *Workspace) CompareAccess(ctx context.Context, dir string) (*AccessComparison, error) {
	src, err := w.pick("")
	if err != nil {
		return nil, err
	}
	e, _, err := w.estate(ctx, src, 0)
	if err != nil {
		return nil, err
	}
	said, have, err := readAccess(src.Name, dir)
	if err != nil {
		return nil, err
	}
	out := &AccessComparison{Source: src.Name}
	if out.Differences, err = accessfile.Differences(said, e); err != nil {
		return nil, err
	}
	if len(out.Differences) > 0 {
		out.Patch, _, err = accessPatches(have, said, e)
	}
	return out, err
}

// accessPatches are the unified diffs that make files which say one access say another, and back,
// word for word as they were. A file that says the same in other words stays as it is; have are the
// files as they are, nil: as this program writes them.
func accessPatches(have map[string][]byte, from, to *model.Estate) (forward, back string, err error) {
	was, err := accessfile.Files(from)
	if err != nil {
		return "", "", err
	}
	is, err := accessfile.Files(to)
	if err != nil {
		return "", "", err
	}
	names := maps.Clone(was)
	maps.Copy(names, is)
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if bytes.Equal(was[name], is[name]) {
			continue
		}
		text := was[name]
		if have != nil {
			text = have[name]
		}
		forward += fileDiff(name, text, is[name])
		back += fileDiff(name, is[name], text)
	}
	return forward, back, nil
}

// fileDiff is the unified diff of one file; one that comes, or goes, is /dev/null on the other
// side, as git and patch write it.
func fileDiff(name string, from, to []byte) string {
	a, b := "a/"+name, "b/"+name
	if from == nil {
		a = "/dev/null"
	}
	if to == nil {
		b = "/dev/null"
	}
	return udiff.Unified(a, b, string(from), string(to))
}

// ExportedChange is a fence as a folder of patches.
type ExportedChange struct {
	For    model.ID `json:"for"`
	Fence  string   `json:"fence"`
	Folder string   `json:"folder"`
	Files  []string `json:"files"`
	OK     bool     `json:"ok" doc:"its rehearsal holds"`
}

// Evidence writes what a rehearsal found for people.
type Evidence func(f *fence.Fence, s *Source, r *Rehearsal, k *Risk, name string) ([]byte, error)

// ExportChange writes each of some fences as a folder: forward.patch and back.patch of a folder of
// access files, against is that folder or "" for what stands; for a source that is files also of
// the estate file; the evidence, and the fence itself. The same workspace and time make the same
// bytes.
func (w *Workspace) ExportChange(ctx context.Context, names []string, to, against string,
	evidence Evidence) ([]ExportedChange, error) {
	var out []ExportedChange
	open := map[string]*Source{}
	for _, arg := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		name, f, s, err := w.readFence(ctx, arg, open)
		if err != nil {
			return nil, err
		}
		e, _, err := w.estate(ctx, s.Source, 0)
		if err != nil {
			return nil, err
		}
		base := e
		var have map[string][]byte
		if against != "" {
			if base, have, err = readAccess(s.Name, against); err != nil {
				return nil, err
			}
			if err := saysSame(base, e, f); err != nil {
				return nil, fmt.Errorf("%s: %w (clipfence export compare %s)", against, err, against)
			}
		}
		edit := f.Edit(s.Name)
		for i := range edit.Come.Grants {
			edit.Come.Grants[i].Created = f.Drafted
		}
		after := edit.Apply(base)
		x := ExportedChange{For: f.For, Fence: w.Relative(name), Folder: filepath.Join(to,
			strings.TrimSuffix(filepath.Base(name), fencefile.Suffix))}
		text := map[string][]byte{}
		forward, back, err := accessPatches(have, base, after)
		if err != nil {
			return nil, err
		}
		text["forward.patch"], text["back.patch"] = []byte(forward), []byte(back)
		if s.Source.Kind == "files" {
			if text["estate.forward.patch"], text["estate.back.patch"], err = w.estatePatches(ctx, s, f); err != nil {
				return nil, err
			}
		}
		r, k, err := w.Rehearse(ctx, f, s, false)
		if err != nil {
			return nil, err
		}
		x.OK = r.OK()
		if text["evidence.md"], err = evidence(f, s, r, k, x.Fence); err != nil {
			return nil, err
		}
		if text["fence.yaml"], err = os.ReadFile(name); err != nil {
			return nil, err
		}
		for _, file := range slices.Sorted(maps.Keys(text)) {
			if err := replaceFile(filepath.Join(x.Folder, file), text[file]); err != nil {
				return nil, err
			}
			x.Files = append(x.Files, file)
		}
		out = append(out, x)
	}
	return out, nil
}

// errSaysOther: a folder says otherwise than what stands.
var errSaysOther = errors.New("says otherwise than what stands")

// saysSame reports why a patch against a folder would not do what a fence does: what it takes away
// is not there, or is another.
func saysSame(said, stands *model.Estate, f *fence.Fence) error {
	all, err := accessfile.Differences(said, stands)
	if err != nil {
		return err
	}
	who := f.For.In(stands.Source)
	for _, d := range all {
		switch {
		case d.Kind == "grant" && slices.Contains(f.Replaces, d.ID),
			d.Kind == "membership" && slices.ContainsFunc(f.Leaves, func(g model.ID) bool {
				return d.ID == who.String()+">"+g.String()
			}),
			d.Kind == "role" && slices.ContainsFunc(f.Allow, func(a fence.Allow) bool { return a.Role == d.ID }):
			return fmt.Errorf("%s %s: it %w", d.Kind, d.ID, errSaysOther)
		}
	}
	return nil
}

// estatePatches are what a fence makes of an estate file, and what takes it back.
func (w *Workspace) estatePatches(ctx context.Context, s *Source, f *fence.Fence) (forward, back []byte, err error) {
	c := files.Changer{Reader: w.files(s.Source, nil)}
	steps, _, err := change.Plan(ctx, c, s.Index, f, f.Drafted)
	if err != nil {
		return nil, nil, err
	}
	base, data, edited, err := w.edited(s.Source, &change.Change{Steps: steps})
	if err != nil {
		return nil, nil, err
	}
	return []byte(fileDiff(base, data, edited)), []byte(fileDiff(base, edited, data)), nil
}
