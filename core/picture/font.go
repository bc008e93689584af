package picture

import (
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// A typeface is the Go font, which pictures are measured with, and PNGs written in.
type typeface struct {
	once sync.Once
	data []byte
	font *opentype.Font
	lock sync.Mutex
	wide map[rune]float64 // advance at size 1
}

var regular, bold = &typeface{data: goregular.TTF}, &typeface{data: gobold.TTF}

func face(isBold bool) *typeface {
	t := regular
	if isBold {
		t = bold
	}
	t.once.Do(func() {
		t.wide = map[rune]float64{}
		t.font, _ = opentype.Parse(t.data) // the font is part of the program
	})
	return t
}

// measured is how much wider than measured a text may become in a browser that has another font.
const measured = 1.06

// width is the width of a text in pixels.
func width(text string, size float64, isBold bool) (w float64) {
	t := face(isBold)
	t.lock.Lock()
	defer t.lock.Unlock()
	const unit = 1000 // pixels for an em
	for _, r := range text {
		wide, known := t.wide[r]
		if !known {
			var b sfnt.Buffer
			glyph, err := t.font.GlyphIndex(&b, r)
			advance := fixed.I(unit) // of a character that the font lacks
			if err == nil && glyph != 0 {
				if a, err := t.font.GlyphAdvance(&b, glyph, fixed.I(unit), font.HintingNone); err == nil {
					advance = a
				}
			}
			wide = float64(advance) / 64 / unit
			t.wide[r] = wide
		}
		w += wide
	}
	return w * size * measured
}

// clip cuts a text to a width.
func clip(text string, size, most float64, isBold bool) string {
	if width(text, size, isBold) <= most {
		return text
	}
	runes := []rune(text)
	for n := len(runes) - 1; n > 0; n-- {
		if cut := string(runes[:n]) + "…"; width(cut, size, isBold) <= most {
			return cut
		}
	}
	return "…"
}
