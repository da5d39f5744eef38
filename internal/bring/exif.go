package bring

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"time"
)

// What a camera writes into a picture (Exif 2.32, CIPA DC-008; the structure is that of TIFF 6.0): a directory of tags, and a second one
// below it. Offsets count from the block's beginning.
const (
	tagOrientation   = 0x0112
	tagModified      = 0x0132
	tagExifDirectory = 0x8769
	tagTaken         = 0x9003
	tagDigitized     = 0x9004
	tagZoneModified  = 0x9010
	tagZoneTaken     = 0x9011
	tagZoneDigitized = 0x9012

	typeText  = 2
	typeShort = 3
	typeLong  = 4
)

// Bounds of what is looked at: a segment of a JPEG has no more, and no camera writes more into a PNG.
const (
	maxExif     = 64 << 10 // bytes of the block
	maxTags     = 1024     // of one directory
	maxSegments = 1024     // of a picture before its pixels
)

// cameraTags are those that a picture holds, by number: texts and single numbers.
type cameraTags struct {
	texts   map[uint16]string
	numbers map[uint16]uint32
}

var errNoExif = errors.New("the picture holds nothing of a camera")

// readExif reads what a camera wrote into a PNG or JPEG picture.
func readExif(r io.ReadSeeker, format string) (x cameraTags, err error) {
	var block []byte
	switch err = errNoExif; format {
	case "png":
		block, err = exifOfPNG(r)
	case "jpeg":
		block, err = exifOfJPEG(r)
	}
	if err != nil {
		return x, err
	}
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(block, []byte("II*\x00")):
		order = binary.LittleEndian
	case bytes.HasPrefix(block, []byte("MM\x00*")):
		order = binary.BigEndian
	}
	if order == nil || len(block) < 8 {
		return x, errNoExif
	}
	x = cameraTags{map[uint16]string{}, map[uint16]uint32{}}
	x.directory(block, order, order.Uint32(block[4:]))
	if below, ok := x.numbers[tagExifDirectory]; ok {
		x.directory(block, order, below)
	}
	return x, nil
}

// directory reads one directory of tags, as far as it lies in the block.
func (x cameraTags) directory(block []byte, order binary.ByteOrder, at uint32) {
	if uint64(at)+2 > uint64(len(block)) {
		return
	}
	n := min(int(order.Uint16(block[at:])), maxTags)
	for b := block[at+2:]; n > 0 && len(b) >= 12; n, b = n-1, b[12:] {
		tag, kind, count, value := order.Uint16(b), order.Uint16(b[2:]), order.Uint32(b[4:]), b[8:12]
		switch {
		case kind == typeShort && count == 1:
			x.numbers[tag] = uint32(order.Uint16(value))
		case kind == typeLong && count == 1:
			x.numbers[tag] = order.Uint32(value)
		case kind == typeText && count <= 4:
			x.texts[tag] = ending(value[:count])
		case kind == typeText:
			if from, to := uint64(order.Uint32(value)), uint64(order.Uint32(value))+uint64(count); to <= uint64(len(block)) {
				x.texts[tag] = ending(block[from:to])
			}
		}
	}
}

// ending gives a text up to its NUL.
func ending(b []byte) string {
	text, _, _ := bytes.Cut(b, []byte{0})
	return string(text)
}

// exifOfPNG gives the chunk eXIf of a PNG picture (PNG specification, third edition).
func exifOfPNG(r io.ReadSeeker) ([]byte, error) {
	if _, err := r.Seek(8, io.SeekStart); err != nil {
		return nil, err
	}
	for range maxSegments {
		var head [8]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return nil, err
		}
		n := int64(binary.BigEndian.Uint32(head[:]))
		switch string(head[4:]) {
		case "eXIf":
			block := make([]byte, min(n, maxExif))
			_, err := io.ReadFull(r, block)
			return block, err
		case "IEND":
			return nil, errNoExif
		}
		if _, err := r.Seek(n+4, io.SeekCurrent); err != nil { // and its checksum
			return nil, err
		}
	}
	return nil, errNoExif
}

// exifOfJPEG gives the segment of a JPEG picture (ITU-T T.81) that holds the block.
func exifOfJPEG(r io.ReadSeeker) ([]byte, error) {
	const head, app1, scan = "Exif\x00\x00", 0xe1, 0xda
	if _, err := r.Seek(2, io.SeekStart); err != nil {
		return nil, err
	}
	for range maxSegments {
		var mark [4]byte
		if _, err := io.ReadFull(r, mark[:1]); err != nil {
			return nil, err
		}
		for mark[1] = 0xff; mark[1] == 0xff; { // filling
			if _, err := io.ReadFull(r, mark[1:2]); err != nil {
				return nil, err
			}
		}
		if mark[0] != 0xff || mark[1] == scan {
			return nil, errNoExif
		}
		if _, err := io.ReadFull(r, mark[2:]); err != nil {
			return nil, err
		}
		n := int64(binary.BigEndian.Uint16(mark[2:])) - 2
		if n < 0 {
			return nil, errNoExif
		}
		if mark[1] == app1 {
			block := make([]byte, n)
			if _, err := io.ReadFull(r, block); err != nil {
				return nil, err
			}
			if rest, ok := bytes.CutPrefix(block, []byte(head)); ok {
				return rest, nil
			}
			continue
		}
		if _, err := r.Seek(n, io.SeekCurrent); err != nil {
			return nil, err
		}
	}
	return nil, errNoExif
}

// takenAt gives when a picture was taken, the best time first, and whether it names its zone.
func (x cameraTags) takenAt(zone *time.Location) (at time.Time, zoned bool) {
	for _, tags := range [][2]uint16{{tagTaken, tagZoneTaken}, {tagDigitized, tagZoneDigitized}, {tagModified, tagZoneModified}} {
		text := x.texts[tags[0]]
		if text == "" {
			continue
		}
		if at, err := time.Parse("2006:01:02 15:04:05-07:00", text+x.texts[tags[1]]); err == nil {
			return at, true
		}
		if at, err := time.ParseInLocation("2006:01:02 15:04:05", text, zone); err == nil {
			return at, false
		}
	}
	return time.Time{}, false
}
