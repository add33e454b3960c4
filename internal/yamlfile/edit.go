package yamlfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	yaml "go.yaml.in/yaml/v3"
)

// Replace puts another element, written as JSON, into the place of one of a list that stands
// under a key of the document's mapping; index -1 adds one at the end, nil takes the element
// out. In JSON, and where the list has a line or more for each element, every other byte
// stays as it is: comments, order, indentation. Elsewhere the document is written anew.
func Replace(data []byte, key string, index int, with json.RawMessage) ([]byte, error) {
	if t := bytes.TrimLeft(data, " \t\r\n"); len(t) > 0 && t[0] == '{' && json.Valid(data) {
		return replaceInJSON(data, key, index, with)
	}
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
	lines := strings.SplitAfter(string(data), "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	} else {
		lines[n-1] += "\n"
	}
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
		return rewritten(&doc, root, at, index, with)
	case list.Style&yaml.FlowStyle != 0:
		return rewritten(&doc, root, at, index, with)
	}
	one := index
	if index < 0 {
		one = len(list.Content) - 1
	}
	from, to, indent, ok := extent(lines, list, one)
	if !ok {
		return rewritten(&doc, root, at, index, with)
	}
	fresh := indent + "- " + item + "\n"
	switch {
	case index < 0:
		from = to
	case with == nil && len(list.Content) == 1: // a key without elements would be no list
		fresh = ""
		lines[root.Content[at].Line-1] = key + ": []\n"
	case with == nil:
		fresh = ""
	}
	return []byte(strings.Join(lines[:from], "") + fresh + strings.Join(lines[to:], "")), nil
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

// replaceInJSON finds the element by its bytes.
func replaceInJSON(data []byte, key string, index int, with json.RawMessage) ([]byte, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	if _, err := dec.Token(); err != nil { // {
		return nil, err
	}
	end := func() int { return int(dec.InputOffset()) }
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return nil, err
		}
		if name != key {
			var skip json.RawMessage
			if err := dec.Decode(&skip); err != nil {
				return nil, err
			}
			continue
		}
		if t, err := dec.Token(); err != nil || t != json.Delim('[') {
			return nil, errors.Join(err, fmt.Errorf("%s is no list", key))
		}
		var from, to []int // of each element
		for dec.More() {
			var v json.RawMessage
			if err := dec.Decode(&v); err != nil {
				return nil, err
			}
			from, to = append(from, end()-len(v)), append(to, end())
		}
		n := len(from)
		open := end()
		if n > 0 {
			open = to[n-1]
		}
		switch {
		case index >= n:
			return nil, fmt.Errorf("%s has no element %d", key, index)
		case index < 0 && n == 0:
			return splice(data, open, open, string(with)), nil
		case index < 0: // spaced as the one before it
			gap := ",\n"
			if n > 1 {
				gap = string(data[to[n-2]:from[n-1]])
			}
			return splice(data, open, open, gap+string(with)), nil
		case with != nil:
			return splice(data, from[index], to[index], string(with)), nil
		case n == 1:
			return splice(data, from[0], to[0], ""), nil
		case index == n-1:
			return splice(data, to[index-1], to[index], ""), nil
		}
		return splice(data, from[index], from[index+1], ""), nil
	}
	if index >= 0 {
		return nil, fmt.Errorf("%s has no element %d", key, index)
	}
	open := bytes.LastIndexByte(data, '}')
	at := len(bytes.TrimRight(data[:open], " \t\r\n"))
	comma := ","
	if at > 0 && data[at-1] == '{' {
		comma = ""
	}
	return splice(data, at, at, fmt.Sprintf("%s\n  %q: [%s]", comma, key, with)), nil
}

func splice(data []byte, from, to int, with string) []byte {
	return append(append(bytes.Clone(data[:from]), with...), data[to:]...)
}
