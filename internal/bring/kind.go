package bring

import (
	"bytes"
	"io"
	"strings"

	"github.com/gabriel-vasile/mimetype"
)

// headBytes is how much of a file tells what it is.
const headBytes = 64 << 10

// byMIME are the types of asks by what their content is recognised as. A type counts for all that are forms of it.
var byMIME = []struct{ mime, kind string }{
	{"image/png", "png"},
	{"image/jpeg", "jpeg"},
	{"application/pdf", "pdf"},
	{"application/zip", "zip"},
	{"application/gzip", "gzip"},
	{"application/vnd.tcpdump.pcap", "capture"},
	{"application/x-coredump", "dump"},
}

// signs are beginnings that the package for MIME types does not know.
var signs = []struct{ begin, kind string }{
	{"\x0a\x0d\x0d\x0a", "capture"},     // pcapng (draft-ietf-opsawg-pcapng): section header block
	{"\x4d\x3c\xb2\xa1", "capture"},     // pcap with nanoseconds, both byte orders
	{"\xa1\xb2\x3c\x4d", "capture"},     //
	{"MDMP", "dump"},                    // a small dump of Windows
	{"PAGEDU64", "dump"},                // a kernel dump of Windows
	{"PAGEDUMP", "dump"},                //
	{"JAVA PROFILE 1.0.", "dump"},       // a heap of a Java machine
	{"KDUMP   ", "dump"},                // a compressed kernel dump
	{"\x7fELF\x02\x01\x01\x00", "dump"}, // see isCore
}

// Kind tells what a file is by its content, as one of ask.FileTypes, and in words what it was taken for. "" is none of them. Whether a
// JSON text is a recording of a browser, ReadHAR tells.
func Kind(r io.ReaderAt) (kind, what string, err error) {
	head := make([]byte, headBytes)
	n, err := r.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return "", "", err
	}
	head = head[:n]
	if n == 0 {
		return "", "empty", nil
	}
	for _, s := range signs {
		if bytes.HasPrefix(head, []byte(s.begin)) && (s.begin[0] != 0x7f || isCore(head)) {
			return s.kind, s.kind, nil
		}
	}
	found := mimetype.Detect(head)
	what = plainName(found.String())
	for m := found; m != nil; m = m.Parent() {
		for _, b := range byMIME {
			if m.Is(b.mime) {
				return b.kind, what, nil
			}
		}
		if m.Is("text/plain") {
			return "text", what, nil
		}
	}
	return "", what, nil
}

// isCore reports whether an ELF file is the dump of a process (ELF specification: e_type 4).
func isCore(head []byte) bool { return len(head) > 17 && head[16] == 4 && head[17] == 0 }

// plainName gives what people call a MIME type.
func plainName(mime string) string {
	mime, _, _ = strings.Cut(mime, ";")
	switch mime {
	case "text/html":
		return "a page (HTML)"
	case "application/json":
		return "a JSON text"
	case "text/plain":
		return "a text"
	case "application/octet-stream":
		return "data of an unknown kind"
	}
	return mime
}
