package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"envask/internal/durable"
)

// Layout of ZIP files, see APPNOTE.TXT 6.3.10, section 4.3: what stands before each file (30 bytes and its name and extra), behind
// it where its sizes were not known before (16 bytes, or 24 with large sizes), and at the end of all.
const (
	zipLocal      = 30
	zipEnd        = 22
	zipLocalMagic = "PK\x03\x04"
	zipListMagic  = "PK\x01\x02"
	zipEndMagic   = "PK\x05\x06"
	zipAfterMagic = "PK\x07\x08"
	zip64Magic    = "PK\x06\x06"
	zip64Locator  = "PK\x06\x07"
)

// zip reads the members of a ZIP file in the order of its list.
func (v *verifier) zip(f io.ReaderAt, size int64) error {
	r := v.report
	z, err := zip.NewReader(f, size)
	if err != nil {
		v.hopeless = true
		r.differ("", "truncated", fmt.Sprintf("its list of files cannot be read (%v)", err))
		return nil
	}
	if v.stage == readAll {
		if why := oddLayout(f, size, z); why != "" {
			r.differ("", "extra", why)
		}
	}
	for _, e := range z.File {
		if err := v.member(f, e); err != nil {
			var ins *inspectError
			if errors.As(err, &ins) {
				return ins.err
			}
			if v.files > maxFiles {
				return err
			}
		}
	}
	return nil
}

func (v *verifier) member(f io.ReaderAt, e *zip.File) error {
	kind := byte(tar.TypeReg)
	if e.Mode().IsDir() {
		kind = tar.TypeDir
	} else if !e.Mode().IsRegular() {
		kind = tar.TypeSymlink
	}
	if name, err := nameThere(f, e); err != nil || name != e.Name {
		v.report.differ(e.Name, "changed", "its beginning says another name than the list of files")
	}
	if e.Comment != "" || kind == tar.TypeDir && e.CompressedSize64 != 0 {
		v.report.differ(e.Name, "extra", "holds more than an archive of Envask does (a comment, or a folder with content)")
	}
	content, err := e.Open()
	if err != nil {
		v.report.differ(e.Name, "truncated", fmt.Sprintf("cannot be read (%v)", err))
		return nil
	}
	defer content.Close()
	return v.entry(&tar.Header{Typeflag: kind, Name: e.Name, Size: int64(min(e.UncompressedSize64, 1<<62))}, durable.Until(v.ctx, content))
}

// nameThere reads the name that stands before a member's content; some programs go by that one.
func nameThere(f io.ReaderAt, e *zip.File) (string, error) {
	at, err := e.DataOffset()
	if err != nil {
		return "", err
	}
	name := make([]byte, len(e.Name))
	_, err = f.ReadAt(name, at-int64(len(e.Extra))-int64(len(name)))
	return string(name), err
}

// oddLayout walks over a ZIP file from front to back and says what in belongs to no listed file; "" is nothing. A list at the end
// alone decides what a program shows, so that anything could stand between and behind.
func oddLayout(f io.ReaderAt, size int64, z *zip.Reader) string {
	at := int64(0)
	for _, e := range z.File {
		data, err := e.DataOffset()
		if err != nil {
			return fmt.Sprintf("%.60q has no beginning", e.Name)
		}
		head := make([]byte, zipLocal)
		if _, err := f.ReadAt(head, at); err != nil || !bytes.HasPrefix(head, []byte(zipLocalMagic)) {
			return fmt.Sprintf("before %.60q stands something that is in no list", e.Name)
		}
		extra := int64(binary.LittleEndian.Uint16(head[28:]))
		if at+zipLocal+int64(binary.LittleEndian.Uint16(head[26:]))+extra != data {
			return fmt.Sprintf("before %.60q stands something that is in no list", e.Name)
		}
		if e.CompressedSize64 > uint64(size) {
			return fmt.Sprintf("%.60q is larger than the archive", e.Name)
		}
		at = data + int64(e.CompressedSize64)
		if e.Flags&0x8 != 0 {
			at += afterwards(f, at, e)
		}
	}
	return oddEnd(f, at, size, z)
}

// afterwards gives how long the sizes are that stand behind a file.
func afterwards(f io.ReaderAt, at int64, e *zip.File) int64 {
	head := make([]byte, 4)
	_, _ = f.ReadAt(head, at)
	n := int64(8)
	if e.CompressedSize64 > 1<<32-1 || e.UncompressedSize64 > 1<<32-1 ||
		strings.Contains(string(e.Extra), "\x01\x00") && e.ReaderVersion >= 45 {
		n = 16
	}
	if bytes.Equal(head, []byte(zipAfterMagic)) {
		n += 4
	}
	return n + 4
}

// oddEnd looks at what follows the last file: the list, and the end mark, which must be the last bytes and have no comment.
func oddEnd(f io.ReaderAt, at, size int64, z *zip.Reader) string {
	end := make([]byte, zipEnd)
	if _, err := f.ReadAt(end, size-zipEnd); err != nil || !bytes.HasPrefix(end, []byte(zipEndMagic)) || z.Comment != "" {
		return "something stands behind the end mark of the archive"
	}
	listAt, listSize := int64(binary.LittleEndian.Uint32(end[16:])), int64(binary.LittleEndian.Uint32(end[12:]))
	tail := size - zipEnd
	if listAt == 1<<32-1 || listSize == 1<<32-1 || binary.LittleEndian.Uint16(end[10:]) == 1<<16-1 {
		locator := make([]byte, 20)
		if _, err := f.ReadAt(locator, tail-20); err != nil || !bytes.HasPrefix(locator, []byte(zip64Locator)) {
			return "its end mark cannot be read"
		}
		at64 := int64(binary.LittleEndian.Uint64(locator[8:]))
		big := make([]byte, 56)
		if _, err := f.ReadAt(big, at64); err != nil || !bytes.HasPrefix(big, []byte(zip64Magic)) || at64+56 != tail-20 {
			return "its end mark cannot be read"
		}
		listSize, listAt, tail = int64(binary.LittleEndian.Uint64(big[40:])), int64(binary.LittleEndian.Uint64(big[48:])), at64
	}
	if len(z.File) > 0 {
		head := make([]byte, 4)
		if _, err := f.ReadAt(head, at); err != nil || string(head) != zipListMagic {
			return "between its files and their list stands something"
		}
	}
	if listAt != at || listAt+listSize != tail {
		return "between its files and their list stands something"
	}
	return ""
}
