package form

import (
	"archive/tar"
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"strings"
)

// members collects what becomes of the files of a container.
type members struct {
	o    *Opener
	w    io.Writer
	in   Source
	res  Result
	read int // files that could be read
	n    int
}

func newMembers(o *Opener, w io.Writer, in Source) *members {
	return &members{o: o, w: w, in: in, res: Result{Inner: Plain, Counts: Counts{}}}
}

// name redacts the name of a member.
func (m *members) name(name string) string {
	clean, counts := m.o.worker.Short(name)
	m.res.Counts.Add(counts)
	return clean
}

// redact redacts the content of one member into a spool, whose length is then known. A nil spool means that it is left out.
func (m *members) redact(name string, r io.Reader) (*spool, error) {
	if m.n++; m.n > MaxMembers {
		return nil, ErrBomb
	}
	var s *spool
	var target io.Writer
	if m.w != nil {
		s = &spool{dir: m.o.temp}
		target = s
	}
	defer func(was string) { m.o.member = was }(m.o.member)
	m.o.member = strings.TrimPrefix(m.o.member+"/"+name, "/")
	res, err := m.o.inner(target, r, m.in, name)
	m.res.Counts.Add(res.Counts)
	if err != nil {
		s.closeIfAny()
		return nil, err
	}
	clean, _ := m.o.worker.Short(name)
	for _, u := range res.Unread {
		m.res.Unread = append(m.res.Unread, clean+"/"+u)
	}
	if res.Note != "" && m.res.Note == "" {
		m.res.Note = clean + ": " + res.Note
	}
	if !res.Unreadable() {
		m.read++
		return s, nil
	}
	m.res.Unread = append(m.res.Unread, clean)
	if !m.in.Unread {
		s.closeIfAny()
		return nil, nil
	}
	return s, nil
}

func (s *spool) closeIfAny() {
	if s != nil {
		s.Close()
	}
}

// result gives what became of the container. One of which nothing could be read is opaque as a whole.
func (m *members) result() Result {
	if m.read == 0 && len(m.res.Unread) > 0 {
		m.res.Inner = Opaque
	}
	return m.res
}

// applyTar redacts the files of a tar archive, and their names. Owners are left out, since they are people.
func applyTar(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	m := newMembers(o, w, in)
	tr := tar.NewReader(r)
	var tw *tar.Writer
	if w != nil {
		tw = tar.NewWriter(w)
	}
	for {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		if errors.Is(err, ErrBomb) {
			return m.res, err
		}
		if err != nil {
			m.res.Note = fmt.Sprintf("the tar archive is broken after %d files; what is whole was kept", m.n)
			break
		}
		content := &cutReader{r: tr}
		if err := m.tarMember(tw, h, content); err != nil {
			return m.res, err
		}
		if content.cut {
			m.res.Note = fmt.Sprintf("the tar archive ends within its file %d; what is whole was kept", m.n)
			break
		}
	}
	if tw == nil {
		return m.result(), nil
	}
	return m.result(), tw.Close()
}

// cutReader ends quietly where the content of a file is cut off, and remembers it: an archive may still be written to.
type cutReader struct {
	r   io.Reader
	cut bool
}

func (c *cutReader) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	if err == io.ErrUnexpectedEOF {
		c.cut, err = true, io.EOF
	}
	return n, err
}

func (m *members) tarMember(tw *tar.Writer, h *tar.Header, tr io.Reader) error {
	clean := &tar.Header{Typeflag: h.Typeflag, Name: m.name(h.Name), Mode: h.Mode, ModTime: h.ModTime, Format: tar.FormatPAX}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse:
		clean.Typeflag = tar.TypeReg
		s, err := m.redact(h.Name, tr)
		if err != nil || s == nil || tw == nil {
			s.closeIfAny()
			return err
		}
		defer s.Close()
		clean.Size = s.n
		if err := tw.WriteHeader(clean); err != nil {
			return err
		}
		return s.copyTo(tw)
	case tar.TypeSymlink, tar.TypeLink:
		clean.Linkname = m.name(h.Linkname)
	case tar.TypeDir:
	default:
		return nil // devices and the like say nothing
	}
	if tw == nil {
		return nil
	}
	return tw.WriteHeader(clean)
}

// maxZip bounds the zip archives that are opened, in bytes: they are read from their end, so each is kept whole on disk.
const maxZip = 16 << 30

// applyZip redacts the files of a zip archive, and their names. Comments and the extra fields of makers are left out.
func applyZip(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	whole := &spool{dir: o.temp}
	defer whole.Close()
	if n, err := io.Copy(whole, io.LimitReader(r, maxZip+1)); err != nil {
		return Result{}, err
	} else if n > maxZip {
		return Result{Inner: Opaque, Note: "the zip archive is too large to be opened"}, nil
	}
	zr, err := zip.NewReader(whole, whole.n)
	if err != nil {
		return Result{Inner: Opaque, Note: "the zip archive is broken (" + err.Error() + ")"}, nil
	}
	m := newMembers(o, w, in)
	var zw *zip.Writer
	if w != nil {
		zw = zip.NewWriter(w)
	}
	bound, outermost := o.bounded(&countReader{n: whole.n})
	if outermost {
		defer func() { o.growth = nil }()
	}
	for _, f := range zr.File {
		if err := m.zipMember(zw, f, bound); err != nil {
			return m.res, err
		}
	}
	if zw == nil {
		return m.result(), nil
	}
	return m.result(), zw.Close()
}

func (m *members) zipMember(zw *zip.Writer, f *zip.File, bound *growth) error {
	h := zip.FileHeader{Name: m.name(f.Name), Modified: f.Modified,
		Method: f.Method, ExternalAttrs: f.ExternalAttrs, CreatorVersion: f.CreatorVersion}
	if strings.HasSuffix(f.Name, "/") {
		if zw == nil {
			return nil
		}
		h.Method = zip.Store
		_, err := zw.CreateHeader(&h)
		return err
	}
	var content io.ReadCloser
	err := errors.New("encrypted")
	if f.Flags&1 == 0 {
		content, err = f.Open()
	}
	if err != nil { // encrypted, or compressed in a way that is not known
		m.res.Unread = append(m.res.Unread, h.Name)
		if !m.in.Unread || zw == nil {
			return nil
		}
		if _, err := f.OpenRaw(); err != nil {
			return nil // it lies, too, about where it is
		}
		return zw.Copy(f)
	}
	defer content.Close()
	soft := &softReader{r: &boundReader{r: content, growth: bound}}
	s, err := m.redact(f.Name, soft)
	if err != nil || soft.hard != nil || s == nil || zw == nil {
		s.closeIfAny()
		return errors.Join(err, soft.hard)
	}
	defer s.Close()
	if soft.broken != nil {
		m.res.Note = fmt.Sprintf("%s in the zip archive is broken (%v); what is whole was kept", h.Name, soft.broken)
	}
	fw, err := zw.CreateHeader(&h)
	if err != nil {
		return err
	}
	return s.copyTo(fw)
}
