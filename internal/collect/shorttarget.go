package collect

import (
	"strings"
)

// maxTarget is the longest path of a piece of evidence below its system's folder, in bytes. A system may have longer ones: in the
// archive the names of several systems must fit below each other, and most disks take 4096 in all.
const maxTarget = 700

// shortTarget gives a path that is not too long: the folders in its middle give way to a piece of the hash of the whole.
func shortTarget(target string) string {
	if len(target) <= maxTarget {
		return target
	}
	first, rest, _ := strings.Cut(target, "/")
	last := rest[strings.LastIndexByte(rest, '/')+1:]
	keep := rest[:maxTarget-len(last)-2*maxElement]
	keep = keep[:max(0, strings.LastIndexByte(keep, '/'))]
	return first + "/" + strings.TrimPrefix(keep+"/", "/") + "%~" + hashPiece(target) + "/" + last
}
