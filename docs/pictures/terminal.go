package main

import (
	"image"
	"image/color"
	"image/draw"
	"strconv"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// The picture: its size, what is left free around the text, and a character, in pixels.
const (
	wide, high   = 1280, 800
	margin       = 10
	charW, charH = 8, 16
	fontSize     = 13.3 // of which a character is 8 pixels wide
)

var (
	paper = color.RGBA{16, 20, 24, 255}
	ink   = color.RGBA{216, 222, 233, 255}
	faint = color.RGBA{127, 127, 127, 255}
	// colours are those of the terminal's codes (ECMA-48, select graphic rendition).
	colours = map[int]color.RGBA{
		31: {224, 80, 80, 255}, 32: {80, 200, 80, 255}, 33: {226, 200, 80, 255}, 34: {110, 160, 240, 255}, 35: {200, 130, 220, 255},
		36: {80, 200, 210, 255}, 90: faint, 91: {240, 110, 110, 255}, 92: {110, 220, 110, 255}, 93: {240, 220, 110, 255},
	}
)

// cell is a character of the terminal.
type cell struct {
	char rune
	ink  color.RGBA
	bold bool
}

// drawTerminal draws the first rows that a command shows, or the last ones, with the command above them.
func drawTerminal(command string, shown []byte, end bool) (image.Image, error) {
	lines := cells("\x1b[1m$ " + command + "\x1b[0m\n\n" + strings.ReplaceAll(string(shown), "\r", ""))
	if most := (high - 2*margin) / charH; len(lines) > most {
		if end {
			lines = append(lines[:2:2], lines[len(lines)-most+2:]...)
		} else {
			lines = lines[:most]
		}
	}
	faces := map[bool]font.Face{}
	for bold, data := range map[bool][]byte{false: gomono.TTF, true: gomonobold.TTF} {
		parsed, err := opentype.Parse(data)
		if err != nil {
			return nil, err
		}
		if faces[bold], err = opentype.NewFace(parsed, &opentype.FaceOptions{Size: fontSize, DPI: 72, Hinting: font.HintingFull}); err != nil {
			return nil, err
		}
	}
	img := image.NewRGBA(image.Rect(0, 0, wide, high))
	draw.Draw(img, img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	for y, line := range lines {
		for x, c := range line {
			d := font.Drawer{Dst: img, Src: image.NewUniform(c.ink), Face: faces[c.bold]}
			d.Dot = fixed.P(margin+x*charW, margin+y*charH+charH-4)
			d.DrawString(string(c.char))
		}
	}
	return img, nil
}

// cells are the lines of a terminal, broken where they are too long for it.
func cells(text string) (lines [][]cell) {
	var line []cell
	now := cell{ink: ink}
	for i := 0; i < len(text); {
		if strings.HasPrefix(text[i:], "\x1b[") {
			end := i + 2
			for end < len(text) && (text[end] < '@' || text[end] > '~') {
				end++
			}
			if end < len(text) && text[end] == 'm' {
				now.render(text[i+2 : end])
			}
			i = end + 1
			continue
		}
		r, size := rune(text[i]), 1
		if r >= 0x80 {
			for _, first := range text[i:] {
				r = first
				break
			}
			size = len(string(r))
		}
		i += size
		if r == '\n' || len(line) == columns {
			lines, line = append(lines, line), nil
			if r == '\n' {
				continue
			}
		}
		c := now
		if c.char = r; r == '\t' {
			c.char = ' '
		}
		line = append(line, c)
	}
	return append(lines, line)
}

// render takes the codes of a rendition up.
func (c *cell) render(codes string) {
	for code := range strings.SplitSeq(codes, ";") {
		switch n, _ := strconv.Atoi(code); {
		case n == 0:
			*c = cell{ink: ink}
		case n == 1:
			c.bold = true
		case n == 2:
			c.ink = faint
		case n == 22:
			c.bold = false
		case n == 39:
			c.ink = ink
		default:
			if known, ok := colours[n]; ok {
				c.ink = known
			}
		}
	}
}
