package index

import "maps"

// layered is a map that a view goes on with where another one ends: it shares what that one knows and
// writes beside it. Layers are few, since each has at least twice as much as the one above it
// ([layered.settle]), so that a chain of n views costs n log n and not n² (O'Neil et al., The log-structured
// merge-tree, Acta Informatica 33, 1996). The zero layered is empty, and not to be written to.
type layered[K comparable, V any] []map[K]V

// fork makes of a map that is shared one to write to. The one that it was is not written to any more.
func (l *layered[K, V]) fork() { *l = append((*l)[:len(*l):len(*l)], map[K]V{}) }

func (l layered[K, V]) get(k K) (v V, ok bool) {
	for i := len(l) - 1; i >= 0; i-- {
		if v, ok = l[i][k]; ok {
			return v, true
		}
	}
	return v, false
}

// at returns what is under a key, or the zero value.
func (l layered[K, V]) at(k K) V {
	v, _ := l.get(k)
	return v
}

func (l layered[K, V]) put(k K, v V) { l[len(l)-1][k] = v }

// settle joins what was written with what is not much more, once nothing more is written.
func (l *layered[K, V]) settle() {
	s := *l
	top := len(s) - 1
	size, from := len(s[top]), top
	if size == 0 {
		*l = s[:top:top]
		return
	}
	for from > 0 && 2*size >= len(s[from-1]) {
		from--
		size += len(s[from])
	}
	if from == top {
		return
	}
	joined := make(map[K]V, size)
	for _, m := range s[from:] {
		maps.Copy(joined, m)
	}
	*l = append(s[:from:from], joined)
}
