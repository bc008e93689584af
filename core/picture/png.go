package picture

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"strconv"

	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// largestPNG is how many pixels a PNG has at most. Pictures that allow it are drawn twice as fine.
const largestPNG = 3 << 20

// png is the picture in light colours.
func (p *Picture) png() ([]byte, error) {
	scale := 2.0
	for p.W*p.H*scale*scale > largestPNG {
		scale *= 0.75
	}
	c := canvas{scale: scale, faces: map[typesize]font.Face{},
		image: image.NewRGBA(image.Rect(0, 0, int(math.Ceil(p.W*scale)), int(math.Ceil(p.H*scale))))}
	draw.Draw(c.image, c.image.Bounds(), image.NewUniform(rgb(looks["ground"].fill)), image.Point{}, draw.Src)
	for _, m := range p.marks {
		if err := c.draw(m); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, c.image)
	return b.Bytes(), err
}

type typesize struct {
	size float64
	bold bool
}

// canvas is a PNG that is being drawn.
type canvas struct {
	image *image.RGBA
	scale float64
	faces map[typesize]font.Face
}

func rgb(hex string) color.RGBA {
	n, _ := strconv.ParseUint(hex, 16, 32) // they are constants
	return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 255}
}

func (c *canvas) draw(m mark) error {
	l := looks[m.class]
	if m.text != "" {
		return c.write(m, l)
	}
	path := m.outline()
	for i := range path {
		path[i].x, path[i].y = path[i].x*c.scale, path[i].y*c.scale
	}
	if l.fill != "" && m.closed {
		c.fill(l.fill, [][]point{path})
	}
	if l.stroke != "" {
		if m.closed {
			path = append(path, path[0])
		}
		dash := make([]float64, len(l.dash))
		for i, d := range l.dash {
			dash[i] = d * c.scale
		}
		c.fill(l.stroke, stroke(dashed(path, dash), l.line*c.scale))
	}
	return nil
}

func (c *canvas) write(m mark, l look) (err error) {
	key := typesize{m.size, m.bold}
	f := c.faces[key]
	if f == nil {
		f, err = opentype.NewFace(face(m.bold).font, &opentype.FaceOptions{Size: m.size * c.scale, DPI: 72})
		if err != nil {
			return err
		}
		c.faces[key] = f
	}
	d := font.Drawer{Dst: c.image, Src: image.NewUniform(rgb(l.fill)), Face: f}
	x := m.path[0].x*c.scale - m.anchor*float64(d.MeasureString(m.text))/64
	d.Dot = fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(m.path[0].y * c.scale * 64)}
	d.DrawString(m.text)
	return nil
}

// outline is the path of a mark as straight pieces.
func (m mark) outline() (path []point) {
	switch {
	case m.closed && len(m.path) == 2:
		a, b, r := m.path[0], m.path[1], m.round
		corner := func(x, y, from float64) {
			const pieces = 6
			for i := range pieces + 1 {
				angle := (from + float64(i)/pieces) * math.Pi / 2
				path = append(path, point{x + r*math.Cos(angle), y + r*math.Sin(angle)})
			}
		}
		corner(b.x-r, b.y-r, 0)
		corner(a.x+r, b.y-r, 1)
		corner(a.x+r, a.y+r, 2)
		corner(b.x-r, a.y+r, 3)
	case m.curved:
		path = append(path, m.path[0])
		for i := 0; i+3 < len(m.path); i += 3 {
			const pieces = 16
			for k := 1; k <= pieces; k++ {
				t := float64(k) / pieces
				a, b, c, d := (1-t)*(1-t)*(1-t), 3*(1-t)*(1-t)*t, 3*(1-t)*t*t, t*t*t
				q := m.path[i : i+4]
				path = append(path, point{a*q[0].x + b*q[1].x + c*q[2].x + d*q[3].x, a*q[0].y + b*q[1].y + c*q[2].y + d*q[3].y})
			}
		}
	default:
		path = append(path, m.path...)
	}
	return path
}

// dashed cuts a path into its dashes.
func dashed(path []point, dash []float64) (pieces [][]point) {
	if len(dash) == 0 {
		return [][]point{path}
	}
	piece, at, left := []point{path[0]}, 0, dash[0]
	for i := 1; i < len(path); i++ {
		from, to := path[i-1], path[i]
		for length := math.Hypot(to.x-from.x, to.y-from.y); length > left; length = math.Hypot(to.x-from.x, to.y-from.y) {
			from = point{from.x + (to.x-from.x)*left/length, from.y + (to.y-from.y)*left/length}
			if at%2 == 0 {
				pieces = append(pieces, append(piece, from))
			}
			piece = []point{from}
			at++
			left = dash[at%len(dash)]
		}
		left -= math.Hypot(to.x-from.x, to.y-from.y)
		piece = append(piece, to)
	}
	if at%2 == 0 && len(piece) > 1 {
		pieces = append(pieces, piece)
	}
	return pieces
}

// stroke is the area of lines of a width: a quadrilateral for each straight piece, and a square
// over each inner joint.
func stroke(pieces [][]point, wide float64) (areas [][]point) {
	half := wide / 2
	for _, path := range pieces {
		for i := 1; i < len(path); i++ {
			a, b := path[i-1], path[i]
			length := math.Hypot(b.x-a.x, b.y-a.y)
			if length == 0 {
				continue
			}
			x, y := (b.x-a.x)/length*half, (b.y-a.y)/length*half
			if i > 1 { // a little over the joint
				a = point{a.x - x*0.6, a.y - y*0.6}
			}
			areas = append(areas, []point{{a.x - y, a.y + x}, {a.x + y, a.y - x}, {b.x + y, b.y - x}, {b.x - y, b.y + x}})
		}
	}
	return areas
}

// fill fills areas, which may overlap and turn the same way round.
func (c *canvas) fill(colour string, areas [][]point) {
	if len(areas) == 0 {
		return
	}
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, area := range areas {
		for _, p := range area {
			x0, y0, x1, y1 = min(x0, p.x), min(y0, p.y), max(x1, p.x), max(y1, p.y)
		}
	}
	box := image.Rect(int(math.Floor(x0)), int(math.Floor(y0)), int(math.Ceil(x1)), int(math.Ceil(y1))).
		Intersect(c.image.Bounds())
	if box.Empty() {
		return
	}
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for _, area := range areas {
		for i, p := range area {
			x, y := float32(p.x-float64(box.Min.X)), float32(p.y-float64(box.Min.Y))
			if i == 0 {
				r.MoveTo(x, y)
			} else {
				r.LineTo(x, y)
			}
		}
		r.ClosePath()
	}
	r.Draw(c.image, box, image.NewUniform(rgb(colour)), image.Point{})
}
