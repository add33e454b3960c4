package check

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Names
//
// A path or permission is taken as the text that people write (docs/estate-file.md). A path is
// cut at each '/', a permission into service, noun and verb; in a part of a path a ':' ends a
// kind, and %XX stands for a byte. A '*' is any run of bytes of one part, and a last part '**' of
// a path any number of parts.

// pattern is a pattern, cut into its parts.
type pattern struct {
	parts []string
	deep  bool
}

// spell cuts patterns.
func spell[T fmt.Stringer](list []T, cut func(string) []string) []pattern {
	out := make([]pattern, len(list))
	for i, v := range list {
		out[i] = pattern{parts: cut(v.String())}
		if n := len(out[i].parts) - 1; n >= 0 && out[i].parts[n] == "**" {
			out[i] = pattern{out[i].parts[:n], true}
		}
	}
	return out
}

// path cuts a path.
func path(text string) []string {
	text = strings.TrimPrefix(text, "/")
	if text == "" {
		return nil
	}
	return strings.Split(text, "/")
}

// permission cuts a permission: the first '/' ends its service, the last ':' its noun.
func permission(text string) []string {
	service, rest, _ := strings.Cut(text, "/")
	i := max(0, strings.LastIndexByte(rest, ':'))
	return []string{service, rest[:i], rest[i:]}
}

func some(of []pattern, parts []string) bool {
	return slices.ContainsFunc(of, func(p pattern) bool { return p.matches(parts) })
}

// matches reports whether it matches a name without stars.
func (p pattern) matches(name []string) bool {
	if len(name) < len(p.parts) || len(name) > len(p.parts) && !p.deep {
		return false
	}
	for i, part := range p.parts {
		if part != name[i] && !(strings.Contains(part, "*") && like(tokens(part), tokens(name[i]))) {
			return false
		}
	}
	return true
}

// A part is bytes, and beyond them what stands for a star and for the ':' that ends a kind.
const (
	star  = 256
	colon = 257
)

// tokens reads a part.
func tokens(part string) []int {
	var out []int
	for i := 0; i < len(part); i++ {
		switch c := part[i]; {
		case c == '*':
			out = append(out, star)
		case c == ':' && !slices.Contains(out, colon):
			out = append(out, colon)
		case c == '%' && i+2 < len(part):
			text, err := url.PathUnescape(part[i : i+3]) // one byte, where it is one
			if err != nil {
				out = append(out, int(c))
				continue
			}
			out = append(out, int(text[0]))
			i += 2
		default:
			out = append(out, int(c))
		}
	}
	return out
}

// like reports whether a pattern matches a name: a star takes as little as it can, and the last
// one more wherever it does not go on.
func like(p, name []int) bool {
	i, j, last, from := 0, 0, -1, 0
	for j < len(name) {
		switch {
		case i < len(p) && p[i] == star:
			last, from, i = i, j, i+1
		case i < len(p) && p[i] == name[j]:
			i, j = i+1, j+1
		case last >= 0:
			from++
			i, j = last+1, from
		default:
			return false
		}
	}
	for i < len(p) && p[i] == star {
		i++
	}
	return i == len(p)
}

// mostExamples bounds how many examples are made of one pattern.
const mostExamples = 256

// made is a name that nobody has.
const made = "zq7x"

// examples returns names that a pattern matches: for each star one that nobody has, and what
// other patterns have in its place; below a '**' as well, as far down as those go and beyond.
func (p pattern) examples(others []pattern) [][]string {
	out := [][]string{nil}
	add := func(choices []string) {
		var next [][]string
		for _, e := range out {
			for _, c := range choices {
				if len(next) < mostExamples {
					next = append(next, append(slices.Clone(e), c))
				}
			}
		}
		out = next
	}
	at := func(i int, part string) []string { // what others have as part i, as far as it fits
		var list []string
		for _, o := range others {
			if i < len(o.parts) {
				one := strings.ReplaceAll(o.parts[i], "*", made)
				if part == "" || like(tokens(part), tokens(one)) {
					list = append(list, one)
				}
			}
		}
		slices.Sort(list)
		return slices.Compact(list)
	}
	for i, part := range p.parts {
		if !strings.Contains(part, "*") {
			add([]string{part})
			continue
		}
		add(append([]string{strings.ReplaceAll(part, "*", made)}, at(i, part)...))
	}
	if !p.deep {
		return out
	}
	var all [][]string
	most := len(p.parts) + 1
	for _, o := range others {
		most = max(most, len(o.parts)+1)
	}
	for i := len(p.parts); ; i++ {
		if len(p.parts) > 0 || i > 0 {
			all = append(all, out...)
		}
		if i >= most || len(all) >= mostExamples {
			return all
		}
		add(append([]string{made, made + ":" + made}, at(i, "")...))
	}
}
