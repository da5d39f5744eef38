package collect

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/extract"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/reach/web"
	"envask/internal/round"
)

// link is a file that a device offers.
type link struct {
	request    web.Request
	name       string // "" as the device says when it comes
	size       int64  // -1 where it is not told
	sum        string // SHA-256 in hex; "" where it is not told
	member     string
	wantsPages bool
}

// webFolder is where what comes from web interfaces is kept, below a system's folder.
const webFolder = "web/"

// download keeps what a step gives: its answer, the files that its answer links to, or all its pages in one file.
func (s *stepper) download(ctx context.Context, step *ask.WebStep, t turn) error {
	r, err := s.request(step, t)
	if err != nil {
		return err
	}
	switch {
	case step.Download.Into != "":
		return s.records(ctx, step, r, t)
	case step.Download.Each == nil:
		return s.fetch(ctx, step, link{request: r, size: -1, member: t.label(), wantsPages: r.Pages})
	}
	links, err := s.links(ctx, step, r, t)
	if err != nil {
		return err
	}
	s.report(Event{Kind: ItemSize, System: s.sys.Name, Item: s.item.ID, Files: len(links)})
	for _, l := range links {
		if err := s.fetch(ctx, step, l); err != nil {
			return err
		}
		if err := s.failure(); err != nil {
			return err
		}
	}
	return nil
}

// links reads the list of files, over all its pages.
func (s *stepper) links(ctx context.Context, step *ask.WebStep, r web.Request, t turn) (out []link, err error) {
	err = s.eachPage(ctx, step, r, func(res *web.Response, answer *extract.Answer) (int, error) {
		hrefs, err := step.Download.Each.Values(ctx, answer)
		if err != nil {
			return 0, err
		}
		var columns [3][]string
		for i, e := range []*extract.Expression{step.Download.Name, step.Download.Size, step.Download.Sum} {
			if e == nil {
				continue
			}
			if columns[i], err = e.Values(ctx, answer); err != nil {
				return 0, err
			}
			if len(columns[i]) != len(hrefs) {
				return 0, fmt.Errorf("%s takes %d values for %d links", e.Text, len(columns[i]), len(hrefs))
			}
		}
		for i, href := range hrefs {
			u, err := s.client.Resolve(res.Target, href)
			if err != nil {
				return 0, err
			}
			l := link{request: web.Request{Method: http.MethodGet, Target: u.String(), Header: r.Header}, size: -1, member: t.label()}
			if columns[0] != nil {
				l.name = columns[0][i]
			}
			if columns[1] != nil {
				if l.size, err = strconv.ParseInt(columns[1][i], 10, 64); err != nil || l.size < 0 {
					return 0, fmt.Errorf("%q is no size", short(columns[1][i]))
				}
			}
			if columns[2] != nil {
				l.sum = strings.ToLower(strings.TrimPrefix(columns[2][i], "sha256:"))
			}
			out = append(out, l)
		}
		return len(hrefs), nil
	})
	if err == nil && len(out) == 0 {
		s.add(round.Entry{Source: step.Path + turnText(t), State: round.Missing, Member: t.label(), Reason: "the device lists no file"})
	}
	return out, err
}

func turnText(t turn) string {
	if t.label() == "" {
		return ""
	}
	return " (" + t.label() + ")"
}

// eachPage gives the answer to a request, and those of the pages after it; each gives the number of records of one. By offset, a page
// without
// any is the last.
func (s *stepper) eachPage(ctx context.Context, step *ask.WebStep, r web.Request,
	each func(*web.Response, *extract.Answer) (records int, err error)) error {
	first := r.Target
	for page := 0; ; page++ {
		res, err := s.send(ctx, r)
		if err != nil {
			return err
		}
		answer, err := res.Whole()
		if err == nil {
			err = s.expected(ctx, step, res, answer)
		}
		records := 0
		if err == nil {
			records, err = each(res, answer)
		}
		p := step.Pages
		if err != nil || p == nil || p.Size > 0 && records == 0 {
			return err
		}
		if page+1 == p.Most {
			return fmt.Errorf("it has more than %d pages", p.Most)
		}
		next, err := s.nextPage(ctx, p, first, page, res.Target, answer)
		if err != nil || next == "" || next == r.Target {
			return err
		}
		r.Target = next
	}
}

// nextPage gives where the next page is; "" after the last.
func (s *stepper) nextPage(ctx context.Context, p *ask.Pages, first string, page int, at *url.URL, a *extract.Answer) (string, error) {
	switch {
	case p.Next != nil:
		text, ok, err := p.Next.First(ctx, a)
		if err != nil || !ok || text == "" {
			return "", err
		}
		u, err := s.client.Resolve(at, linkHeader(text))
		if err != nil {
			return "", err
		}
		return u.String(), nil
	case p.Cursor != nil:
		text, ok, err := p.Cursor.First(ctx, a)
		if err != nil || !ok || text == "" {
			return "", err
		}
		return withQuery(first, url.Values{p.As: {text}}), nil
	}
	return withQuery(first, url.Values{p.Offset: {strconv.Itoa((page + 1) * p.Size)}}), nil
}

// linkHeader takes the address out of a Link header whose relation is "next" (RFC 8288); any other text is one already.
func linkHeader(text string) string {
	for _, part := range strings.Split(text, ",") {
		if address, rest, ok := strings.Cut(strings.TrimSpace(part), ">"); ok && strings.HasPrefix(address, "<") &&
			strings.Contains(strings.ReplaceAll(rest, `"`, ""), "rel=next") {
			return address[1:]
		}
	}
	return strings.TrimSpace(text)
}

// fetchTries is how often a download is begun or continued where it breaks.
const fetchTries = 4

// fetch takes one file. What concerns it alone is its entry.
func (s *stepper) fetch(ctx context.Context, step *ask.WebStep, l link) error {
	e := round.Entry{Source: linkSource(l.request), Size: max(l.size, 0), State: round.Taken, Member: l.member}
	if had, ok := s.done.get(e.Source); ok {
		s.add(had)
		return s.remove(ctx, step, l)
	}
	if !s.budget.reserve(e.Size) {
		e.State, e.Reason = round.Skipped, s.budget.why()
		s.add(e)
		return nil
	}
	dir := s.part() + ".web"
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return &transfer.LocalError{Err: err}
	}
	defer os.RemoveAll(dir)
	got, err := s.bytes(ctx, step, &l, filepath.Join(dir, "file"))
	var local *transfer.LocalError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &local):
		return err
	case errors.Is(err, web.ErrLogin):
		return err
	case err != nil && got == nil:
		e.State, e.Reason = stepFailure(err)
		s.add(e)
		return nil
	}
	durable.Point("after a download")
	e.Bytes, e.SHA256, e.ModTime = got.bytes, got.sum, got.modified
	if e.Size == 0 {
		e.Size = got.bytes
	}
	if err != nil {
		e.State, e.Reason = stepFailure(err)
	}
	name := webFolder + s.item.ID + "/" + SafePath(path.Join("/", l.member)[1:])
	name = shortTarget(strings.TrimSuffix(name, "/") + "/" + got.name)
	if err := s.keepWeb(ctx, filepath.Join(dir, "file"), name, &e); err != nil {
		return err
	}
	if e.State == round.Taken {
		return s.remove(ctx, step, l)
	}
	return s.failure()
}

// linkSource is how an entry names a request: its path on the device.
func linkSource(r web.Request) string {
	u, err := url.Parse(r.Target)
	if err != nil {
		return SafePath(r.Target)
	}
	return r.Method + " " + SafePath(u.RequestURI())
}

// gotFile is what came of a download.
type gotFile struct {
	name     string
	bytes    int64
	sum      string
	modified time.Time
}

// bytes downloads a file, continuing where it breaks if the device can. A file that is not what it should be comes with an error.
func (s *stepper) bytes(ctx context.Context, step *ask.WebStep, l *link, to string) (*gotFile, error) {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return nil, transfer.Ours(err)
	}
	defer f.Close()
	var head http.Header
	var at int64
	for try := 1; ; try++ {
		r := l.request
		r.Pages = l.wantsPages
		if at > 0 {
			r.Header = r.Header.Clone()
			if r.Header == nil {
				r.Header = http.Header{}
			}
			r.Header.Set("Range", fmt.Sprintf("bytes=%d-", at))
			if tag := head.Get("Etag"); tag != "" && !strings.HasPrefix(tag, "W/") {
				r.Header.Set("If-Range", tag)
			}
		}
		res, err := s.send(ctx, r)
		if err != nil {
			return nil, err
		}
		if at > 0 && res.Status != http.StatusPartialContent { // the device begins anew
			if err := f.Truncate(0); err != nil {
				res.Body.Close()
				return nil, transfer.Ours(err)
			}
			at = 0
		}
		if res.Status != http.StatusPartialContent {
			if err := rightStatus(step.Expect, res, nil); err != nil {
				res.Body.Close()
				return nil, err
			}
			head = res.Header
		}
		n, err := s.copyTo(f, at, res)
		at += n
		if err == nil {
			return s.judge(f, to, at, head, step, l)
		}
		if transfer.IsOurs(err) || ctx.Err() != nil || try == fetchTries || errors.Is(err, web.ErrTooLarge) {
			return nil, err
		}
		if err := DefaultPauses.Wait(ctx, min(try, len(DefaultPauses))); err != nil {
			return nil, err
		}
	}
}

func (s *stepper) copyTo(f *os.File, at int64, res *web.Response) (int64, error) {
	defer res.Body.Close()
	limit := s.spec.Max
	if limit <= 0 {
		limit = 1 << 50
	}
	out := &countingFile{f: f, at: at, count: s.count}
	_, err := io.Copy(out, io.LimitReader(res.Body, limit-at+1))
	if out.err != nil {
		return out.at - at, transfer.Ours(out.err)
	}
	if out.at > limit {
		return out.at - at, fmt.Errorf("%w: over %s", web.ErrTooLarge, bytesText(limit))
	}
	return out.at - at, err
}

// countingFile writes at a place of a file, and counts.
type countingFile struct {
	f     *os.File
	at    int64
	count func(int64)
	err   error // of our disk
}

func (c *countingFile) Write(b []byte) (int, error) {
	n, err := c.f.WriteAt(b, c.at)
	c.at += int64(n)
	c.count(int64(n))
	c.err = err
	return n, err
}

// judge looks at a file that came: its name, size, checksum, and whether it is a page of the device instead.
func (s *stepper) judge(f *os.File, file string, size int64, head http.Header, step *ask.WebStep, l *link) (*gotFile, error) {
	sum, err := durable.FileSum(context.Background(), file)
	if err != nil {
		return nil, transfer.Ours(err)
	}
	got := &gotFile{name: downloadName(l, head), bytes: size, sum: sum, modified: time.Now().UTC().Truncate(time.Second)}
	if at, err := http.ParseTime(head.Get("Last-Modified")); err == nil {
		got.modified = at.UTC()
	}
	begin := make([]byte, 512)
	n, _ := f.ReadAt(begin, 0) // shorter files have less
	page := extract.IsHTML(http.Header{}, begin[:n])
	ending := strings.ToLower(path.Ext(got.name))
	switch {
	case l.size >= 0 && size != l.size:
		return got, fmt.Errorf("%d bytes came, and the device lists %d", size, l.size)
	case l.sum != "" && l.sum != sum:
		return got, errors.New("the checksum is not the one that the device lists")
	case page && !l.wantsPages && ending != ".html" && ending != ".htm" && step.Expect.Type != "html":
		return got, errors.New("an HTML page came where a file was expected")
	}
	return got, nil
}

// downloadName gives a file its name: the one that a step takes, the device's own, or the end of its address. It is only a name.
func downloadName(l *link, head http.Header) string {
	name := l.name
	if name == "" {
		if _, p, err := mime.ParseMediaType(head.Get("Content-Disposition")); err == nil {
			name = p["filename"]
		}
	}
	if name == "" {
		if u, err := url.Parse(l.request.Target); err == nil {
			name = path.Base(u.Path)
		}
	}
	name = SafePath(path.Base(strings.ReplaceAll(name, `\`, "/")))
	if name == "" || name == "." || name == "/" || name == ".." {
		name = "file"
	}
	return name
}

// keepWeb gives what came its place: as it is, or cut to the window where the item says so.
func (s *stepper) keepWeb(ctx context.Context, file, name string, e *round.Entry) error {
	if s.spec.Cut == "lines" && e.State == round.Taken {
		return s.keepCut(ctx, file, name, e)
	}
	s.budget.spend(e.Bytes)
	if err := s.settlePlace(file, name, e); err != nil {
		return err
	}
	s.add(*e)
	return s.failure()
}

// keepCut cuts a text to the window: as a file of a system that is the folder it came into.
func (w *work) keepCut(ctx context.Context, file, name string, e *round.Entry) error {
	device := w.target
	w.target = reach.NewFolder(filepath.Dir(file))
	defer func() { w.target = device }()
	f := newFilesWork(w, ask.Files{Cut: "lines", History: ask.AllHistory, Patterns: []string{"/" + filepath.Base(file)}})
	info, err := os.Stat(file)
	if err != nil {
		return transfer.Ours(err)
	}
	inner := filepath.Base(file)
	c := &candidate{match: match{name: inner, info: info}, real: inner, entry: *e, target: name,
		member: &logset.Member{Name: inner, Info: info}}
	if err := f.inspectAll(ctx, []*candidate{c}); err != nil {
		return err
	}
	c.whole = c.member.Look == nil || !c.member.Look.Dated()
	list := []*candidate{c}
	if !c.whole {
		list = f.choose(list)
	}
	for _, c := range list {
		if _, err := f.take(ctx, c, 0); err != nil {
			return err
		}
	}
	return w.failure()
}

// remove removes what was taken from the device, where the ask says so.
func (s *stepper) remove(ctx context.Context, step *ask.WebStep, l link) error {
	if !step.Download.Remove {
		return nil
	}
	r := l.request
	r.Method = http.MethodDelete
	res, err := s.send(ctx, r)
	if err == nil {
		err = rightStatus(ask.WebExpect{Status: []int{200, 202, 204, 404, 410}}, res, nil)
		res.Body.Close()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		s.add(round.Entry{Source: "remove " + linkSource(l.request), State: round.Skipped, Special: true,
			Reason: "not removed from the device: " + transfer.Plain(err)})
	}
	return s.failure()
}

// records writes all pages of an answer into one file: as they are, a table's head once, or each value of an expression as a line of JSON.
func (s *stepper) records(ctx context.Context, step *ask.WebStep, r web.Request, t turn) error {
	e := round.Entry{Source: linkSource(r), State: round.Taken, Member: t.label(), ModTime: time.Now().UTC().Truncate(time.Second)}
	if had, ok := s.done.get(e.Source); ok {
		s.add(had)
		return s.failure()
	}
	dir := s.part() + ".web"
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return &transfer.LocalError{Err: err}
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "file")
	pages, rows := 0, 0
	var failed error // of the device; what came before is kept
	n, sum, err := writePart(file, func(out io.Writer) error {
		head := ""
		failed = s.eachPage(ctx, step, r, func(_ *web.Response, a *extract.Answer) (int, error) {
			k, err := writeRecords(ctx, out, step.Download.Rows, a, &head)
			if err == nil {
				pages++
			}
			rows += k
			s.count(int64(len(a.Body)))
			return k, err
		})
		return nil
	})
	var local *transfer.LocalError
	switch {
	case failed != nil && (ctx.Err() != nil || errors.As(failed, &local) || pages == 0):
		return failed
	case err != nil:
		return err
	}
	e.Bytes, e.Size, e.SHA256 = n, n, sum
	e.Reason = fmt.Sprintf("%d lines of %d pages", rows, pages)
	if failed != nil {
		why := ""
		e.State, why = stepFailure(failed)
		e.Reason += "; the next page: " + why
	}
	name := strings.TrimSuffix(webFolder+s.item.ID+"/"+SafePath(t.label()), "/") + "/" +
		SafePath(s.intoName(ask.Run{Into: step.Download.Into}, s.begun))
	return cmp.Or(s.keepWeb(ctx, file, name, &e), failed)
}

// writeRecords writes one page, and gives the number of records, without a table's head. head is that of a table: it is left out of later
// pages.
func writeRecords(ctx context.Context, out io.Writer, rows *extract.Expression, a *extract.Answer, head *string) (n int, err error) {
	if rows != nil {
		values, err := rows.Values(ctx, a)
		for _, v := range values {
			if _, err := io.WriteString(out, strings.ReplaceAll(v, "\n", " ")+"\n"); err != nil {
				return n, transfer.Ours(err)
			}
			n++
		}
		return n, err
	}
	in := bufio.NewReader(bytes.NewReader(a.Body))
	for first := true; ; first = false {
		line, err := in.ReadString('\n')
		text := strings.TrimRight(line, "\r\n")
		switch {
		case first && *head == "":
			*head = text
		case first && text == *head:
			line = ""
		}
		if line != "" {
			n++
			if _, err := io.WriteString(out, text+"\n"); err != nil {
				return n, transfer.Ours(err)
			}
		}
		if err != nil {
			return n, nil // the end of the page
		}
	}
}
