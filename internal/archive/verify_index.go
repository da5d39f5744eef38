package archive

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
)

// index is what is known of each file of an archive: no name and no checksum, only hashes of them under a seed of this run, so that
// nobody can make two of one hash. Files are kept in buckets by their hashes, each sorted when it is looked into.
type index struct {
	seed    maphash.Seed
	sum     *besideHash
	buckets [buckets][]seen
	sorted  [buckets]bool
	n       int
	late    bool // a file came after a list was read
	listed  bool // a list was read
	sums    bool // the list of checksums was
	parents map[uint64]bool
	unknown []unknown
}

const buckets = 1024

// seen is one file.
type seen struct {
	name uint64
	sum  uint64 // of its SHA-256
	size uint32 // the lowest bits
	is   uint8
}

// What a file is, and who named it.
const (
	isCut      = 1 << iota // it could not be read whole
	inSums                 // the list of checksums names it
	inManifest             // the manifest does
	isOurs                 // it is one of Envask's own, which the manifest does not list
	isList                 // it is the list of checksums itself
)

// unknown is a difference of which only the hash of the name is known so far.
type unknown struct {
	key       uint64
	name      string
	what, why string
}

func newIndex() index {
	return index{seed: maphash.MakeSeed(), sum: newBesideHash(), parents: map[uint64]bool{}}
}

func (x *index) key(name string) uint64 { return maphash.String(x.seed, name) }

// parent takes down that a file stands below a folder.
func (x *index) parent(dir string) {
	if len(x.parents) < maxFolders {
		x.parents[x.key(dir)] = true
	}
}

func (x *index) add(name string, size int64, sum [sha256.Size]byte, cut bool) {
	x.late = x.late || x.sums || x.listed && IsEvidence(name)
	f := seen{name: x.key(name), sum: maphash.Bytes(x.seed, sum[:]), size: uint32(size)}
	if cut {
		f.is |= isCut
	}
	if !IsEvidence(name) {
		f.is |= isOurs
	}
	if name == SumsName {
		f.is |= isList
	}
	at := f.name % buckets
	x.buckets[at], x.sorted[at] = append(x.buckets[at], f), false
	x.n++
}

// agrees says whether a file has a checksum, in hex.
func (x *index) agrees(f *seen, sum []byte) bool {
	var raw [sha256.Size]byte
	if n, err := hex.Decode(raw[:], sum[:min(len(sum), 2*len(raw))]); err != nil || n != len(raw) || len(sum) != 2*len(raw) {
		return false
	}
	return f.is&isCut != 0 || f.sum == maphash.Bytes(x.seed, raw[:])
}

// bucket gives the files among which one of a hash is, sorted.
func (x *index) bucket(key uint64) []seen {
	at := key % buckets
	if !x.sorted[at] {
		slices.SortFunc(x.buckets[at], func(a, b seen) int { return cmp.Compare(a.name, b.name) })
		x.sorted[at] = true
	}
	return x.buckets[at]
}

// find gives the file of a name, or nil.
func (x *index) find(name string) *seen {
	key := x.key(name)
	list := x.bucket(key)
	i, ok := slices.BinarySearchFunc(list, key, func(s seen, key uint64) int { return cmp.Compare(s.name, key) })
	if !ok {
		return nil
	}
	return &list[i]
}

// forgetLists forgets what lists said that were read before all files were known.
func (x *index) forgetLists() {
	for b := range x.buckets {
		for i := range x.buckets[b] {
			x.buckets[b][i].is &^= inSums | inManifest
		}
	}
	x.late = false
}

// unlisted finds the files that no list names, and those that are there twice, and says whether there are any.
func (x *index) unlisted() bool {
	x.unknown = nil
	for b := range uint64(buckets) {
		list := x.bucket(b)
		for i := range list {
			s := &list[i]
			if i > 0 && list[i-1].name == s.name {
				x.miss(s.name, "extra", "is there twice")
				continue
			}
			if s.is&(inSums|isList) == 0 {
				x.miss(s.name, "extra", "does not stand in "+SumsName)
			}
			if s.is&(inManifest|isOurs) == 0 {
				x.miss(s.name, "extra", "does not stand in "+ManifestName)
			}
		}
	}
	return len(x.unknown) > 0
}

func (x *index) miss(key uint64, what, why string) {
	if len(x.unknown) < maxListed {
		x.unknown = append(x.unknown, unknown{key: key, what: what, why: why})
	}
}

// tell gives a name to what is unknown.
func (x *index) tell(name string) {
	key := x.key(name)
	for i := range x.unknown {
		if x.unknown[i].key == key {
			x.unknown[i].name = name
		}
	}
}

// lineReader is a list that is read by a goroutine of its own as it is written.
type lineReader struct {
	*io.PipeWriter
	done chan struct{}
}

// readBeside gives a writer whose bytes a function reads; Close waits until it is done. What the function leaves is dropped.
func readBeside(read func(io.Reader)) io.WriteCloser {
	r, w := io.Pipe()
	l := lineReader{w, make(chan struct{})}
	go func() {
		defer close(l.done)
		read(r)
		_, _ = io.Copy(io.Discard, r)
	}()
	return l
}

func (l lineReader) Close() error {
	err := l.PipeWriter.Close()
	<-l.done
	return err
}

// maxSumLine is the longest line of the list of checksums, in bytes.
const maxSumLine = 8 << 10

// newSumsReader reads the list of checksums and holds each line against the file of its name. A list has as many lines as the archive
// has files; one with many more is no list of it.
func newSumsReader(v *verifier) io.WriteCloser {
	return readBeside(func(in io.Reader) {
		br := bufio.NewReaderSize(in, maxSumLine)
		for n := 1; ; n++ {
			line, err := br.ReadSlice('\n')
			if errors.Is(err, bufio.ErrBufferFull) || n > v.index.n+maxListed {
				v.pending = append(v.pending, Difference{SumsName, "changed",
					fmt.Sprintf("line %d: the list is longer than one of these files", n)})
				return
			}
			if len(line) > 0 {
				v.sumLine(n, bytes.TrimSuffix(line, []byte("\n")))
			}
			if err != nil {
				return
			}
		}
	})
}

func (v *verifier) sumLine(n int, line []byte) {
	if v.stage == nameThem {
		return
	}
	r := v.report
	sum, rest, ok := bytes.Cut(line, []byte("  "))
	if !ok || len(rest) == 0 || len(sum) != 2*sha256.Size || len(bytes.Trim(sum, "0123456789abcdef")) > 0 {
		r.differ(SumsName, "changed", fmt.Sprintf("line %d is not a checksum and a name", n))
		return
	}
	name := string(rest)
	s := v.index.find(name)
	switch {
	case s == nil:
		v.missing(name, "stands in "+SumsName+" and is missing")
	case s.is&inSums != 0:
		r.differ(name, "changed", "stands in "+SumsName+" twice")
	default:
		s.is |= inSums
		if !v.index.agrees(s, sum) {
			r.differ(name, "changed", "SHA-256 is not "+string(sum[:16])+"…, as "+SumsName+" says")
		}
	}
}
