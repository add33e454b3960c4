package yamlfile

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v3"
)

// An Edit is what becomes of an element of a list that stands under a key of a document's mapping: With, written as
// JSON, takes the place of the one of an index, or comes at the end for -1; nil takes it out.
type Edit struct {
	Key   string
	Index int
	With  json.RawMessage
}

// Replace makes one [Edit].
func Replace(data []byte, key string, index int, with json.RawMessage) ([]byte, error) {
	return ReplaceAll(data, []Edit{{key, index, with}})
}

// ReplaceAll makes several edits, with indexes of the document as it is, of different elements. In JSON, and where
// the list has a line or more for each element, every other byte stays as it is: comments, order, indentation.
// Elsewhere the document is written anew.
func ReplaceAll(data []byte, edits []Edit) ([]byte, error) {
	if isJSON(data) {
		return replaceInJSON(data, edits)
	}
	if out, ok := replaceLines(data, edits); ok {
		return out, nil
	}
	gone := map[string][]int{} // indexes
	for _, e := range edits {
		at := e.Index
		for _, i := range gone[e.Key] {
			if e.Index >= 0 && i < e.Index {
				at--
			}
		}
		out, ok := replaceLines(data, []Edit{{e.Key, at, e.With}})
		if !ok {
			var err error
			if out, err = replaceInYAML(data, e.Key, at, e.With); err != nil {
				return nil, err
			}
		}
		if data = out; e.Index >= 0 && e.With == nil {
			gone[e.Key] = append(gone[e.Key], e.Index)
		}
	}
	return data, nil
}

func isJSON(data []byte) bool {
	t := bytes.TrimLeft(data, " \t\r\n")
	return len(t) > 0 && t[0] == '{' && json.Valid(data)
}

// replaceLines makes edits of lists that have lines for each element, all at once: a document of some megabytes takes
// seconds to read. It does not where one by one something else than lines of elements would change.
func replaceLines(data []byte, edits []Edit) ([]byte, bool) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil || len(doc.Content) == 0 ||
		doc.Content[0].Kind != yaml.MappingNode {
		return nil, false
	}
	lines := linesOf(data)
	type change struct {
		from, to int // lines
		text     string
	}
	var changes []change
	lists, gone := map[string]*yaml.Node{}, map[string]int{}
	for root, i := doc.Content[0], 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Column == 1 {
			lists[root.Content[i].Value] = root.Content[i+1]
		}
	}
	for _, e := range edits {
		list := lists[e.Key]
		if list == nil || list.Kind != yaml.SequenceNode || list.Style&yaml.FlowStyle != 0 ||
			e.Index >= len(list.Content) || len(list.Content) == 0 {
			return nil, false
		}
		at := e.Index
		if at < 0 {
			at = len(list.Content) - 1
		}
		from, to, indent, ok := extent(lines, list, at)
		if !ok {
			return nil, false
		}
		c := change{from, to, ""}
		if e.With == nil {
			gone[e.Key]++
		} else if item, err := flow(e.With); err == nil {
			c.text = indent + "- " + item + "\n"
		} else {
			return nil, false
		}
		if e.Index < 0 {
			c.from = c.to
		}
		changes = append(changes, c)
	}
	for key, n := range gone {
		if n == len(lists[key].Content) { // a key without elements would be no list
			return nil, false
		}
	}
	slices.SortStableFunc(changes, func(a, b change) int { return cmp.Or(a.from-b.from, a.to-b.to) })
	var out strings.Builder
	next := 0
	for _, c := range changes {
		if c.from < next { // of the same element twice
			return nil, false
		}
		for _, l := range lines[next:c.from] {
			out.WriteString(l)
		}
		out.WriteString(c.text)
		next = c.to
	}
	for _, l := range lines[next:] {
		out.WriteString(l)
	}
	return []byte(out.String()), true
}

// linesOf returns the lines of a text, each with its end.
func linesOf(data []byte) []string {
	lines := strings.SplitAfter(string(data), "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	} else {
		lines[n-1] += "\n"
	}
	return lines
}

// replaceInYAML makes an edit for which it is not enough to put other lines in the place of those of an element.
func replaceInYAML(data []byte, key string, index int, with json.RawMessage) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, err
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, errors.New("the document is no mapping")
	}
	root := doc.Content[0]
	var list *yaml.Node
	at := -1
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == key {
			at, list = i, root.Content[i+1]
		}
	}
	if list == nil && index >= 0 || list != nil && list.Kind == yaml.SequenceNode && index >= len(list.Content) {
		return nil, fmt.Errorf("%s has no element %d", key, index)
	}
	var item string
	if with != nil {
		var err error
		if item, err = flow(with); err != nil {
			return nil, err
		}
	}
	lines := linesOf(data)
	switch {
	case list == nil: // the first of its kind
		return []byte(strings.Join(lines, "") + key + ":\n  - " + item + "\n"), nil
	case list.Kind != yaml.SequenceNode && list.Tag != "!!null" || root.Content[at].Column != 1:
		return nil, fmt.Errorf("%s is no list", key)
	case len(list.Content) == 0 && index < 0: // key: [] or nothing
		line := root.Content[at].Line - 1
		if rest, _, _ := strings.Cut(strings.TrimPrefix(lines[line], key+":"), "#"); strings.Trim(rest,
			" []\r\n") == "" {
			lines[line] = key + ":\n  - " + item + "\n"
			return []byte(strings.Join(lines, "")), nil
		}
	case with == nil && len(list.Content) == 1 && list.Style&yaml.FlowStyle == 0: // of none it would be no list
		if from, to, _, ok := extent(lines, list, 0); ok {
			lines[root.Content[at].Line-1] = key + ": []\n"
			return []byte(strings.Join(lines[:from], "") + strings.Join(lines[to:], "")), nil
		}
	}
	return rewritten(&doc, root, at, index, with)
}

// extent returns the lines of an element of a list in block style, and how far it is
// indented.
func extent(lines []string, list *yaml.Node, i int) (from, to int, indent string, ok bool) {
	from = list.Content[i].Line - 1
	for from > 0 && !strings.HasPrefix(strings.TrimLeft(lines[from], " "), "-") {
		from--
	}
	indent = lines[from][:len(lines[from])-len(strings.TrimLeft(lines[from], " "))]
	if len(indent)+1 != list.Column || !strings.HasPrefix(lines[from][len(indent):], "-") {
		return 0, 0, "", false
	}
	aside := func(l string) bool { t := strings.TrimSpace(l); return t == "" || t[0] == '#' }
	to = from + 1
	for to < len(lines) && (aside(lines[to]) || len(lines[to])-len(strings.TrimLeft(lines[to], " ")) > len(indent)) {
		to++
	}
	for to > from+1 && aside(lines[to-1]) { // what stands before the next is the next one's
		to--
	}
	return from, to, indent, true
}

// flow writes a JSON value as YAML on one line.
func flow(value json.RawMessage) (string, error) {
	var n yaml.Node
	if err := yaml.Unmarshal(value, &n); err != nil {
		return "", err
	}
	var plain func(*yaml.Node)
	plain = func(n *yaml.Node) { // quotes only where they are needed
		n.Style = 0
		if n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode {
			n.Style = yaml.FlowStyle
		}
		for _, c := range n.Content {
			plain(c)
		}
	}
	plain(&n)
	b, err := yaml.Marshal(&n)
	text := strings.TrimRight(string(b), "\n")
	if strings.Contains(text, "\n") { // the encoder breaks long lines; JSON is YAML too
		var one bytes.Buffer
		err = errors.Join(err, json.Compact(&one, value))
		text = one.String()
	}
	return text, err
}

// rewritten edits the tree and writes the document anew.
func rewritten(doc, root *yaml.Node, at, index int, with json.RawMessage) ([]byte, error) {
	list := root.Content[at+1]
	if list.Kind != yaml.SequenceNode {
		*list = yaml.Node{Kind: yaml.SequenceNode}
	}
	switch {
	case with == nil && index >= 0:
		list.Content = append(list.Content[:index], list.Content[index+1:]...)
	case with != nil:
		var n yaml.Node
		if err := yaml.Unmarshal(with, &n); err != nil {
			return nil, err
		}
		if index < 0 {
			list.Content = append(list.Content, n.Content[0])
		} else {
			list.Content[index] = n.Content[0]
		}
	}
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	err := errors.Join(enc.Encode(doc), enc.Close())
	return out.Bytes(), err
}

// replaceInJSON finds the elements by their bytes.
func replaceInJSON(data []byte, edits []Edit) ([]byte, error) {
	of, keys := map[string][]Edit{}, []string{}
	for _, e := range edits {
		if of[e.Key] == nil {
			keys = append(keys, e.Key)
		}
		of[e.Key] = append(of[e.Key], e)
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	if _, err := dec.Token(); err != nil { // {
		return nil, err
	}
	end := func() int { return int(dec.InputOffset()) }
	var out []byte
	next := 0 // what of data is not in out yet
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return nil, err
		}
		key, _ := name.(string)
		if of[key] == nil {
			var skip json.RawMessage
			if err := dec.Decode(&skip); err != nil {
				return nil, err
			}
			continue
		}
		if t, err := dec.Token(); err != nil || t != json.Delim('[') {
			return nil, errors.Join(err, fmt.Errorf("%s is no list", key))
		}
		open := end()
		var from, to []int // of each element
		for dec.More() {
			var v json.RawMessage
			if err := dec.Decode(&v); err != nil {
				return nil, err
			}
			from, to = append(from, end()-len(v)), append(to, end())
		}
		list, err := replacedInList(data, key, open, from, to, of[key])
		if err != nil {
			return nil, err
		}
		if out = append(out, data[next:open]...); len(from) > 0 {
			open = to[len(to)-1]
		}
		out, next = append(out, list...), open
		delete(of, key)
		if _, err := dec.Token(); err != nil { // ]
			return nil, err
		}
	}
	closing := bytes.LastIndexByte(data, '}')
	at := next + len(bytes.TrimRight(data[next:closing], " \t\r\n"))
	out = append(out, data[next:at]...)
	for _, key := range keys { // the first of their kind
		if of[key] == nil {
			continue
		}
		var items []string
		for _, e := range of[key] {
			if e.Index >= 0 {
				return nil, fmt.Errorf("%s has no element %d", key, e.Index)
			}
			items = append(items, string(e.With))
		}
		comma := ","
		if t := bytes.TrimRight(out, " \t\r\n"); len(t) > 0 && t[len(t)-1] == '{' {
			comma = ""
		}
		out = fmt.Appendf(out, "%s\n  %q: [%s]", comma, key, strings.Join(items, ",\n"))
	}
	return append(out, data[at:]...), nil
}

// replacedInList returns the text of a list, from behind its bracket to the end of its last element, after some edits.
// What is gone takes the gap behind it along, the last one that before it; what comes is spaced as the last one.
func replacedInList(data []byte, key string, open int, from, to []int, edits []Edit) ([]byte, error) {
	n, with := len(from), map[int]json.RawMessage{}
	gap := ",\n"
	if n > 1 {
		gap = string(data[to[n-2]:from[n-1]])
	}
	var more []json.RawMessage
	for _, e := range edits {
		if e.Index >= n {
			return nil, fmt.Errorf("%s has no element %d", key, e.Index)
		}
		if e.Index < 0 {
			more = append(more, e.With)
		} else {
			with[e.Index] = e.With
		}
	}
	var out []byte
	lead, first := open, true // where the gap before the next element begins
	var between []byte        // and that of the first one of those that are gone
	for i := range n {
		is, changed := with[i]
		if between == nil {
			between = data[lead:from[i]]
		}
		if lead = to[i]; changed && is == nil {
			continue
		}
		if out = append(out, between...); !changed {
			is = json.RawMessage(data[from[i]:to[i]])
		}
		out, between, first = append(out, is...), nil, false
	}
	for _, is := range more {
		switch {
		case first && between != nil:
			out = append(out, between...)
		case !first:
			out = append(out, gap...)
		}
		out, first = append(out, is...), false
	}
	if first && between != nil { // nothing is left
		out = append(out, between...)
	}
	return out, nil
}
