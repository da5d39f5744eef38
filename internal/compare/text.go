package compare

import (
	"fmt"
	"strings"

	udiff "github.com/aymanbagabas/go-udiff"
	"github.com/dustin/go-humanize"
)

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// unified gives a unified diff of two texts without what is to be hidden, cut where it is very long.
func unified(name string, before, now []byte, o Options) (diff, note string) {
	was, is := o.Hide(string(before)), o.Hide(string(now))
	if was == is {
		return "", "only what is hidden changed"
	}
	lines := strings.SplitAfter(udiff.Unified("before/"+name, "now/"+name, was, is), "\n")
	if len(lines) > maxDiff {
		return strings.Join(lines[:maxDiff], ""), fmt.Sprintf("%d more lines of differences", len(lines)-maxDiff)
	}
	return strings.Join(lines, ""), ""
}
