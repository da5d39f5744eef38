package reachtest

import (
	"encoding/binary"
	"io"
	"strings"
)

// Wire is a raw SFTP server of version 3 (draft-ietf-secsh-filexfer-02) that answers as a test wants it: for what no library would
// send. It has one folder, /log, with one file, a.log. A function for a type of request takes its place; nil of it is silence.
type Wire struct {
	Answer map[byte]func(id uint32) []byte
}

// Types of SFTP packets.
const (
	FXPInit, FXPVersion                                                         = 1, 2
	FXPOpen, FXPClose, FXPRead, FXPLstat, FXPFstat, FXPOpendir, FXPReaddir      = 3, 4, 5, 7, 8, 11, 12
	FXPRealpath, FXPStat, FXPStatus, FXPHandle, FXPData, FXPName, FXPAttrs byte = 16, 17, 101, 102, 103, 104, 105
)

// Content is what the file of a Wire holds.
const Content = "2026-03-14T06:12:00Z gate open\n"

// Packet makes a packet: its type, and its fields, which are numbers (uint32, uint64), texts and raw bytes.
func Packet(kind byte, fields ...any) []byte {
	body := []byte{kind}
	for _, f := range fields {
		switch f := f.(type) {
		case uint32:
			body = binary.BigEndian.AppendUint32(body, f)
		case int:
			body = binary.BigEndian.AppendUint32(body, uint32(f))
		case uint64:
			body = binary.BigEndian.AppendUint64(body, f)
		case string:
			body = append(binary.BigEndian.AppendUint32(body, uint32(len(f))), f...)
		case []byte:
			body = append(body, f...)
		}
	}
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...)
}

// Attrs makes the attributes of a file: its size and mode, as they are said to be.
func Attrs(size uint64, mode uint32) []byte {
	return Packet(0, 1|2|4|8, size, 1001, 1001, mode, 1773468720, 1773468720)[5:]
}

// Names makes an answer to a listing, with the same attributes for each.
func Names(id uint32, attrs []byte, names ...string) []byte {
	fields := []any{id, len(names)}
	for _, n := range names {
		fields = append(fields, n, "-rw-r--r-- 1 svc svc "+n, attrs)
	}
	return Packet(FXPName, fields...)
}

// status gives a code: 0 is fine, 1 the end, 2 that there is nothing, 8 that it is not supported.
func status(id uint32, code int) []byte { return Packet(FXPStatus, id, code, "said so", "en") }

// Serve answers requests until the client goes.
func (w Wire) Serve(ch io.ReadWriter) {
	listed := false
	for {
		head := make([]byte, 5)
		if _, err := io.ReadFull(ch, head); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint32(head)-1)
		if _, err := io.ReadFull(ch, body); err != nil {
			return
		}
		id := uint32(0)
		if len(body) >= 4 {
			id = binary.BigEndian.Uint32(body)
		}
		var answer []byte
		if own, ok := w.Answer[head[4]]; ok {
			if own != nil {
				answer = own(id)
			}
		} else {
			answer = usual(head[4], id, body, &listed)
		}
		if _, err := ch.Write(answer); err != nil {
			return
		}
	}
}

// usual is what an honest server answers.
func usual(kind byte, id uint32, body []byte, listed *bool) []byte {
	const folder, file = 0o40755, 0o100644
	inFile := strings.Contains(string(body), "a.log")
	switch kind {
	case FXPInit:
		return Packet(FXPVersion, 3)
	case FXPOpen, FXPOpendir:
		*listed = false
		return Packet(FXPHandle, id, "h")
	case FXPFstat:
		return Packet(FXPAttrs, id, Attrs(uint64(len(Content)), file))
	case FXPLstat, FXPStat:
		if inFile {
			return Packet(FXPAttrs, id, Attrs(uint64(len(Content)), file))
		}
		return Packet(FXPAttrs, id, Attrs(0, folder))
	case FXPReaddir:
		if *listed {
			return status(id, 1)
		}
		*listed = true
		return Names(id, Attrs(uint64(len(Content)), file), ".", "..", "a.log")
	case FXPRead:
		if at := binary.BigEndian.Uint64(body[len(body)-12:]); at < uint64(len(Content)) {
			return Packet(FXPData, id, Content[at:])
		}
		return status(id, 1)
	case FXPClose:
		return status(id, 0)
	case FXPRealpath:
		return Names(id, Attrs(0, folder), string(body[8:]))
	}
	return status(id, 8)
}
