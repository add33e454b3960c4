package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// differences says in words where two documents differ, one place each, such as
// "logs[service=store log_class=read].on: false -> true".
func differences(before, after json.RawMessage) []string {
	var a, b any
	if json.Unmarshal(before, &a) != nil || json.Unmarshal(after, &b) != nil {
		return nil
	}
	var out []string
	differ("", a, b, &out)
	return out
}

func differ(at string, a, b any, out *[]string) {
	x, y := text(a), text(b)
	if x == y {
		return
	}
	am, aok := a.(map[string]any)
	bm, bok := b.(map[string]any)
	if aok && bok {
		keys := maps.Clone(am)
		maps.Copy(keys, bm)
		for _, k := range slices.Sorted(maps.Keys(keys)) {
			differ(strings.TrimPrefix(at+"."+k, "."), am[k], bm[k], out)
		}
		return
	}
	al, aok := a.([]any)
	bl, bok := b.([]any)
	if aok && bok && len(al) == len(bl) {
		for i := range al {
			differ(fmt.Sprintf("%s[%s]", at, which(i, al[i], bl[i])), al[i], bl[i], out)
		}
		return
	}
	*out = append(*out, fmt.Sprintf("%s: %s -> %s", at, x, y))
}

// which names an element of a list by the texts that it keeps, or its number.
func which(i int, a, b any) string {
	am, _ := a.(map[string]any)
	bm, _ := b.(map[string]any)
	var same []string
	for _, k := range slices.Sorted(maps.Keys(am)) {
		if s, ok := am[k].(string); ok && bm[k] == s {
			same = append(same, k+"="+s)
		}
	}
	if len(same) == 0 {
		return fmt.Sprint(i)
	}
	return strings.Join(same, " ")
}

func text(v any) string {
	if v == nil {
		return "nothing"
	}
	b, err := json.Marshal(v)
	if err != nil {
		return "?"
	}
	return string(b)
}
