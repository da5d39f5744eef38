package submit

import (
	"context"
	"crypto"
	_ "crypto/md5"  // #nosec G501 -- what some servers compute; against damage on the way, not against forgery
	_ "crypto/sha1" // #nosec G505 -- the same
	_ "crypto/sha256"
	_ "crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
)

// digestKind is a digest that servers compute, by the names that they give it.
type digestKind struct {
	Name   string // as people write it
	Hash   crypto.Hash
	FTP    string // of HASH (draft-bryan-ftpext-hash)
	FTPOwn string // the older command of its own
	SFTP   string // of check-file (draft-ietf-secsh-filexfer-extensions-00)
}

// digestKinds are in the order of preference.
var digestKinds = []digestKind{
	{"SHA-256", crypto.SHA256, "SHA-256", "XSHA256", "sha256"},
	{"SHA-512", crypto.SHA512, "SHA-512", "XSHA512", "sha512"},
	{"SHA-1", crypto.SHA1, "SHA-1", "XSHA1", "sha1"},
	{"MD5", crypto.MD5, "MD5", "XMD5", "md5"},
}

// Digester is a store whose server can compute digests.
type Digester interface {
	// Digest gives the digest of a file of so many bytes there, in hex, of the best kind that the server knows; "" when it knows none.
	Digest(ctx context.Context, path string, size int64) (kind digestKind, sum string, err error)
}

// digestWait is how long a server may compute a digest: slow disks read 10 MB a second.
func digestWait(size int64) time.Duration {
	return time.Minute + time.Duration(size/10_000_000)*time.Second
}

// ownDigest computes a digest of one of our own files, in hex.
func ownDigest(ctx context.Context, file string, kind digestKind) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := kind.Hash.New()
	if _, err := io.Copy(h, &meter{ctx: ctx, r: f}); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// errDiffers is what compare gives when the content there is another.
var errDiffers = errors.New("what arrived is not what was sent")

// compare compares the content of a file there with a parcel. how says by what it is known, or why it is not.
func compare(ctx context.Context, r Store, path string, p Parcel) (known bool, how string, err error) {
	if d, ok := r.(Digester); ok {
		kind, sum, err := d.Digest(ctx, path, p.Size)
		if err != nil {
			return false, "", err
		}
		want := p.SHA256
		if sum != "" && kind.Hash != crypto.SHA256 {
			want = ""
			if p.File != "" {
				if want, err = ownDigest(ctx, p.File, kind); err != nil {
					return false, "", err
				}
			}
		}
		if sum != "" && want != "" {
			if !strings.EqualFold(sum, want) {
				return false, "", fmt.Errorf("%w: its %s is %s (computed by the server)", errDiffers, kind.Name, strings.ToLower(sum))
			}
			return true, kind.Name + " agree (computed by the server)", nil
		}
	}
	sum, how, err := r.Sum(ctx, path, p.Size)
	switch {
	case err != nil:
		return false, "", err
	case sum == "":
		return false, how, nil
	case sum != p.SHA256:
		return false, "", fmt.Errorf("%w: its SHA-256 is %s (%s)", errDiffers, sum, how)
	}
	return true, "SHA-256 agree (" + how + ")", nil
}
