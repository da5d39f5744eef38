package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"
)

// WebDesk is a vendor's desk on the web: it takes files by PUT below /put/ (also as a WebDAV folder), from a form at /form, and
// by tus 1.0 below /tus/. It demands a login, and keeps what arrives in a folder.
type WebDesk struct {
	User, Password string
	Certificate    []byte // PEM
	Form           map[string]string
	MaxSize        int64                     // of one upload; 0 is any
	NoDigest       bool                      // tells no checksums
	Whole          bool                      // drops a piece of an upload of which the end is missing
	Corrupt        bool                      // keeps something else than what it was given
	Redirect       string                    // sends everybody there
	Fault          func(r *http.Request) int // an HTTP status instead of an answer; 0 is none

	root     *os.Root
	listener net.Listener
	server   *http.Server
	mu       sync.Mutex
	uploads  map[string]*upload
	tickets  int
}

// upload is one of tus. One request at a time has it: what a lost one wrote is put away before the next learns the offset.
type upload struct {
	mu     sync.Mutex
	name   string
	length int64
}

// StartWebDesk starts a desk on a loopback port, with a certificate of its own.
func StartWebDesk(dir, user, password string) (*WebDesk, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	text, conf, err := ownTLS()
	if err != nil {
		return nil, err
	}
	d := &WebDesk{User: user, Password: password, Certificate: text, root: root, uploads: map[string]*upload{}, Form: map[string]string{}}
	if d.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	d.server = &http.Server{Handler: d, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0), TLSConfig: conf}
	go func() { _ = d.server.ServeTLS(d.listener, "", "") }()
	return d, nil
}

// Address gives host and port.
func (d *WebDesk) Address() string { return d.listener.Addr().String() }

// Close stops it.
func (d *WebDesk) Close() error { return errors.Join(d.server.Close(), d.root.Close()) }

// SelfSigned makes a certificate for the loopback address, and its key, both in PEM.
func SelfSigned() (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	template := x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "desk"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(48 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), nil
}

// ownTLS makes a certificate of a server's own (PEM), and what it serves with it.
func ownTLS() (certificate []byte, conf *tls.Config, err error) {
	certificate, key, err := SelfSigned()
	if err != nil {
		return nil, nil, err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	return certificate, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, err
}

// Fingerprint gives the certificate's, in the form of credentials.yaml.
func (d *WebDesk) Fingerprint() string { return fingerprint(d.Certificate) }

func (d *WebDesk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if d.Redirect != "" {
		http.Redirect(w, r, d.Redirect, http.StatusTemporaryRedirect)
		return
	}
	user, password, _ := r.BasicAuth()
	if user != d.User || password != d.Password {
		w.Header().Set("WWW-Authenticate", `Basic realm="desk"`)
		http.Error(w, "who is it?", http.StatusUnauthorized)
		return
	}
	if d.Fault != nil {
		if code := d.Fault(r); code != 0 {
			http.Error(w, "not now", code)
			return
		}
	}
	var err error
	switch rest, ok := strings.CutPrefix(r.URL.Path, "/put/"); {
	case ok:
		err = d.keep(w, r, name(rest))
	case r.URL.Path == "/form" && r.Method == http.MethodPost:
		err = d.form(w, r)
	case strings.HasPrefix(r.URL.Path, "/tus/"):
		err = d.tus(w, r)
	default:
		http.NotFound(w, r)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		http.NotFound(w, r)
	case err != nil:
		http.Error(w, "broken", http.StatusInternalServerError)
	}
}

// keep serves files: plain PUT, and what of WebDAV is needed to make folders and give names.
func (d *WebDesk) keep(w http.ResponseWriter, r *http.Request, file string) error {
	switch r.Method {
	case http.MethodPut:
		sum, err := d.write(file, r.Body, 0)
		if err != nil {
			return err
		}
		d.digest(w, sum)
		w.WriteHeader(http.StatusCreated)
	case http.MethodHead, http.MethodGet:
		f, err := d.root.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil || info.IsDir() {
			return errors.Join(err, fs.ErrNotExist)
		}
		h := sha256.New()
		if _, err := io.Copy(h, f); err != nil {
			return err
		}
		d.digest(w, h.Sum(nil))
		http.ServeContent(w, r, "", info.ModTime(), f)
	case "MKCOL":
		if err := d.root.Mkdir(file, 0o755); errors.Is(err, fs.ErrExist) {
			w.WriteHeader(http.StatusMethodNotAllowed)
		} else if err != nil {
			w.WriteHeader(http.StatusConflict)
		} else {
			w.WriteHeader(http.StatusCreated)
		}
	case "MOVE":
		u, err := url.Parse(r.Header.Get("Destination"))
		if err != nil {
			return err
		}
		to := name(strings.TrimPrefix(u.Path, "/put/"))
		if _, err := d.root.Lstat(to); err == nil {
			w.WriteHeader(http.StatusPreconditionFailed)
			return nil
		}
		if err := d.root.Rename(file, to); err != nil {
			return err
		}
		w.WriteHeader(http.StatusCreated)
	case http.MethodDelete:
		if err := d.root.Remove(file); err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
	return nil
}

func (d *WebDesk) digest(w http.ResponseWriter, sum []byte) {
	if !d.NoDigest {
		w.Header().Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	}
}

// write keeps content from an offset on and gives the SHA-256 of what was written.
func (d *WebDesk) write(file string, content io.Reader, at int64) ([]byte, error) {
	f, err := d.root.OpenFile(file, os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := f.Truncate(at); err != nil {
		return nil, err
	}
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return nil, err
	}
	h := sha256.New()
	if d.Corrupt {
		content = io.MultiReader(strings.NewReader("!"), io.LimitReader(content, 1<<40))
	}
	_, err = io.Copy(io.MultiWriter(f, h), content)
	return h.Sum(nil), err
}

// form takes a file and fields, and gives the number of a ticket.
func (d *WebDesk) form(w http.ResponseWriter, r *http.Request) error {
	parts, err := r.MultipartReader()
	if err != nil {
		return err
	}
	got := map[string]string{}
	for {
		part, err := parts.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if file := part.FileName(); file != "" {
			sum, err := d.write(name(path.Base(file)), part, 0)
			if err != nil {
				return err
			}
			d.digest(w, sum)
			continue
		}
		text, err := io.ReadAll(io.LimitReader(part, 1<<20))
		if err != nil {
			return err
		}
		got[part.FormName()] = string(text)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for k, v := range got {
		d.Form[k] = v
	}
	d.tickets++
	w.WriteHeader(http.StatusCreated)
	_, err = fmt.Fprintf(w, "ticket OGS-%05d\n", d.tickets)
	return err
}

// tus takes uploads that can be gone on with.
func (d *WebDesk) tus(w http.ResponseWriter, r *http.Request) error {
	h := w.Header()
	h.Set("Tus-Resumable", "1.0.0")
	if r.Method == http.MethodOptions {
		h.Set("Tus-Version", "1.0.0")
		h.Set("Tus-Extension", "creation,checksum,termination")
		if !d.NoDigest {
			h.Set("Tus-Checksum-Algorithm", "sha1,sha256")
		}
		if d.MaxSize > 0 {
			h.Set("Tus-Max-Size", fmt.Sprint(d.MaxSize))
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	id := strings.TrimPrefix(r.URL.Path, "/tus/")
	d.mu.Lock()
	u := d.uploads[id]
	d.mu.Unlock()
	if r.Method == http.MethodPost && id == "" {
		return d.newUpload(w, r)
	}
	if u == nil {
		return fs.ErrNotExist
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	info, err := d.root.Stat(u.name)
	if err != nil {
		return err
	}
	switch r.Method {
	case http.MethodHead:
		h.Set("Upload-Offset", fmt.Sprint(info.Size()))
		h.Set("Upload-Length", fmt.Sprint(u.length))
		w.WriteHeader(http.StatusOK)
	case http.MethodPatch:
		return d.patch(w, r, u, info.Size())
	case http.MethodDelete:
		d.mu.Lock()
		delete(d.uploads, id)
		d.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
		return d.root.Remove(u.name)
	}
	return nil
}

func (d *WebDesk) newUpload(w http.ResponseWriter, r *http.Request) error {
	length, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return nil
	}
	file := "upload"
	for _, pair := range strings.Split(r.Header.Get("Upload-Metadata"), ",") {
		if k, v, _ := strings.Cut(pair, " "); k == "filename" {
			if raw, err := base64.StdEncoding.DecodeString(v); err == nil {
				file = path.Base(string(raw))
			}
		}
	}
	if _, err := d.write(name(file), strings.NewReader(""), 0); err != nil {
		return err
	}
	d.mu.Lock()
	id := fmt.Sprintf("u%d", len(d.uploads)+1)
	d.uploads[id] = &upload{name: name(file), length: length}
	d.mu.Unlock()
	w.Header().Set("Location", "/tus/"+id)
	w.WriteHeader(http.StatusCreated)
	return nil
}

func (d *WebDesk) patch(w http.ResponseWriter, r *http.Request, u *upload, size int64) error {
	if at, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64); err != nil || at != size {
		w.WriteHeader(http.StatusConflict)
		return nil
	}
	sum, err := d.write(u.name, io.LimitReader(r.Body, u.length-size), size)
	if err != nil {
		if d.Whole {
			return errors.Join(err, d.cutTo(u, size))
		}
		return err // what came before stays
	}
	if want, ok := strings.CutPrefix(r.Header.Get("Upload-Checksum"), "sha256 "); ok && want != base64.StdEncoding.EncodeToString(sum) {
		w.WriteHeader(460)
		return d.cutTo(u, size)
	}
	info, err := d.root.Stat(u.name)
	if err != nil {
		return err
	}
	w.Header().Set("Upload-Offset", fmt.Sprint(info.Size()))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (d *WebDesk) cutTo(u *upload, size int64) error {
	f, err := d.root.OpenFile(u.name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Truncate(size)
}
