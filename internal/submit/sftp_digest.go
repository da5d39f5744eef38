package submit

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Packets of SFTP version 3 (draft-ietf-secsh-filexfer-02) that asking for a digest needs.
const (
	sftpInit          = 1
	sftpVersion       = 2
	sftpExtended      = 200
	sftpExtendedReply = 201
	sftpMost          = 256 << 10 // bytes of one packet
)

// Digest asks by the extension check-file, over a session of its own. Not every server that knows it names it when a session
// begins. A server that does not answer as it should is taken for one that computes none.
func (r *sftpRoute) Digest(ctx context.Context, path string, size int64) (kind digestKind, sum string, err error) {
	within, cancel := context.WithTimeout(ctx, digestWait(size))
	defer cancel()
	conn, err := r.sys.Subsystem(within, "sftp")
	if err != nil {
		return kind, "", r.orLost(err)
	}
	defer conn.Close()
	stop := context.AfterFunc(within, func() { conn.Close() })
	defer stop()
	kind, sum, err = checkFile(conn, path)
	switch {
	case ctx.Err() != nil:
		return kind, "", ctx.Err()
	case err != nil && r.sys.Lost() != nil:
		return kind, "", r.orLost(err)
	case err != nil:
		return kind, "", nil
	}
	return kind, sum, nil
}

func checkFile(conn io.ReadWriter, path string) (kind digestKind, sum string, err error) {
	if err := writePacket(conn, sftpInit, binary.BigEndian.AppendUint32(nil, 3)); err != nil {
		return kind, "", err
	}
	if what, _, err := readPacket(conn); err != nil || what != sftpVersion {
		return kind, "", errors.Join(err, errors.New("the server does not begin SFTP"))
	}
	var names []string
	for _, k := range digestKinds {
		names = append(names, k.SFTP)
	}
	const id = 1
	ask := binary.BigEndian.AppendUint32(nil, id)
	ask = appendText(ask, "check-file-name")
	ask = appendText(ask, path)
	ask = appendText(ask, strings.Join(names, ","))
	ask = binary.BigEndian.AppendUint64(ask, 0) // from the first byte
	ask = binary.BigEndian.AppendUint64(ask, 0) // to the last
	ask = binary.BigEndian.AppendUint32(ask, 0) // as one block
	if err := writePacket(conn, sftpExtended, ask); err != nil {
		return kind, "", err
	}
	what, body, err := readPacket(conn)
	if err != nil {
		return kind, "", err
	}
	if what != sftpExtendedReply || len(body) < 4 || binary.BigEndian.Uint32(body) != id {
		return kind, "", fmt.Errorf("the server answers with packet %d", what)
	}
	name, rest, ok := cutText(body[4:])
	if ok && name == "check-file" { // some servers repeat the extension's name
		name, rest, ok = cutText(rest)
	}
	for _, k := range digestKinds {
		if ok && k.SFTP == name && len(rest) == k.Hash.Size() {
			return k, hex.EncodeToString(rest), nil
		}
	}
	return kind, "", errors.New("the server's digest is of no known kind")
}

func writePacket(w io.Writer, what byte, body []byte) error {
	packet := binary.BigEndian.AppendUint32(nil, uint32(len(body)+1))
	_, err := w.Write(append(append(packet, what), body...))
	return err
}

func readPacket(r io.Reader) (what byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n < 1 || n > sftpMost {
		return 0, nil, fmt.Errorf("a packet of %d bytes", n)
	}
	body = make([]byte, n-1)
	_, err = io.ReadFull(r, body)
	return head[4], body, err
}

func appendText(b []byte, text string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(text))), text...)
}

func cutText(b []byte) (text string, rest []byte, ok bool) {
	if len(b) < 4 || uint64(binary.BigEndian.Uint32(b)) > uint64(len(b)-4) {
		return "", nil, false
	}
	n := binary.BigEndian.Uint32(b)
	return string(b[4 : 4+n]), b[4+n:], true
}
