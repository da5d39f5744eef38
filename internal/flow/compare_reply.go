package flow

import (
	"context"
	"io"
	"os"
	"path"

	"envask/internal/compare"
	"envask/internal/fault"
)

// sides gives both sides of a comparison. One of them can be a file that the vendor sent back: it stands against the files of the same
// name on the other side, on every system.
func (x *comparing) sides(ctx context.Context, q CompareRequest, out *Compared) (before, now *compare.Side, err error) {
	switch {
	case x.reply(q.Now) != "":
		if before, err = x.side(ctx, q.Before, &out.Before); err == nil {
			now, err = x.replySide(ctx, q.Now, before, &out.Now)
		}
	case x.reply(q.Before) != "":
		if now, err = x.side(ctx, q.Now, &out.Now); err == nil {
			before, err = x.replySide(ctx, q.Before, now, &out.Before)
		}
	default:
		if before, err = x.side(ctx, q.Before, &out.Before); err == nil {
			now, err = x.side(ctx, q.Now, &out.Now)
		}
	}
	return before, now, err
}

// reply gives the name of a reply of the case that is meant; "" is none. What is there as a path is that.
func (x *comparing) reply(ref string) string {
	if _, err := os.Lstat(ref); err == nil || isRound(ref) || ref == baselineWord {
		return ""
	}
	c, err := x.needCase()
	if err != nil {
		return ""
	}
	list, err := Replies(c)
	if err != nil {
		return ""
	}
	for _, r := range list {
		if r.Name == ref {
			return ref
		}
	}
	return ""
}

// replySide puts a reply in the place of each file of its name on the other side, of which nothing else is compared.
func (x *comparing) replySide(ctx context.Context, name string, other *compare.Side, v *SideView) (*compare.Side, error) {
	file, err := ReplyPath(ctx, x.c, name)
	if err != nil {
		return nil, err
	}
	sum, size, err := sumAndSize(file)
	if err != nil {
		return nil, fault.Wrap("compare", name, err)
	}
	*v = SideView{Name: "the vendor's " + name}
	s := &compare.Side{Files: map[compare.Key]*compare.File{}}
	for key, f := range other.Files {
		if path.Base(key.Path) != name {
			delete(other.Files, key)
			continue
		}
		s.Files[key] = &compare.File{Item: f.Item, Size: size, SHA256: sum, Open: func() (io.ReadCloser, error) { return os.Open(file) }}
	}
	if len(s.Files) == 0 {
		return nil, fault.New(fault.Usage, "compare", name, "no file of the other side is called that",
			"add the reply under the name of the file that it replaces")
	}
	v.Files, other.Facts = len(s.Files), nil
	return s, nil
}
