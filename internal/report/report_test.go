package report

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"strings"
	"testing"
)

var curve = Curve{Title: "Drafts <b> & co", X: "x", Y: "y",
	Line: []Point{{Name: "bold", X: 4, Y: 93}, {Name: "normal", X: 2, Y: 91}, {Name: "careful", X: 1, Y: 88}},
	Beside: []Point{{Name: "one </text><script>", X: 2, Y: 91}, {Name: "another", X: 2, Y: 91},
		{Name: "hindsight", X: 0, Y: 100}}}

// TestWrite: a picture is one, is the same each time, and names are no markup.
func TestWrite(t *testing.T) {
	for _, format := range Formats {
		var a, b bytes.Buffer
		if err := curve.Write(&a, format); err != nil {
			t.Fatal(err)
		}
		if err := curve.Write(&b, format); err != nil || !bytes.Equal(a.Bytes(), b.Bytes()) {
			t.Errorf("%s: the second is another: %v", format, err)
		}
		switch format {
		case "png":
			m, err := png.Decode(&a)
			if err != nil || m.Bounds().Dx() < 900 || m.Bounds().Dy() < 500 {
				t.Errorf("%v, %v", m, err)
			}
		case "svg":
			text := a.String()
			if strings.Contains(text, "<script") {
				t.Error("a name became markup")
			}
			for d := xml.NewDecoder(&a); ; {
				if _, err := d.Token(); err == io.EOF {
					break
				} else if err != nil {
					t.Fatal(err)
				}
			}
			for _, name := range []string{"bold", "careful", "hindsight", "another"} {
				if !strings.Contains(text, name) {
					t.Errorf("no %s", name)
				}
			}
		}
	}
	if err := curve.Write(io.Discard, "gif"); err == nil {
		t.Error("a gif")
	}
}

// TestDrops: no name is written over another.
func TestDrops(t *testing.T) {
	drop := curve.drops(6, 20)
	at := func(i int) float64 {
		q := append(append([]Point{}, curve.Line...), curve.Beside...)[i]
		return q.Y/20*high - drop[q]
	}
	for _, pair := range [][2]int{{1, 3}, {1, 4}, {3, 4}} { // three on one point
		if d := at(pair[0]) - at(pair[1]); d > -row && d < row {
			t.Errorf("%v are %f apart", pair, d)
		}
	}
}

// TestTicks: an axis has a few round numbers, and one of things that are counted whole ones.
func TestTicks(t *testing.T) {
	for _, high := range []float64{1, 5, 7, 23, 180, 4_000} {
		all := ticks(0, high, 1)
		if len(all) < 2 || len(all) > 12 {
			t.Errorf("up to %g: %d ticks", high, len(all))
		}
		for _, v := range all {
			if v != float64(int(v)) || v > high {
				t.Errorf("up to %g: %g", high, v)
			}
		}
	}
	for _, low := range []float64{-5, 81.5, 97.9, 99.99} {
		all := ticks(low, 101, 0)
		if len(all) < 3 || len(all) > 12 || all[0] < low || all[len(all)-1] > 101 {
			t.Errorf("from %g: %v", low, all)
		}
		for _, v := range all {
			if number(v) == "-0" {
				t.Errorf("from %g there is a zero with a sign", low)
			}
		}
	}
}
