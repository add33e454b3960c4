// Package fencefile writes and reads fence files, and reads gate files.
//
// A fence file is made to be read in a review: each line of allow carries its
// evidence as a comment. What it means is package draft's; here is only its text.
package fencefile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/yamlfile"
)

// Suffix ends the name of every fence file, GateSuffix of every gate file.
const (
	Suffix     = ".fence.yaml"
	GateSuffix = ".gate.yaml"
)

// plainText is what YAML takes for text without quotes, also inside [ ].
var plainText = regexp.MustCompile(`^[a-zA-Z/][a-zA-Z0-9/_.:@~*-]*$`)

// Scalar writes a text as YAML, so that it is read back as it is, also inside [ ] and { }.
func Scalar(s string) string {
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
	default:
		if plainText.MatchString(s) && !strings.HasSuffix(s, ":") {
			return s
		}
	}
	b, _ := json.Marshal(s) // a string: cannot fail; and JSON is YAML
	return string(b)
}

func list[T any](xs []T, text func(T) string) string {
	out := make([]string, len(xs))
	for i, x := range xs {
		out[i] = Scalar(text(x))
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// condition writes a condition on one line, without the quotes of JSON where none are needed.
func condition(c model.Condition) string {
	b, _ := json.Marshal(c) // plain fields: cannot fail
	var out strings.Builder
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.UseNumber()
	flow(&out, dec)
	return out.String()
}

// flow writes the next value of some JSON as YAML, in the order of its fields.
func flow(out *strings.Builder, dec *json.Decoder) {
	token, _ := dec.Token() // what Marshal wrote
	open, _ := token.(json.Delim)
	switch {
	case open == '{':
		out.WriteByte('{')
		for i := 0; dec.More(); i++ {
			if i > 0 {
				out.WriteString(", ")
			}
			key, _ := dec.Token()
			fmt.Fprint(out, Scalar(fmt.Sprint(key)), ": ")
			flow(out, dec)
		}
		_, _ = dec.Token()
		out.WriteByte('}')
	case open == '[':
		out.WriteByte('[')
		for i := 0; dec.More(); i++ {
			if i > 0 {
				out.WriteString(", ")
			}
			flow(out, dec)
		}
		_, _ = dec.Token()
		out.WriteByte(']')
	default:
		if s, ok := token.(string); ok {
			out.WriteString(Scalar(s))
		} else {
			fmt.Fprint(out, token)
		}
	}
}

func str[T fmt.Stringer](x T) string { return x.String() }

// Evidence says for the head of a fence file what share of what is granted the evidence is
// complete for.
func Evidence(share float64) string {
	return fmt.Sprintf("evidence complete for %s of what is granted", render.Percent(share))
}

// Write returns the text of a fence. coverage is told beside the window; it may
// be empty.
func Write(f *fence.Fence, coverage string) []byte {
	var b strings.Builder
	line := func(text, comment string) {
		b.WriteString(text)
		if comment != "" {
			pad := max(1, 34-len(text)+strings.LastIndexByte(text, '\n')+1)
			b.WriteString(strings.Repeat(" ", pad) + "# " + render.Clean(comment))
		}
		b.WriteString("\n")
	}
	line(fmt.Sprintf("fence: %d", fence.FormatVersion), "")
	line("for: "+Scalar(f.For.String()), "")
	line("drafted: "+f.Drafted.UTC().Format(time.RFC3339), "")
	window := f.Window
	if _, err := model.ParseDuration(window); err != nil {
		window = Scalar(window)
	}
	line("window: "+window, coverage)
	if f.Survey > 0 {
		line(fmt.Sprintf("survey: %d", f.Survey), "")
	}
	if f.Widens != "" {
		line("widens: "+Scalar(f.Widens), "it gives more than what it replaces")
	}
	if len(f.Replaces) > 0 {
		line("replaces: "+list(f.Replaces, func(s string) string { return s }), "")
	}
	if len(f.Leaves) > 0 {
		line("leaves: "+list(f.Leaves, str), "")
	}
	if len(f.Allow) == 0 {
		line("allow: []", "nothing stands in its place")
	} else {
		line("allow:", "")
	}
	for _, a := range f.Allow {
		say := evidence(a.Evidence)
		if a.Role != "" {
			line("  - role: "+Scalar(a.Role), say)
		} else {
			line("  - do: "+list(a.Do, str), say)
		}
		if a.As != "" {
			line("    as: "+Scalar(a.As), "a role that other lines share")
		}
		if !a.To.IsZero() {
			line("    to: "+Scalar(a.To.String()), "this member alone, not the whole group")
		}
		line("    where: "+list(a.Where, str), "")
		if !a.When.IsZero() {
			met := ""
			if e := a.Evidence; e.Met > 0 {
				met = fmt.Sprintf("so were all %s on %s: a guess about the next", render.Plural(int(e.Met), "call"),
					render.Plural(e.MetDays, "day"))
			}
			line("    when: "+condition(a.When), met)
		}
		if !a.Until.IsZero() {
			why := ""
			switch {
			case !a.Evidence.Ends:
			case a.Evidence.Class == "rare":
				why = "its habit would be over then; when it is used before, put it off (clipfence draft --from ends)"
			default:
				why = "so far the guess goes; when it is used before, put it off (clipfence draft --from ends)"
			}
			line("    until: "+a.Until.UTC().Format(time.RFC3339), why)
		}
	}
	if len(f.Denies) > 0 {
		line("denies:", "whatever grants give, now or later")
	}
	for _, d := range f.Denies {
		line("  - do: "+list(d.Do, str), "")
		line("    where: "+list(d.Where, str), "")
		if len(d.Unless) > 0 {
			line("    unless: "+list(d.Unless, str), "")
		}
	}
	if len(f.Asks) > 0 {
		line("asks:", "to be asked for when it is needed; the gate must be there")
	}
	for _, a := range f.Asks {
		often := ""
		if a.Expected > 0 {
			often = fmt.Sprintf("about %.1f times in 90 days: a guess", a.Expected)
		}
		line("  - do: "+list(a.Do, str), often)
		line("    where: "+list(a.Where, str), "")
		if !a.When.IsZero() {
			line("    when: "+condition(a.When), "")
		}
		if a.Expected > 0 {
			line("    expected: "+strconv.FormatFloat(a.Expected, 'g', 3, 64), "")
		}
	}
	if len(f.GivesUp) > 0 {
		line("gives_up:", render.Plural(len(f.GivenUp()), "permission")+", most dangerous first")
		for _, g := range f.GivesUp {
			line("  - where: "+list(g.Where, str), "")
			if !g.From.IsZero() {
				line("    from: "+g.From.UTC().Format(time.RFC3339), "until then a line still gives it")
			}
			if g.Unseen {
				line("    unseen: true", "no log shows whether it is used there: decide whether it goes")
			}
			line("    do:", "")
			for _, p := range g.Do {
				line("      - "+Scalar(p.String()), "")
			}
		}
	}
	if p := f.Proven; !p.IsZero() {
		line("proven:", "apply refuses when any of this got worse; without it, it does not ask")
		if !p.Until.IsZero() {
			line("  until: "+p.Until.UTC().Format(time.RFC3339Nano), "the last call that was known")
		}
		if p.Expects != nil {
			line("  expects: "+strconv.FormatFloat(*p.Expects, 'g', -1, 64),
				"a call of so many identities is expected to be refused within 90 days: a guess")
		}
		if len(p.Rights) > 0 {
			line("  rights:", "as they are now")
		}
		for _, r := range p.Rights {
			kind, name := "grant: ", r.Grant
			if r.Role != "" {
				kind, name = "role: ", r.Role
			}
			line("    - {"+kind+Scalar(name)+", digest: "+Scalar(r.Digest)+"}", "")
		}
		if r := p.Refuses; r.Lines != "" {
			line("  refuses:", "as it is now: what is granted from now on was not looked at")
			line("    lines: "+Scalar(r.Lines), "")
			line("    grants: "+list(r.Grants, func(s string) string { return s }), "")
		}
	}
	return []byte(b.String())
}

func evidence(e fence.Evidence) string {
	chance := max(1, 100*e.Chance)
	if e.Class == "past" && e.Count == 0 {
		e.Class = "likely"
	}
	short := ""
	if e.Short {
		short = "; as wide as this so that the fence stays short"
	}
	switch e.Class {
	case "likely":
		return fmt.Sprintf("kept: a guess, it was not used here: %.0f %% that it is needed within 90 days", chance) +
			short
	case "past":
		return fmt.Sprintf("kept: a guess: %s on %s, last %s, its habit is over; %.0f %% that it comes back within "+
			"90 days", render.Plural(int(e.Count), "call"), render.Plural(e.Days, "day"),
			e.Last.UTC().Format(time.DateOnly), chance)
	case "used", "rare":
		s := fmt.Sprintf("%s on %s, last %s", render.Plural(int(e.Count), "call"), render.Plural(e.Days, "day"),
			e.Last.UTC().Format(time.DateOnly))
		if e.AtLeast {
			s = "at least " + s
		}
		switch {
		case e.Class == "rare":
			s += ": outside the window, but its habit is not over"
		case e.Earlier:
			s += ": before the window; it was used elsewhere since"
		}
		if e.Chance > 0 {
			s += fmt.Sprintf("; on %s, the others are a guess: %.0f %% that one is needed within 90 days",
				render.Plural(e.Places, "place"), chance)
		}
		return s + short
	case "unobservable":
		return "kept: no log would have shown its use here"
	case "refused":
		return fmt.Sprintf("refused so far: %s on %s, last %s", render.Plural(int(e.Count), "call"),
			render.Plural(e.Days, "day"), e.Last.UTC().Format(time.DateOnly))
	case "last":
		return "kept: nobody else could hand out rights here"
	case "decided":
		return "kept: a review said that it is needed"
	case "asked":
		return "for a call that is not in the logs"
	case "task", "needs", "mined":
		return e.For
	case "undecidable":
		return "kept: a call that could not be placed may have used it (clipfence uses --unplaced)"
	}
	return ""
}

// Read reads a fence file; name is for messages.
func Read(name string, data []byte) (*fence.Fence, error) {
	f := &fence.Fence{}
	if err := yamlfile.Decode(name, data, f); err != nil {
		return nil, err
	}
	if err := yamlfile.Version(name, "fence", f.Version, fence.FormatVersion, &f.Remarks); err != nil {
		return nil, err
	}
	if f.For.IsZero() || f.For.Source == "" {
		return nil, fmt.Errorf("%s: for: want source:kind/name, such as mooring:workload/ticket-export", name)
	}
	sum := sha256.Sum256(data)
	f.Digest = hex.EncodeToString(sum[:])
	return f, nil
}

// WriteGate returns the text of a gate file; why is told at its head.
func WriteGate(p *gate.Policy, why string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n# Drafted; it opens nothing until it lies in gates/ and a trustee signed it.\ngate: 2\n",
		render.Clean(why))
	fmt.Fprintf(&b, "name: %s\nsource: %s\nopens:\n", Scalar(p.Name), Scalar(p.Source))
	if p.Opens.Role != "" {
		fmt.Fprintf(&b, "  role: %s\n", Scalar(p.Opens.Role))
	} else {
		fmt.Fprintf(&b, "  do: %s\n", list(p.Opens.Do, str))
	}
	fmt.Fprintf(&b, "  where: %s\nmay_ask: %s\nlongest: %s\n", list(p.Opens.Where, str), list(p.MayAsk, str),
		p.Longest)
	if len(p.Approvers) > 0 {
		fmt.Fprintf(&b, "approvers: %s\n", list(p.Approvers, str))
	}
	if !p.Controls.IsZero() {
		c, _ := json.Marshal(p.Controls) // plain fields: cannot fail
		fmt.Fprintf(&b, "controls: %s\n", c)
	}
	return []byte(b.String())
}

// ReadGate reads a gate file; name is for messages.
func ReadGate(name string, data []byte) (*gate.Policy, error) {
	p := &gate.Policy{}
	if err := yamlfile.Decode(name, data, p); err != nil {
		return nil, err
	}
	if err := yamlfile.Version(name, "gate", p.Version, 2, &p.Remarks); err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	p.Digest = hex.EncodeToString(sum[:])
	return p, p.Validate()
}
