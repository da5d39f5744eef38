package form

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
)

// Pictures cannot be read by the rules, so they go only on the engineer's word. What the camera wrote beside the picture
// (position, owner, model, times) is taken out without touching the picture itself.

var isImage = begins("\x89PNG\r\n\x1a\n", "\xff\xd8\xff", "GIF87a", "GIF89a", "II*\x00", "MM\x00*", "BM", "RIFF")

// applyImage copies a picture without its metadata, if it may go along.
func applyImage(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	if o.worker.Searches() {
		return Result{}, o.worker.Unread(r)
	}
	res := Result{Form: Image}
	br := bufio.NewReader(r)
	head, _ := br.Peek(12)
	isPicture := !bytes.HasPrefix(head, []byte("RIFF")) && !bytes.HasPrefix(head, []byte("BM")) ||
		bytes.HasSuffix(head, []byte("WEBP")) || len(head) > 9 && bytes.HasPrefix(head, []byte("BM")) && head[6] == 0 && head[8] == 0
	if !isPicture {
		res.Form = Opaque
	}
	if !in.Unread || w == nil {
		return res, nil
	}
	var err error
	switch {
	case bytes.HasPrefix(head, []byte("\x89PNG")):
		err = cleanPNG(w, br)
	case bytes.HasPrefix(head, []byte("\xff\xd8")):
		err = cleanJPEG(w, br)
	default:
		_, err = io.Copy(w, br)
		if isPicture {
			res.Note = "what the camera wrote into it is still there"
		}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || err == io.EOF {
		res.Note, err = "the picture is broken; what is whole was kept", nil
	}
	return res, err
}

// Chunks of a PNG (PNG specification, third edition) that hold texts and times.
var pngMeta = map[string]bool{"tEXt": true, "zTXt": true, "iTXt": true, "eXIf": true, "tIME": true}

func cleanPNG(w io.Writer, r io.Reader) error {
	if _, err := io.CopyN(w, r, 8); err != nil {
		return err
	}
	for {
		var head [8]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return err
		}
		n := int64(binary.BigEndian.Uint32(head[:])) + 4 // and its checksum
		kind := string(head[4:])
		target := w
		if pngMeta[kind] {
			target = io.Discard
		}
		if _, err := target.Write(head[:]); err != nil {
			return err
		}
		if _, err := io.CopyN(target, r, n); err != nil {
			return err
		}
		if kind == "IEND" {
			return nil // what stands behind the end is no part of the picture
		}
	}
}

// Markers of a JPEG (ITU-T T.81).
const (
	jpegSOS  = 0xda
	jpegEOI  = 0xd9
	jpegCOM  = 0xfe
	jpegApp0 = 0xe0
)

// cleanJPEG copies a JPEG without the segments of applications but those that the colours need: JFIF, ICC profiles and
// Adobe's. Which way up the picture is stays: it is written into a segment that holds nothing else.
func cleanJPEG(w io.Writer, r *bufio.Reader) error {
	if _, err := io.CopyN(w, r, 2); err != nil {
		return err
	}
	for {
		var mark [2]byte
		if _, err := io.ReadFull(r, mark[:]); err != nil {
			return err
		}
		if mark[0] != 0xff {
			return io.ErrUnexpectedEOF
		}
		if mark[1] == 0xff { // filling
			if err := r.UnreadByte(); err != nil {
				return err
			}
			continue
		}
		var size [2]byte
		if _, err := io.ReadFull(r, size[:]); err != nil {
			return err
		}
		body := make([]byte, max(0, int(binary.BigEndian.Uint16(size[:]))-2))
		if _, err := io.ReadFull(r, body); err != nil {
			return err
		}
		if out := jpegSegment(mark[1], body); out != nil {
			binary.BigEndian.PutUint16(size[:], uint16(len(out)+2))
			if _, err := w.Write(append(append(mark[:], size[:]...), out...)); err != nil {
				return err
			}
		}
		if mark[1] == jpegSOS {
			return copyScans(w, r)
		}
	}
}

// jpegSegment gives what is written instead of a segment, or nil for nothing.
func jpegSegment(mark byte, body []byte) []byte {
	switch {
	case mark == jpegCOM:
		return nil
	case mark == jpegApp0+1:
		if o := exifOrientation(body); o > 1 {
			return orientationOnly(o)
		}
		return nil
	case mark == jpegApp0, mark == jpegApp0+2 && bytes.HasPrefix(body, []byte("ICC_PROFILE\x00")), mark == jpegApp0+14:
		return body
	case mark > jpegApp0 && mark <= jpegApp0+15:
		return nil
	}
	return body
}

// copyScans copies the picture itself, up to its end; other segments between scans are tables that it needs.
func copyScans(w io.Writer, r *bufio.Reader) error {
	out := bufio.NewWriter(w)
	last := byte(0)
	for {
		c, err := r.ReadByte()
		if err != nil {
			return errors.Join(io.ErrUnexpectedEOF, out.Flush())
		}
		if err := out.WriteByte(c); err != nil {
			return err
		}
		if last == 0xff && c == jpegEOI {
			return out.Flush()
		}
		last = c
	}
}

// exifOrientation reads which way up a picture is from an Exif segment (CIPA DC-008), 0 when it does not say.
func exifOrientation(body []byte) int {
	if !bytes.HasPrefix(body, []byte("Exif\x00\x00")) || len(body) < 14 {
		return 0
	}
	tiff := body[6:]
	var order binary.ByteOrder = binary.BigEndian
	if bytes.HasPrefix(tiff, []byte("II")) {
		order = binary.LittleEndian
	}
	at := int(order.Uint32(tiff[4:]))
	if at < 8 || at+2 > len(tiff) {
		return 0
	}
	for n := int(order.Uint16(tiff[at:])); n > 0; n-- {
		entry := at + 2 + (n-1)*12
		if entry+12 <= len(tiff) && order.Uint16(tiff[entry:]) == 0x0112 {
			if v := int(order.Uint16(tiff[entry+8:])); v <= 8 {
				return v
			}
		}
	}
	return 0
}

// orientationOnly gives an Exif segment that says nothing but which way up the picture is.
func orientationOnly(o int) []byte {
	return append([]byte("Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00"), byte(o), 0, 0, 0, 0, 0, 0)
}
