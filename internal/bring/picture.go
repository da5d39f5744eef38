package bring

import (
	"bufio"
	"envask/internal/late"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"io"
	"strconv"
	"time"
)

// Picture is what a picture tells of itself.
type Picture struct {
	Width, Height int
	Format        string
	Taken         time.Time // zero where it has no time
	Zoned         bool      // the time names its zone; otherwise it is a clock's wall time
	Way           int       // up, as the camera was held (Exif tag Orientation): 1 to 8, 0 where it does not say
}

// maxPixels bounds the pictures that are decoded whole: 4 bytes each.
const maxPixels = 100_000_000

// ReadPicture reads what a PNG or JPEG picture tells of itself. zone is that of a time which names none.
func ReadPicture(r io.ReadSeeker, zone *time.Location) (p Picture, err error) {
	config, format, err := image.DecodeConfig(bufio.NewReader(r))
	if err != nil {
		return p, fmt.Errorf("it is no whole picture: %w", err)
	}
	p = Picture{Width: config.Width, Height: config.Height, Format: format}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return p, err
	}
	x, err := readExif(r, format)
	if err != nil {
		return p, nil //nolint:nilerr // what the camera wrote is a comfort; the picture is what counts
	}
	if zone == nil {
		zone = time.UTC
	}
	p.Taken, p.Zoned = x.takenAt(zone)
	p.Way = int(x.numbers[tagOrientation])
	return p, nil
}

// About tells a picture in a few words.
func (p Picture) About() string {
	return fmt.Sprintf("%s picture, %d × %d", map[string]string{"png": "PNG", "jpeg": "JPEG"}[p.Format], p.Width, p.Height)
}

var boxText = late.Pattern(`^(\d{1,6}),(\d{1,6}),(\d{1,6}),(\d{1,6})$`)

// ParseBox reads a rectangle as x,y,width,height, in pixels from the upper left corner.
func ParseBox(text string) (image.Rectangle, error) {
	m := boxText().FindStringSubmatch(text)
	if m == nil {
		return image.Rectangle{}, fmt.Errorf("expected x,y,width,height in pixels, found %q", text)
	}
	var n [4]int
	for i := range n {
		n[i], _ = strconv.Atoi(m[i+1]) // six digits always are a number
	}
	if n[2] == 0 || n[3] == 0 {
		return image.Rectangle{}, fmt.Errorf("a box without width or height blackens nothing: %q", text)
	}
	return image.Rect(n[0], n[1], n[0]+n[2], n[1]+n[3]), nil
}

// upright gives a picture as viewers show it, which is how a person measures a box in it.
func upright(old image.Image, way int) *image.NRGBA {
	b := old.Bounds()
	w, h := b.Dx(), b.Dy()
	if way < 2 || way > 8 {
		out := image.NewNRGBA(image.Rect(0, 0, w, h))
		draw.Draw(out, out.Bounds(), old, b.Min, draw.Src)
		return out
	}
	// Where the pixel x,y of the file is shown (Exif 2.32, 4.6.4, Orientation).
	shown := [9]func(x, y int) (int, int){
		2: func(x, y int) (int, int) { return w - 1 - x, y },
		3: func(x, y int) (int, int) { return w - 1 - x, h - 1 - y },
		4: func(x, y int) (int, int) { return x, h - 1 - y },
		5: func(x, y int) (int, int) { return y, x },
		6: func(x, y int) (int, int) { return h - 1 - y, x },
		7: func(x, y int) (int, int) { return h - 1 - y, w - 1 - x },
		8: func(x, y int) (int, int) { return y, w - 1 - x },
	}[way]
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	if way >= 5 {
		out = image.NewNRGBA(image.Rect(0, 0, h, w))
	}
	for y := range h {
		for x := range w {
			to, down := shown(x, y)
			out.Set(to, down, old.At(b.Min.X+x, b.Min.Y+y))
		}
	}
	return out
}

// Blacken writes a PNG or JPEG picture anew with rectangles of it black, which are measured in the picture as viewers show it. Nothing of
// the old file is in the new one but the pixels
// outside of them. A rectangle that lies outside of the picture is an error: it hides nothing.
func Blacken(w io.Writer, r io.ReadSeeker, boxes []image.Rectangle) error {
	p, err := ReadPicture(r, nil)
	if err != nil {
		return fmt.Errorf("only PNG and JPEG pictures can be blackened: %w", err)
	}
	if p.Width <= 0 || p.Height <= 0 || p.Width > maxPixels/p.Height {
		return fmt.Errorf("a picture of %d × %d is too large to be blackened", p.Width, p.Height)
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return err
	}
	old, format, err := image.Decode(bufio.NewReader(r))
	if err != nil {
		return fmt.Errorf("it is no whole picture: %w", err)
	}
	out := upright(old, p.Way)
	for _, b := range boxes {
		if size := out.Bounds(); !b.In(size) {
			return fmt.Errorf("the box %d,%d,%d,%d reaches out of the picture (%d × %d)", b.Min.X, b.Min.Y, b.Dx(), b.Dy(), size.Dx(),
				size.Dy())
		}
		draw.Draw(out, b, image.NewUniform(color.Black), image.Point{}, draw.Src)
	}
	if format == "jpeg" {
		return jpeg.Encode(w, out, &jpeg.Options{Quality: 92})
	}
	return png.Encode(w, out)
}
