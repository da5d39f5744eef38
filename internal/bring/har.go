package bring

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Recording is what a recording of a browser holds (HAR 1.2, http://www.softwareishard.com/blog/har-12-spec/).
type Recording struct {
	Version string
	Entries int
	Bodies  int // entries whose answer has its body
	First   time.Time
	Last    time.Time
	Failed  []Exchange // requests that failed or were slow, MaxFailed at most
	More    int        // failed or slow ones beyond those

	passed func() // one entry is read
}

// boundedEntries ends reading when one entry has more bytes than any browser records.
type boundedEntries struct {
	r    io.Reader
	room int64 // bytes, until passed is called
}

func (b *boundedEntries) Read(p []byte) (int, error) {
	if b.room <= 0 {
		return 0, &NoRecordingError{fmt.Sprintf("one request of it has more than %d MiB", maxEntry>>20)}
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.room)])
	b.room -= int64(n)
	return n, err
}

// Exchange is one request of a recording.
type Exchange struct {
	Method string        `json:"method"`
	URL    string        `json:"url"`
	Status int           `json:"status"` // 0: there was no answer
	Took   time.Duration `json:"-"`
	At     time.Time     `json:"at"`
	Why    string        `json:"why,omitempty"` // what the browser said of it
}

// Path gives the path of the request's address, without what was sent with it.
func (x Exchange) Path() string {
	u, err := url.Parse(x.URL)
	if err != nil || u.Path == "" {
		before, _, _ := strings.Cut(x.URL, "?")
		return before
	}
	return u.Path
}

const (
	// MaxFailed bounds how many requests of a recording are listed.
	MaxFailed = 100
	// Slow is from how long on a request is one that people notice.
	Slow = 3 * time.Second
	// maxEntry bounds one entry of a recording, in bytes; its body can be most of it.
	maxEntry = 256 << 20
)

// skipBOM leaves a byte order mark out, which no JSON text has (RFC 8259) and some programs write.
type skipBOM struct {
	r    *bufio.Reader
	past bool
}

func (s *skipBOM) Read(b []byte) (int, error) {
	if !s.past {
		s.past = true
		if head, _ := s.r.Peek(3); bytes.Equal(head, []byte("\xef\xbb\xbf")) {
			_, _ = s.r.Discard(3)
		}
	}
	return s.r.Read(b)
}

// NoRecordingError says why a file is no recording.
type NoRecordingError struct{ Why string }

func (e *NoRecordingError) Error() string { return e.Why }

// harEntry is what counts of an entry.
type harEntry struct {
	Started string  `json:"startedDateTime"`
	Time    float64 `json:"time"` // ms
	Request struct {
		Method string `json:"method"`
		URL    string `json:"url"`
	} `json:"request"`
	Response struct {
		Status  int    `json:"status"`
		Error   string `json:"_error"`
		Content struct {
			Size int64          `json:"size"`
			Text jsontext.Value `json:"text"`
		} `json:"content"`
		BodySize int64 `json:"bodySize"`
	} `json:"response"`
}

// ReadHAR reads a recording as it comes, entry by entry. One that is cut off, or is none, is a *NoRecordingError; what was read until
// then is given all the same.
func ReadHAR(r io.Reader) (*Recording, error) {
	rec := &Recording{}
	bounded := &boundedEntries{r: &skipBOM{r: bufio.NewReader(r)}}
	dec := jsontext.NewDecoder(bounded, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	rec.passed = func() { bounded.room = maxEntry }
	rec.passed()
	seen, err := rec.object(dec, "")
	var syntax *jsontext.SyntacticError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) && dec.InputOffset() > 0:
		return rec, &NoRecordingError{fmt.Sprintf("it is cut off after %d bytes; %s", dec.InputOffset(), rec.whole())}
	case errors.Is(err, io.EOF):
		return rec, &NoRecordingError{"it is empty"}
	case errors.As(err, &syntax) && rec.Entries > 0:
		return rec, &NoRecordingError{fmt.Sprintf("it is damaged or cut off at byte %d; %s", syntax.ByteOffset, rec.whole())}
	case errors.As(err, &syntax):
		return rec, &NoRecordingError{fmt.Sprintf("it is no JSON text (byte %d)", syntax.ByteOffset)}
	case err != nil:
		var none *NoRecordingError
		if errors.As(err, &none) {
			return rec, err
		}
		return rec, fmt.Errorf("read the recording: %w", err)
	case !seen:
		return rec, &NoRecordingError{"it is a JSON text, and no recording (no log.entries)"}
	}
	return rec, nil
}

// object reads an object of the file's top or of its log; seen says that there were entries.
func (rec *Recording) object(dec *jsontext.Decoder, in string) (seen bool, err error) {
	tok, err := dec.ReadToken()
	if err != nil {
		return false, err
	}
	if tok.Kind() != '{' {
		return false, &NoRecordingError{"it is a JSON text, and no recording (no log.entries)"}
	}
	for dec.PeekKind() != '}' {
		name, err := dec.ReadToken()
		if err != nil {
			return seen, err
		}
		switch key := name.String(); {
		case in == "" && key == "log":
			seen, err = rec.object(dec, "log")
		case in == "log" && key == "version":
			var v jsontext.Value
			if v, err = dec.ReadValue(); err == nil {
				rec.Version = strings.Trim(string(v), `"`)
			}
		case in == "log" && key == "entries":
			seen = true
			err = rec.entries(dec)
		default:
			err = dec.SkipValue()
		}
		if err != nil {
			return seen, err
		}
	}
	_, err = dec.ReadToken()
	return seen, err
}

func (rec *Recording) entries(dec *jsontext.Decoder) error {
	tok, err := dec.ReadToken()
	if err != nil {
		return err
	}
	if tok.Kind() != '[' {
		return &NoRecordingError{"its log.entries is no list"}
	}
	for dec.PeekKind() != ']' {
		var e harEntry
		if err := json.UnmarshalDecode(dec, &e); err != nil {
			var bad *json.SemanticError
			if errors.As(err, &bad) {
				return &NoRecordingError{fmt.Sprintf("its request %d has a field of another kind than HAR 1.2 says (%s)", rec.Entries+1,
					bad.JSONPointer)}
			}
			return err
		}
		rec.add(&e)
		rec.passed()
	}
	_, err = dec.ReadToken()
	return err
}

func (rec *Recording) add(e *harEntry) {
	rec.Entries++
	if len(e.Response.Content.Text) > len(`""`) {
		rec.Bodies++
	}
	at, _ := time.Parse(time.RFC3339Nano, e.Started)
	if !at.IsZero() {
		if rec.First.IsZero() || at.Before(rec.First) {
			rec.First = at
		}
		if at.After(rec.Last) {
			rec.Last = at
		}
	}
	took := time.Duration(0)
	if e.Time > 0 && e.Time < 1e12 {
		took = time.Duration(e.Time * float64(time.Millisecond))
	}
	status := e.Response.Status
	if status >= 100 && status < 400 && took < Slow {
		return
	}
	if len(rec.Failed) == MaxFailed {
		rec.More++
		return
	}
	rec.Failed = append(rec.Failed, Exchange{Method: e.Request.Method, URL: e.Request.URL, Status: status, Took: took, At: at,
		Why: e.Response.Error})
}

// Remarks says what is to be done again for a recording to be of use.
func (rec *Recording) Remarks() (out []string) {
	if rec.Version != "1.2" && rec.Version != "1.1" {
		out = append(out, fmt.Sprintf("it says HAR %q, not 1.2: save it with the browser's own export", rec.Version))
	}
	switch {
	case rec.Entries == 0:
		out = append(out, "there is no request in it: open the network list before you reproduce it, and reload the page")
	case rec.Bodies == 0:
		out = append(out, "no answer has its body: save it with contents, while the network list is still open")
	}
	if rec.Entries > 0 && len(rec.Failed) == 0 {
		out = append(out, "no request failed or was slow: keep the list over page changes, and reproduce the error while it records")
	}
	return out
}

// About tells in a few words what is in a recording.
func (rec *Recording) About() string {
	return fmt.Sprintf("%s, %d failed or slow", requests(rec.Entries), len(rec.Failed)+rec.More)
}

func requests(n int) string {
	if n == 1 {
		return "1 request"
	}
	return fmt.Sprintf("%d requests", n)
}

func (rec *Recording) whole() string { return requests(rec.Entries) + " before that can be read" }
