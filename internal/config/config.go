// Package config reads a workspace: its clipfence.yaml and where its files are.
package config

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/sshsig"
	"clipfence/internal/trust"
	"clipfence/internal/yamlfile"
)

// File is the name of a workspace's own file.
const File = "clipfence.yaml"

// ErrNoWorkspace: neither the folder nor one above it holds a clipfence.yaml.
var ErrNoWorkspace = errors.New("no workspace here")

// A Duration is written like 90d, 4h, 59m or 30s.
type Duration = model.Duration

// A Secret says where a secret comes from; it is never written down itself.
type Secret struct {
	Env     string   `json:"env,omitempty" doc:"name of an environment variable"`
	File    string   `json:"file,omitempty" doc:"a file, relative to the workspace"`
	Command []string `json:"command,omitempty" doc:"a program and its arguments, which prints the secret"`
}

// IsZero reports whether nothing is named.
func (s Secret) IsZero() bool { return s.Env == "" && s.File == "" && len(s.Command) == 0 }

// Get fetches the secret. Errors name the place, never the content.
func (s Secret) Get(ctx context.Context, dir string) (string, error) {
	var out string
	switch {
	case s.Env != "":
		if out = os.Getenv(s.Env); out == "" {
			return "", fmt.Errorf("environment variable %s is not set", s.Env)
		}
	case s.File != "":
		b, err := os.ReadFile(resolve(dir, s.File))
		if err == nil {
			err = trust.Own(resolve(dir, s.File))
		}
		if err != nil {
			return "", err
		}
		out = string(b)
	case len(s.Command) > 0:
		cmd := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		cmd.Dir = dir
		cmd.WaitDelay = 2 * time.Second // what it started may hold its output open
		b, err := cmd.Output()
		if err != nil {
			return "", fmt.Errorf("command %s: %w", s.Command[0], err)
		}
		out = string(b)
	default:
		return "", errors.New("no place is named for the token (env, file or command)")
	}
	if out = strings.TrimSpace(out); out == "" {
		return "", errors.New("the token is empty")
	}
	return out, nil
}

func resolve(dir, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(dir, name)
}

// A Source is one connected system.
type Source struct {
	Name        string              `json:"name" doc:"the source's name: first segment of its paths"`
	Kind        string              `json:"kind" doc:"bridge or files"`
	URL         string              `json:"url,omitempty" doc:"bridge: its address, without /bridge/v2"`
	CA          string              `json:"ca,omitempty" doc:"bridge: PEM file of the issuer of its certificate"`
	Token       Secret              `json:"token,omitzero" doc:"bridge: the token for reading"`
	ChangeToken Secret              `json:"change_token,omitzero" doc:"bridge: the token for changing; without one the source is read-only"`
	Estate      string              `json:"estate,omitempty" doc:"files: the estate file"`
	Changes     string              `json:"changes,omitempty" doc:"files: hand (default): a change is written down for whoever carries it out, and the next survey looks whether it was; edit: the estate file itself is edited"`
	Logs        []string            `json:"logs,omitempty" doc:"files: log files, folders or globs"`
	LogMaps     []string            `json:"log_maps,omitempty" doc:"log map files, for logs in formats of their own"`
	Aliases     []usage.Alias       `json:"aliases,omitempty" doc:"names in the logs and the identities they mean"`
	LogZone     string              `json:"log_zone,omitempty" doc:"files: what the abbreviations of time zones in its logs mean, as a name of the IANA list, such as Europe/Oslo"`
	Strangers   []string            `json:"strangers,omitempty" doc:"callers in the logs, kind/name, that are known to be nobody of this source; * stands for any run of characters"`
	Over        []model.PathPattern `json:"over,omitempty" doc:"places where work is over: that their logs are silent is no loss of them"`
	Fleeting    []model.PathPattern `json:"fleeting,omitempty" doc:"places of nodes that come and go between surveys, such as /ferries/namespace:*-trial-*: a call on one that no survey lists was on something that is gone"`
	Moved       usage.Moves         `json:"moved,omitempty" doc:"nodes that were renamed, or lie elsewhere now: what the logs tell of their former paths was done on them"`
	Quiet       []Quiet             `json:"quiet,omitempty" doc:"days on which nobody worked: that logs are silent then is no loss of them"`
	Operations  string              `json:"operations,omitempty" doc:"operations file: which permissions the operations of the logs take"`
	At          model.Position      `json:"-"`
}

// Quiet is days on which nobody worked, in UTC, both included.
type Quiet struct {
	On      model.PathPattern `json:"on" doc:"where"`
	Service string            `json:"service,omitempty" doc:"of which service the logs are; none: of all"`
	From    string            `json:"from" doc:"the first day, as 2026-07-11"`
	To      string            `json:"to" doc:"the last day"`
}

// Days returns the first day and the last.
func (q *Quiet) Days() (from, to time.Time, err error) {
	if from, err = time.Parse(time.DateOnly, q.From); err == nil {
		to, err = time.Parse(time.DateOnly, q.To)
	}
	if err != nil {
		return from, to, fmt.Errorf("from and to are days, such as 2026-07-11: %w", err)
	}
	if to.Before(from) {
		return from, to, fmt.Errorf("it ends on %s, before it begins on %s", q.To, q.From)
	}
	return from, to, nil
}

// How a files source is changed.
const (
	ByHand    = "hand" // a change is written down for whoever carries it out
	ByEditing = "edit" // the estate file is edited
)

// An OperationsFile is the content of an operations file.
type OperationsFile struct {
	Version int               `json:"operations" doc:"version of this format: 1"`
	Map     []usage.Operation `json:"map" doc:"operations and the permissions they take; the first that fits counts"`
}

// ParseOperations reads an operations file. name is for messages.
func ParseOperations(name string, data []byte) ([]usage.Operation, error) {
	var f OperationsFile
	if err := yamlfile.Decode(name, data, &f); err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s: operations: format %d is not known to this program (want 1)", name, f.Version)
	}
	return f.Map, nil
}

// A Person may sign requests and approvals.
type Person struct {
	ID   model.ID       `json:"id" doc:"who signs, as in the source"`
	Keys []string       `json:"keys" doc:"SSH public keys, as in an authorized_keys file"`
	At   model.Position `json:"-"`
}

// A Set names resources that belong together: the perimeter that an auditor asks about.
type Set struct {
	Name   string              `json:"name" doc:"the set's name"`
	Where  []model.PathPattern `json:"where,omitempty" was:"on" doc:"path patterns; none: everywhere"`
	Labels map[string]string   `json:"labels,omitempty" doc:"labels that a node must carry, itself or above it"`
	At     model.Position      `json:"-"`
}

// Weights are the danger of one permission of each level on one node.
type Weights struct {
	See        float64 `json:"see,omitempty" was:"list" doc:"default 1"`
	Read       float64 `json:"read,omitempty" doc:"default 2"`
	Change     float64 `json:"change,omitempty" was:"write" doc:"default 6"`
	Administer float64 `json:"administer,omitempty" doc:"default 20"`
	HandOut    float64 `json:"hand_out,omitempty" doc:"default 60"`
}

// A Config is the content of clipfence.yaml.
type Config struct {
	Version      int          `json:"clipfence" doc:"version of this format: 2"`
	Window       Duration     `json:"window,omitempty" doc:"how far back a question looks; default 90d"`
	MaxAge       Duration     `json:"max_survey_age,omitempty" doc:"a change needs a survey younger than this; default 24h"`
	Wait         Duration     `json:"wait,omitempty" doc:"how long to wait until a change is visible; default 2m"`
	Sources      []Source     `json:"sources,omitempty" doc:"the connected systems"`
	Protected    []string     `json:"protected,omitempty" doc:"identities (source:kind/name, or kind/name in every source) whose access is never changed"`
	People       []Person     `json:"people,omitempty" doc:"people who may sign gate requests and approvals"`
	Links        []model.Link `json:"links,omitempty" doc:"identities of two sources that are the same person or workload"`
	Weights      Weights      `json:"weights,omitzero" doc:"risk weights"`
	Tasks        []string     `json:"tasks,omitempty" doc:"tasks files: what people do, for draft --from task"`
	KeepUses     Duration     `json:"keep_uses,omitempty" doc:"calls older than this are taken out by each survey, in whole days, such as 400d; default: never"`
	ApplyWatched bool         `json:"apply_watched,omitempty" doc:"patrol carries out accepted drafts whose watching is over and that would have refused nothing"`
	Sets         []Set        `json:"resource_sets,omitempty" doc:"resources that belong together, such as those of one application"`

	Dir     string         `json:"-"` // of the workspace, absolute
	Remarks []model.Remark `json:"-"` // what to write otherwise now
}

// Find reads the workspace at dir, or at the nearest folder above it.
func Find(dir string) (*Config, error) {
	start, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	for d := start; ; d = filepath.Dir(d) {
		name := filepath.Join(d, File)
		data, err := os.ReadFile(name)
		switch {
		case err == nil:
			if err := trust.Safe(name, d != start); err != nil {
				return nil, err
			}
			c, err := Parse(name, data)
			if err != nil {
				return nil, err
			}
			c.Dir = d
			return c, nil
		case !errors.Is(err, fs.ErrNotExist):
			return nil, err
		case d == filepath.Dir(d):
			return nil, fmt.Errorf("%w: neither %s nor a folder above it holds %s; make one with: clipfence init",
				ErrNoWorkspace, start, File)
		}
	}
}

// Parse reads a clipfence.yaml. name is for messages.
func Parse(name string, data []byte) (*Config, error) {
	c := &Config{}
	if err := yamlfile.Decode(name, data, c); err != nil {
		return nil, err
	}
	if err := yamlfile.Version(name, "clipfence", c.Version, 2, &c.Remarks); err != nil {
		return nil, err
	}
	def := func(d *Duration, v time.Duration) {
		if *d == 0 {
			*d = Duration(v)
		}
	}
	def(&c.Window, 90*24*time.Hour)
	def(&c.MaxAge, 24*time.Hour)
	def(&c.Wait, 2*time.Minute)
	if err := WholeDays(c.Window); err != nil {
		return nil, fmt.Errorf("%s: window: %w", name, err)
	}
	if c.KeepUses != 0 {
		if err := WholeDays(c.KeepUses); err != nil {
			return nil, fmt.Errorf("%s: keep_uses: %w", name, err)
		}
		if c.KeepUses < 2*c.Window {
			return nil, fmt.Errorf("%s: keep_uses: %s is less than twice the window (%s): nothing could be judged",
				name,
				c.KeepUses, c.Window)
		}
	}
	for _, d := range []struct {
		name  string
		value Duration
		most  time.Duration
	}{{"max_survey_age", c.MaxAge, 90 * 24 * time.Hour}, {"wait", c.Wait, 24 * time.Hour},
		{"window", c.Window, 20 * 366 * 24 * time.Hour}} {
		if time.Duration(d.value) > d.most {
			return nil, fmt.Errorf("%s: %s: %s is too long to mean anything; at most %s", name, d.name, d.value,
				Duration(d.most))
		}
	}
	for level, v := range map[string]float64{"see": c.Weights.See, "read": c.Weights.Read, "change": c.Weights.Change,
		"administer": c.Weights.Administer, "hand_out": c.Weights.HandOut} {
		if !(v >= 0 && v <= 1e6) { // not a number is neither
			return nil, fmt.Errorf("%s: weights: %s: %v is no weight; from 0 to 1000000, and 0 is the default", name,
				level, v)
		}
	}
	var errs []error
	fault := func(at model.Position, format string, args ...any) {
		errs = append(errs, &yamlfile.Error{At: at, What: fmt.Sprintf(format, args...)})
	}
	seen := map[string]bool{}
	for _, s := range c.Sources {
		if _, err := model.ParsePath("/" + s.Name); err != nil || strings.ContainsAny(s.Name, "/:*") {
			fault(s.At, "source name %q cannot be the first segment of a path", s.Name)
		}
		if seen[s.Name] {
			fault(s.At, "source %q is listed twice", s.Name)
		}
		seen[s.Name] = true
		switch {
		case s.Kind == "bridge" && s.URL == "":
			fault(s.At, "source %q: a bridge needs a url", s.Name)
		case s.Kind == "bridge" && strings.Contains(s.URL, "@"): // not shown: it may hold a password
			fault(s.At, "source %q: its url holds a name or password; a token is named under token", s.Name)
		case s.Kind == "files" && s.Estate == "":
			fault(s.At, "source %q: files need an estate file", s.Name)
		case s.Changes != "" && (s.Kind != "files" || !slices.Contains([]string{ByHand, ByEditing}, s.Changes)):
			fault(s.At, "source %q: changes: %q; a files source has %s or %s, any other source no such field", s.Name,
				s.Changes, ByHand, ByEditing)
		case s.Kind != "bridge" && s.Kind != "files":
			fault(s.At, "source %q: kind %q is neither bridge nor files", s.Name, s.Kind)
		}
		for _, set := range []struct {
			of string
			on []model.PathPattern
		}{{"over", s.Over}, {"fleeting", s.Fleeting}} {
			for _, on := range set.on {
				if text := on.String(); !strings.HasPrefix(text+"/", "/"+s.Name+"/") {
					fault(s.At, "source %q: %s: %s is not in it; its places begin with /%s", s.Name, set.of, text,
						s.Name)
				}
			}
		}
		for _, on := range s.Fleeting {
			if text := on.String(); strings.HasSuffix(text, "/**") {
				fault(s.At, "source %q: fleeting: %s: name the nodes that come and go, without /**: what lies in "+
					"them goes with them", s.Name, text)
			}
		}
		for i, m := range s.Moved {
			switch {
			case m.From.Source() != s.Name, m.To.Source() != s.Name:
				fault(s.At, "source %q: moved: %s to %s: both are paths of it, beginning with /%s", s.Name, m.From,
					m.To, s.Name)
			case m.From.Covers(m.To), m.To.Covers(m.From):
				fault(s.At, "source %q: moved: %s to %s: neither may be the other or lie in it", s.Name, m.From, m.To)
			case slices.ContainsFunc(s.Moved, func(o usage.Moved) bool { return o.From.Covers(s.Moved.Now(m.From)) }):
				fault(s.At, "source %q: moved: %s leads round in a circle", s.Name, m.From)
			case slices.ContainsFunc(s.Moved[:i], func(o usage.Moved) bool { return o.From == m.From }):
				fault(s.At, "source %q: moved: %s is said to have moved twice; say each step from where it was then",
					s.Name, m.From)
			}
		}
		for _, q := range s.Quiet {
			if text := q.On.String(); !strings.HasPrefix(text+"/", "/"+s.Name+"/") {
				fault(s.At, "source %q: quiet: on: %s is not in it; its places begin with /%s", s.Name, text, s.Name)
			}
			if _, _, err := q.Days(); err != nil {
				fault(s.At, "source %q: quiet: %v", s.Name, err)
			}
		}
	}
	for _, s := range c.Sets {
		if s.Name == "" || len(s.Where)+len(s.Labels) == 0 {
			fault(s.At, "resource_sets: a set has a name, and where or labels")
		}
	}
	for _, p := range c.Protected {
		if _, err := model.ParseID(p); err != nil {
			fault(model.Position{File: name}, "protected: %v", err)
		}
	}
	whose := map[string]model.ID{}
	for _, p := range c.People {
		for _, k := range p.Keys {
			l, err := sshsig.ParseListed(k)
			if err != nil {
				fault(p.At, "people: %s: a key: %v", p.ID, err)
				continue
			}
			if other, taken := whose[string(l.Key.Marshal())]; taken && other != p.ID {
				fault(p.At, "people: %s: a key is that of %s, too; a key speaks for one person", p.ID, other)
			}
			whose[string(l.Key.Marshal())] = p.ID
		}
	}
	return c, errors.Join(errs...)
}

// WholeDays reports why a duration cannot be a window, or nil: calls are kept by day.
func WholeDays(d Duration) error {
	const day = Duration(24 * time.Hour)
	switch {
	case d < day:
		return fmt.Errorf("%s is shorter than a day, and calls are kept by day: use 1d, which is the whole day "+
			"before and today so far", d)
	case d%day != 0:
		return fmt.Errorf("%s is not whole days, and calls are kept by day: use %s or %s", d, d/day*day, d/day*day+day)
	}
	return nil
}

// Path returns a file of the workspace, absolute.
func (c *Config) Path(name string) string { return resolve(c.Dir, name) }

// Where a workspace keeps what it makes.
func (c *Config) StoreFile() string  { return c.Path(".clipfence/store.db") }
func (c *Config) LedgerFile() string { return c.Path(".clipfence/ledger.jsonl") }
func (c *Config) DraftDir() string   { return c.Path("drafts") }
func (c *Config) GateDir() string    { return c.Path("gates") }

// Source returns the source of a name. An empty name is the only source.
func (c *Config) Source(name string) (Source, error) {
	var names []string
	for _, s := range c.Sources {
		if s.Name == name || name == "" && len(c.Sources) == 1 {
			return s, nil
		}
		names = append(names, s.Name)
	}
	switch {
	case len(names) == 0:
		return Source{}, fmt.Errorf("%s connects no source; add one with: clipfence source add", c.Path(File))
	case name == "":
		return Source{}, fmt.Errorf("there are %d sources; say which with --source: %s", len(names),
			strings.Join(names, ", "))
	}
	return Source{}, fmt.Errorf("no source %q; there are: %s", name, strings.Join(names, ", "))
}

// ProtectedIn returns the protected identities of a source, without its name.
func (c *Config) ProtectedIn(src string) map[model.ID]bool {
	out := map[model.ID]bool{}
	for _, p := range c.Protected {
		id, err := model.ParseID(p)
		if err == nil && (id.Source == "" || id.Source == src) {
			id.Source = ""
			out[id] = true
		}
	}
	return out
}
