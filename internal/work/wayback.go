package work

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/source"
)

// Before a change touches anything, the way back is written into a file of its own, in the
// source's own terms: whoever is on call may have neither this program nor the workspace.

// wayBackFile is where it is written how to take a change of a source back by hand: a script, or
// of files a patch.
func (w *Workspace) wayBackFile(src config.Source, id string) string {
	ext := ".back.sh"
	if src.Kind == "files" {
		ext = ".back.patch"
	}
	return w.Path(filepath.Join("changes", id+ext))
}

// WayBack is where it is written how to take a change that ran back by hand.
func (p *Prepared) WayBack() string { return p.w.wayBackFile(p.src, p.Change.ID) }

// writeWayBack returns what writes it for changes of a source.
func (w *Workspace) writeWayBack(src config.Source) func(*change.Change) error {
	return func(ch *change.Change) error {
		text, err := w.wayBack(src, ch)
		if err == nil {
			err = replaceFile(w.wayBackFile(src, ch.ID), text)
		}
		if err != nil {
			return fmt.Errorf("writing the way back: %w; nothing was changed", err)
		}
		return nil
	}
}

// wayBack says it as sentences and, for a bridge, as a script of requests, for files as a patch.
func (w *Workspace) wayBack(src config.Source, ch *change.Change) ([]byte, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "How to take change %s of source %s back by hand\n\n", ch.ID, oneLine(src.Name))
	if !ch.For.IsZero() {
		fmt.Fprintf(&b, "It is for %s", oneLine(ch.For.String()))
		if ch.Reason != "" {
			fmt.Fprintf(&b, ": %s", oneLine(ch.Reason))
		}
		b.WriteString("\n")
	}
	fmt.Fprintf(&b, "Written %s, before its first step. With the program: clipfence undo %s\n\n",
		w.Clock().UTC().Format(time.RFC3339), ch.ID)
	back := ch.Undo("").Steps
	b.WriteString("In this order, so that what was taken stands before anything goes:\n\n")
	for i, s := range back {
		fmt.Fprintf(&b, "  %d. %s\n", i+1, oneLine(sentence(s)))
	}
	b.WriteString("\nIf the change stopped half-way, some of that is so already: leave those steps out.\n")
	if src.Kind == "files" {
		base, data, edited, err := w.edited(src, ch)
		writePatch(&b, base, edited, data)
		return []byte(b.String()), err
	}
	b.WriteString("\nThe same for a POSIX shell with curl: TOKEN=... sh THIS FILE. TOKEN is a token that may change " +
		"access.\n\n")
	text := comment(b.String()) + prelude
	b.Reset()
	b.WriteString(text)
	for _, s := range back {
		fmt.Fprintf(&b, "\n# %s\n%s\n", oneLine(sentence(s)), request(src, s))
	}
	return []byte(b.String()), nil
}

// prelude reads of a document which version of it stands (RFC 9110, section 8.8.3).
const prelude = `set -eu
: "${TOKEN:?}"
auth="Authorization: Bearer $TOKEN"
etag() { curl --fail -sS -D - -o /dev/null -H "$auth" "$1" | tr -d '\r' | sed -n 's/^[Ee][Tt][Aa][Gg]: //p'; }
send() { curl --fail-with-body -sS -o /dev/null -H "$auth" "$@"; }
`

// comment makes lines ones that a shell passes over.
func comment(text string) string {
	return "# " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n# ") + "\n\n"
}

// request is a step as a request to a bridge (docs/bridge.openapi.yaml), for a POSIX shell. It
// says on which version of the document it was decided, as every request that changes one does.
func request(src config.Source, s source.Step) string {
	at := quoted(strings.TrimSuffix(src.URL, "/") + "/bridge/v2/collections/" + url.PathEscape(s.Kind) + "/item?" +
		url.Values{"id": {s.ID}}.Encode())
	version := "-H 'If-None-Match: *'"
	if s.Before != nil {
		version = "-H \"If-Match: $(etag " + at + ")\""
	}
	if s.After == nil {
		return "send -X DELETE " + version + " " + at
	}
	return "send -X PUT " + version + " -H 'Content-Type: application/json' " + at + " --data-binary " +
		quoted(string(s.After))
}

// quoted is a word for a POSIX shell (IEEE Std 1003.1, Shell Command Language, 2.2.2).
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
