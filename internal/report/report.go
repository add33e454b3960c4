// Package report draws answers as pictures.
//
// A [Curve] is a line of choices and single points beside it on two axes, such as what drafts of
// several cautions would have broken and how much danger they would have taken away. It is
// written as SVG or PNG, the same bytes each time. Nothing is said by colour alone: the line is
// a line, the points have shapes, and each has its name.
package report

import (
	"cmp"
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strconv"
)

// Formats are what a curve can be written as.
var Formats = []string{"svg", "png"}

// A Point is a named point.
type Point struct {
	Name string
	X, Y float64
	Over bool // the name is written over the point, where the line goes on to its right
}

// A Curve is a line through points in their order, and points beside it.
type Curve struct {
	Title, X, Y string
	Line        []Point
	Beside      []Point
}

// The size of a picture, and of the room around what is drawn, in pixels.
const (
	width, height          = 1000.0, 640.0
	left, right, top, foot = 70.0, 20.0, 50.0, 60.0
	wide, high             = width - left - right, height - top - foot
)

var (
	paper = color.RGBA{0xff, 0xff, 0xff, 0xff}
	ink   = color.RGBA{0x22, 0x2a, 0x35, 0xff}
	ours  = color.RGBA{0x0b, 0x5c, 0x8a, 0xff}
	other = color.RGBA{0xa1, 0x4a, 0x1c, 0xff}
	faint = color.RGBA{0xd8, 0xdc, 0xe2, 0xff}
)

// canvas is what a picture is drawn on: pixels from its upper left corner.
type canvas interface {
	line(of color.RGBA, wide float64, points ...[2]float64)
	circle(of color.RGBA, x, y, radius float64)
	square(of color.RGBA, x, y, side float64)
	// text writes a line of so many pixels; anchor 0 puts its start at x, .5 its middle, 1 its end.
	text(of color.RGBA, size, x, y, anchor float64, turned bool, text string)
	write(w io.Writer) error
}

// Write draws the curve in one of [Formats].
func (c *Curve) Write(w io.Writer, format string) error {
	var to canvas
	switch format {
	case "svg":
		to = newSVG()
	case "png":
		p, err := newPNG()
		if err != nil {
			return err
		}
		to = p
	default:
		return fmt.Errorf("%q is none of %v", format, Formats)
	}
	c.draw(to)
	return to.write(w)
}

func (c *Curve) draw(to canvas) {
	lowX, highX, lowY, highY := c.bounds()
	x := func(v float64) float64 { return left + (v-lowX)/(highX-lowX)*wide }
	y := func(v float64) float64 { return height - foot - (v-lowY)/(highY-lowY)*high }
	for _, v := range ticks(0, highX, 1) {
		to.line(faint, 1, [2]float64{x(v), top}, [2]float64{x(v), height - foot})
		to.text(ink, 13, x(v), height-foot+20, .5, false, number(v))
	}
	for _, v := range ticks(lowY, highY, 0) {
		to.line(faint, 1, [2]float64{left, y(v)}, [2]float64{width - right, y(v)})
		to.text(ink, 13, left-8, y(v)+4, 1, false, number(v))
	}
	to.line(ink, 1, [2]float64{left, top}, [2]float64{left, height - foot}, [2]float64{width - right, height - foot})
	to.text(ink, 18, width/2, 30, .5, false, c.Title)
	to.text(ink, 14, (left+width-right)/2, height-14, .5, false, c.X)
	to.text(ink, 14, 20, (top+height-foot)/2, .5, true, c.Y)
	var line [][2]float64
	for _, q := range c.Line {
		line = append(line, [2]float64{x(q.X), y(q.Y)})
	}
	to.line(ours, 2.5, line...)
	drop := c.drops(highX-lowX, highY-lowY)
	for _, q := range c.Line {
		to.circle(ours, x(q.X), y(q.Y), 5)
		if q.Over {
			to.text(ours, letters, x(q.X), y(q.Y)-12, 0, false, q.Name)
			continue
		}
		to.text(ours, letters, x(q.X)+11, y(q.Y)+5+drop[q], 0, false, q.Name)
	}
	for _, q := range c.Beside {
		to.square(other, x(q.X), y(q.Y), 9)
		to.text(other, letters, x(q.X)+11, y(q.Y)+5+drop[q], 0, false, q.Name)
	}
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// letters is the size of a name, and row how much room it needs with the next below it.
const (
	letters = 13
	row     = letters + 3
)

// drops returns how far below its point each name is written, so that none lies over another.
func (c *Curve) drops(spanX, spanY float64) map[Point]float64 {
	type box struct{ left, right, top float64 }
	all := slices.Concat(c.Line, c.Beside)
	slices.SortStableFunc(all, func(a, b Point) int { return cmp.Compare(b.Y, a.Y) })
	out := map[Point]float64{}
	var taken []box
	for _, q := range all {
		x, y := q.X/spanX*wide, q.Y/spanY*high
		b := box{x, x + 20 + .55*letters*float64(len(q.Name)), y}
		for slices.ContainsFunc(taken, func(o box) bool {
			return b.left < o.right && o.left < b.right && math.Abs(o.top-b.top) < row
		}) {
			b.top--
		}
		taken = append(taken, b)
		out[q] = y - b.top
	}
	return out
}

// ticks returns round numbers between two, at most about ten of them, none closer than least.
func ticks(low, high, least float64) []float64 {
	step := max(least, math.Pow(10, math.Floor(math.Log10((high-low)/10))))
	for i := 0; (high-low)/step > 10; i++ {
		step *= []float64{2, 2.5, 2}[i%3]
	}
	var out []float64
	for n := math.Ceil(low / step); n*step <= high; n++ {
		out = append(out, math.Round(n*step*1e9)/1e9+0) // a zero without a sign
	}
	return out
}

// bounds are those of all points, with room for names on the right.
func (c *Curve) bounds() (left, right, low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, set := range [][]Point{c.Line, c.Beside} {
		for _, q := range set {
			right = max(right, q.X)
			low, high = min(low, q.Y), max(high, q.Y)
		}
	}
	if math.IsInf(low, 0) {
		low, high = 0, 1
	}
	room := max((high-low)*.12, 1e-3)
	right = max(right, 5)
	return -right * .03, right * 1.45, low - room, high + room
}
