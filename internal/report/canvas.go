package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/color"
	"io"
	"strings"

	"git.sr.ht/~sbinet/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
)

// svg is a picture as SVG 1.1 (W3C Recommendation, 2011).
type svg struct{ bytes.Buffer }

func newSVG() *svg {
	s := &svg{}
	fmt.Fprintf(s, `<?xml version="1.0" encoding="UTF-8"?>
<svg xmlns="http://www.w3.org/2000/svg" width="%g" height="%g" viewBox="0 0 %g %g" font-family="sans-serif">
<rect width="100%%" height="100%%" fill="%s"/>
`, width, height, width, height, hex(paper))
	return s
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func (s *svg) line(of color.RGBA, wide float64, points ...[2]float64) {
	var at []string
	for _, p := range points {
		at = append(at, fmt.Sprintf("%.1f,%.1f", p[0], p[1]))
	}
	fmt.Fprintf(s, `<polyline fill="none" stroke="%s" stroke-width="%g" points="%s"/>`+"\n", hex(of), wide,
		strings.Join(at, " "))
}

func (s *svg) circle(of color.RGBA, x, y, radius float64) {
	fmt.Fprintf(s, `<circle cx="%.1f" cy="%.1f" r="%g" fill="%s"/>`+"\n", x, y, radius, hex(of))
}

func (s *svg) square(of color.RGBA, x, y, side float64) {
	fmt.Fprintf(s, `<rect x="%.1f" y="%.1f" width="%g" height="%g" fill="none" stroke="%s" stroke-width="1.5"/>`+"\n",
		x-side/2, y-side/2, side, side, hex(of))
}

func (s *svg) text(of color.RGBA, size, x, y, anchor float64, turned bool, text string) {
	at := map[float64]string{0: "start", .5: "middle", 1: "end"}[anchor]
	turn := ""
	if turned {
		turn = fmt.Sprintf(` transform="rotate(-90 %.1f %.1f)"`, x, y)
	}
	fmt.Fprintf(s, `<text x="%.1f" y="%.1f" font-size="%g" text-anchor="%s" fill="%s"%s>`, x, y, size, at, hex(of), turn)
	_ = xml.EscapeText(s, []byte(text)) // a buffer takes all
	s.WriteString("</text>\n")
}

func (s *svg) write(w io.Writer) error {
	_, err := io.WriteString(w, s.String()+"</svg>\n")
	return err
}

// raster is a picture of pixels.
type raster struct {
	*gg.Context
	faces map[float64]font.Face
}

func newPNG() (*raster, error) {
	of, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return nil, fmt.Errorf("the letters: %w", err)
	}
	p := &raster{gg.NewContext(int(width), int(height)), map[float64]font.Face{}}
	for _, size := range []float64{letters, 14, 18} {
		face, err := opentype.NewFace(of, &opentype.FaceOptions{Size: size, DPI: 72})
		if err != nil {
			return nil, fmt.Errorf("the letters: %w", err)
		}
		p.faces[size] = face
	}
	p.SetColor(paper)
	p.Clear()
	return p, nil
}

func (p *raster) line(of color.RGBA, wide float64, points ...[2]float64) {
	p.SetColor(of)
	p.SetLineWidth(wide)
	for _, q := range points {
		p.LineTo(q[0], q[1])
	}
	p.Stroke()
}

func (p *raster) circle(of color.RGBA, x, y, radius float64) {
	p.SetColor(of)
	p.DrawCircle(x, y, radius)
	p.Fill()
}

func (p *raster) square(of color.RGBA, x, y, side float64) {
	p.SetColor(of)
	p.SetLineWidth(1.5)
	p.DrawRectangle(x-side/2, y-side/2, side, side)
	p.Stroke()
}

func (p *raster) text(of color.RGBA, size, x, y, anchor float64, turned bool, text string) {
	p.SetColor(of)
	p.SetFontFace(p.faces[size])
	if turned {
		p.Push()
		defer p.Pop()
		p.RotateAbout(gg.Radians(-90), x, y)
	}
	p.DrawStringAnchored(text, x, y, anchor, 0)
}

func (p *raster) write(w io.Writer) error { return p.EncodePNG(w) }
