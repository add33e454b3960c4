package index

import (
	"encoding/binary"
	"slices"
)

// paged is a list of which views change a few values or add some at its end. A view has the pages of the one
// before, but for those that it writes to, which it copies: so one of three hundred thousand values costs a list
// of pages, and thousands of drafts that stand on each other as many of those and no column each (a persistent
// array: a tree of two levels, of which the way to what changes is copied; Driscoll et al., Making data structures
// persistent, JCSS 38, 1989). The zero paged is empty, and not to be written to.
type paged[T any] struct {
	pages [][]T
	own   []bool // which pages are no other's
	bits  int    // a page has 1<<bits values
	n     int
}

const (
	fewBits  = 8  // of a page of values of the model
	byteBits = 12 // and of one of bytes: 4 KB
)

// edit makes one to write to. What it was before is not written to any more.
func (p *paged[T]) edit() {
	if p.bits == 0 {
		p.bits = fewBits
	}
	p.pages, p.own = slices.Clone(p.pages), make([]bool, len(p.pages))
}

func (p *paged[T]) len() int { return p.n }

func (p *paged[T]) at(i int) T { return p.pages[i>>p.bits][i&(1<<p.bits-1)] }

// take makes a page one that is no other's.
func (p *paged[T]) take(n int) {
	if !p.own[n] {
		p.pages[n], p.own[n] = slices.Clone(p.pages[n]), true
	}
}

// page returns a value, and what follows it on its page, to write to.
func (p *paged[T]) page(i int) []T {
	n := i >> p.bits
	p.take(n)
	return p.pages[n][i&(1<<p.bits-1):]
}

// push adds values at the end, all on one page.
func (p *paged[T]) push(v ...T) {
	n := p.n >> p.bits
	if n == len(p.pages) {
		p.pages, p.own = append(p.pages, nil), append(p.own, true)
	}
	p.take(n)
	p.pages[n] = append(p.pages[n], v...)
	p.n += len(v)
}

// editBytes makes a view of bytes one to write to, which is of a column where it is none yet.
func editBytes(view *paged[byte], flat []byte) {
	if view.pages == nil {
		pages := slices.AppendSeq([][]byte{}, slices.Chunk(flat, 1<<byteBits))
		*view = paged[byte]{pages: pages, bits: byteBits, n: len(flat)}
	}
	view.edit()
}

// bytesOf returns how many bytes a view has, or the column where it is none.
func bytesOf(view *paged[byte], flat []byte) int {
	if view.pages == nil {
		return len(flat)
	}
	return view.n
}

// numbers is a column of 32-bit numbers that views may edit.
type numbers struct {
	flat ints        // of the estate
	view paged[byte] // of a view; no pages: of none
}

func (c *numbers) edit()    { editBytes(&c.view, c.flat) }
func (c *numbers) len() int { return bytesOf(&c.view, c.flat) / 4 }

func (c *numbers) at(i int) uint32 {
	if c.view.pages == nil {
		return c.flat.at(i)
	}
	return c.edited(i)
}

func (c *numbers) edited(i int) uint32 {
	page := c.view.pages[i>>(byteBits-2)]
	return binary.LittleEndian.Uint32(page[4*i&(1<<byteBits-1):])
}

func (c *numbers) put(i int, v uint32) { binary.LittleEndian.PutUint32(c.view.page(4*i), v) }
func (c *numbers) push(v uint32) {
	c.view.push(byte(v), byte(v>>8), byte(v>>16), byte(v>>24))
}

// marks is a column of bytes that views may edit.
type marks struct {
	flat []byte      // of the estate
	view paged[byte] // of a view; no pages: of none
}

func (c *marks) edit()    { editBytes(&c.view, c.flat) }
func (c *marks) len() int { return bytesOf(&c.view, c.flat) }

func (c *marks) at(i int) byte {
	if c.view.pages == nil {
		return c.flat[i]
	}
	return c.view.at(i)
}

func (c *marks) put(i int, v byte) { c.view.page(i)[0] = v }
func (c *marks) push(v byte)       { c.view.push(v) }
