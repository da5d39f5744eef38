package submit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"

	"envask/internal/durable"
	"envask/internal/fault"
)

// folder is a mounted share or a stick.
type folder struct{ dir string }

var _ Store = folder{}

func openFolder(_ context.Context, name string, u *url.URL, _ *Means) (Route, error) {
	dir := filepath.FromSlash(u.Path)
	info, err := os.Stat(dir) // #nosec G703 -- the folder is on the approval sheet
	if err == nil && !info.IsDir() {
		err = errors.New("is not a folder")
	}
	if err != nil {
		return nil, &fault.Error{Op: "route", Target: name, Err: fmt.Errorf("the folder %s cannot be used: %w", dir, err),
			Hint: "is the share mounted, is the stick plugged in?"}
	}
	return folder{dir}, nil
}

func (f folder) Place(name string) (final, part string) {
	return filepath.Join(f.dir, name), filepath.Join(f.dir, "."+name+".part")
}

func (f folder) Size(path string) (int64, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return 0, err
	}
	if !info.Mode().IsRegular() {
		return 0, fmt.Errorf("%s exists and is not a regular file", path)
	}
	return info.Size(), nil
}

func (f folder) Put(_ context.Context, path string, content io.Reader, at int64) error {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() { // on a share anybody may put a link in the way
		return fault.New(fault.Refused, "", path, "is there already and is not a regular file", "remove it there")
	}
	out, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o644) // #nosec G302 -- the vendor has to read it
	if err != nil {
		return err
	}
	if err = out.Truncate(at); err == nil {
		_, err = out.Seek(at, io.SeekStart)
	}
	if err == nil {
		_, err = io.Copy(out, content)
	}
	if err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}

func (f folder) Sum(ctx context.Context, path string, _ int64) (string, string, error) {
	in, err := os.Open(path)
	if err != nil {
		return "", "", err
	}
	defer in.Close()
	sum, err := durable.Sum(ctx, in)
	return sum, "read back from the folder", err
}

func (f folder) Rename(from, to string) error {
	durable.Point("before the name there")
	defer durable.Point("after the name there")
	if err := os.Rename(from, to); err != nil {
		return err
	}
	return durable.SyncDir(f.dir)
}

// A file of which the end was not flushed when the power went can hold anything there.
func (f folder) Resumes() (int64, bool) { return 1 << 20, true }

func (f folder) Cover() string { return "no network" }

func (f folder) Remove(path string) error { return os.Remove(path) }
func (f folder) Server() string           { return "folder " + f.dir }
func (f folder) Close() error             { return nil }
