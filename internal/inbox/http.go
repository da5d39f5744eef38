package inbox

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"time"
)

// startHTTP receives by PUT and POST (RFC 9110), with HTTP Basic. All else is refused.
func startHTTP(ctx context.Context, s *Store, address string) (string, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	srv := &http.Server{ReadHeaderTimeout: 30 * time.Second, Handler: http.HandlerFunc(s.overHTTP), MaxHeaderBytes: 64 << 10}
	context.AfterFunc(ctx, func() { srv.Close() })
	go func() { _ = srv.Serve(l) }() // it ends with the context
	return l.Addr().String(), nil
}

type httpAddr string

func (httpAddr) Network() string  { return "tcp" }
func (a httpAddr) String() string { return string(a) }

func (s *Store) overHTTP(w http.ResponseWriter, r *http.Request) {
	from := httpAddr(r.RemoteAddr)
	if r.Method != http.MethodPut && r.Method != http.MethodPost {
		w.Header().Set("Allow", "PUT, POST")
		http.Error(w, "only PUT and POST", http.StatusMethodNotAllowed)
		return
	}
	user, password, _ := r.BasicAuth()
	account, err := s.Login(user, password, from)
	if err != nil {
		w.Header().Set("WWW-Authenticate", `Basic realm="inbox"`)
		http.Error(w, "refused", http.StatusUnauthorized)
		return
	}
	if r.ContentLength > s.Limits.Bytes {
		http.Error(w, "too large", http.StatusRequestEntityTooLarge)
		return
	}
	if form, err := r.MultipartReader(); err == nil {
		for {
			part, err := form.NextPart()
			if errors.Is(err, io.EOF) {
				w.WriteHeader(http.StatusCreated)
				return
			}
			if err != nil {
				http.Error(w, "not whole", http.StatusBadRequest)
				return
			}
			if part.FileName() != "" && !s.keepHTTP(w, account, part.FileName(), part, from) {
				return
			}
		}
	}
	if s.keepHTTP(w, account, r.URL.Path, r.Body, from) {
		w.WriteHeader(http.StatusCreated)
	}
}

// keepHTTP takes one file, and answers where it cannot.
func (s *Store) keepHTTP(w http.ResponseWriter, a *Account, name string, body io.Reader, from net.Addr) bool {
	in, err := s.Begin(a, name, "HTTP", from)
	if err == nil {
		if _, err = io.Copy(in, body); err == nil {
			err = in.Commit()
		} else {
			in.Abort(err.Error())
		}
	}
	if err != nil {
		code := http.StatusInternalServerError
		if errors.Is(err, ErrTooLarge) || errors.Is(err, ErrTooMany) {
			code = http.StatusRequestEntityTooLarge
		}
		http.Error(w, err.Error(), code)
	}
	return err == nil
}
