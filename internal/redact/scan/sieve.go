package scan

import (
	"math/bits"
	"slices"
	"strings"
	"sync"

	"envask/internal/redact/chars"
)

// The sieve finds the places in text at which a rule may be asked at all, by what stands around them. It may give places that
// are none, never leave one out. Where the processor has vectors, it looks at 32 places at once.

// How far around a place a context looks, in bytes.
const (
	contextBehind = 3
	contextAhead  = 4
	contextLen    = contextBehind + 1 + contextAhead
)

// context says what may stand at the places from contextBehind bytes before a place to contextAhead behind it; nil is
// anything.
type context [contextLen]*chars.ByteSet

// buckets is how many groups of contexts the sieve tells apart: eight for spaces, eight for other signs, and the last one for
// separators, behind which anything may stand. Contexts of one bucket become one: what stands at each place may then be what
// any of them allows there.
const (
	spaceBuckets    = 8
	otherBuckets    = 8
	separatorBucket = spaceBuckets + otherBuckets
)

// sieve holds contexts in the two forms that are worked with: exactly, for one byte after the other, and by the two halves
// of each byte, for vectors.
type sieve struct {
	exact   [contextLen][256]uint32
	pairs   [1 << 16 / 64]uint64 // of the two bytes before a space: whether any context of spaces allows them
	places  placeTables
	classes [4]nibbles // bytes of keys, separators, other signs, hexadecimal digits and what begins texts
}

// nibbles are the buckets, a bit each, that a low and a high half of a byte allow. The 16 halves stand there twice, since
// vectors of 32 bytes are looked up as two of 16.
type nibbles [2][32]byte

func (n *nibbles) allow(b byte, bucket int) { n.allowAll(1<<(b&15), 1<<(b>>4), bucket) }

// allowAll allows some low halves and some high ones, a bit each.
func (n *nibbles) allowAll(lo, hi uint16, bucket int) {
	for half := range 16 {
		low, high := uint8(lo>>half&1)<<bucket, uint8(hi>>half&1)<<bucket
		n[0][half], n[0][16+half] = n[0][half]|low, n[0][16+half]|low
		n[1][half], n[1][16+half] = n[1][half]|high, n[1][16+half]|high
	}
}

// placeTables are those of the places of a context: for spaces those before it, and for others those of otherPlaces.
type placeTables struct {
	space [contextBehind]nibbles
	other [5]nibbles
}

// otherPlaces are the places of a context that tell others: the rest leaves out too little for what it costs.
var otherPlaces = [len(placeTables{}.other)]int{contextBehind - 2, contextBehind - 1, contextBehind, contextBehind + 1, contextBehind + 3}

// newSieve makes a sieve of contexts. Each goes into the bucket where it widens what is let through least; families of
// contexts share some buckets.
func newSieve(spaces []context, others []family, signs []byte) *sieve {
	s := &sieve{classes: [4]nibbles{keyClasses(), signClasses(signs), signClasses([]byte(otherSigns)), hexClasses()}}
	s.add(0, family{spaces, spaceBuckets})
	first := spaceBuckets
	for _, f := range others {
		s.add(first, f)
		first += f.buckets
	}
	for p := range s.exact {
		for b := range 256 {
			if p != contextBehind || slices.Contains(signs, byte(b)) {
				s.exact[p][b] |= 1 << separatorBucket
			}
		}
	}
	for _, c := range spaces {
		var last [4]uint64
		for b := range 256 {
			if c[contextBehind-1].Has(b) {
				last[b>>6] |= 1 << (b & 63)
			}
		}
		for before := range 256 {
			if c[contextBehind-2].Has(before) {
				for i, bits := range last {
					s.pairs[before<<2|i] |= bits
				}
			}
		}
	}
	return s
}

// spaceFits says whether a space may fit a context by what stands before it. Most do not, and this is told faster than by fits.
func (s *sieve) spaceFits(b []byte, at int) bool {
	pair := uint16(b[at-2])<<8 | uint16(b[at-1])
	return s.pairs[pair>>6]&(1<<(pair&63)) != 0
}

// family is contexts that share some buckets.
type family struct {
	contexts []context
	buckets  int
}

func (s *sieve) add(first int, f family) {
	shapes := make([]bucketShape, f.buckets)
	var anything [contextLen]uint32 // the buckets that allow any byte there
	for _, c := range f.contexts {
		shape := shapeOf(c)
		best, least := 0, -1.0
		var grownBest bucketShape
		for k := range shapes {
			grown := shapes[k]
			grown.join(&shape)
			if more := grown.volume - shapes[k].volume; least < 0 || more < least {
				best, least, grownBest = k, more, grown
			}
		}
		shapes[best] = grownBest
		bit := uint32(1) << (first + best)
		for p, set := range c {
			if set == nil {
				anything[p] |= bit
				continue
			}
			for b := range set {
				if set[b] {
					s.exact[p][b] |= bit
				}
			}
		}
	}
	for p, bits := range anything {
		for b := range s.exact[p] {
			s.exact[p][b] |= bits
		}
	}
	for k := range shapes {
		s.tell(first+k, &shapes[k])
	}
}

// tell puts what a bucket allows into the tables for vectors.
func (s *sieve) tell(bucket int, shape *bucketShape) {
	if bucket < spaceBuckets {
		for p := range s.places.space {
			s.places.space[p].allowAll(shape.lo[p], shape.hi[p], bucket)
		}
		return
	}
	for i, p := range otherPlaces {
		s.places.other[i].allowAll(shape.lo[p], shape.hi[p], bucket-spaceBuckets)
	}
}

// signClasses tell some signs. Those of which low and high halves allow nothing else share a bit.
func signClasses(signs []byte) (n nibbles) {
	bits := map[string]int{}
	for high := range byte(16) {
		var low []byte
		for _, c := range signs {
			if c>>4 == high {
				low = append(low, c&15)
			}
		}
		slices.Sort(low)
		if _, known := bits[string(low)]; !known {
			bits[string(low)] = len(bits)
		}
		for _, l := range low {
			n.allow(high<<4|l, bits[string(low)])
		}
	}
	return n
}

// fits says whether a place with as much before and behind it as contexts look at fits a context.
func (s *sieve) fits(b []byte, at int) bool {
	w := (*[contextLen]byte)(b[at-contextBehind:])
	fit := s.exact[contextBehind][w[contextBehind]]
	if fit&(1<<separatorBucket) != 0 {
		return true
	}
	if fit &= s.exact[2][w[2]] & s.exact[4][w[4]]; fit == 0 {
		return false
	}
	return fit&s.exact[1][w[1]]&s.exact[5][w[5]]&s.exact[0][w[0]]&s.exact[6][w[6]]&s.exact[7][w[7]] != 0
}

// bucketShape is what the contexts of a bucket allow together, by halves of bytes.
type bucketShape struct {
	lo, hi [contextLen]uint16
	part   [contextLen]float64 // how much of usual text has a byte that is allowed, for each place
	volume float64             // how much of usual text the shape lets through: the product of these
}

func shapeOf(c context) (s bucketShape) {
	for p, set := range c {
		if set == nil {
			s.lo[p], s.hi[p] = 1<<16-1, 1<<16-1
			continue
		}
		for b := range set {
			if set[b] {
				s.lo[p] |= 1 << (b & 15)
				s.hi[p] |= 1 << (b >> 4)
			}
		}
	}
	return s
}

// join lets through what another shape does, too.
func (s *bucketShape) join(other *bucketShape) {
	common := usual()
	s.volume = 1
	for p := range s.lo {
		lo, hi := s.lo[p]|other.lo[p], s.hi[p]|other.hi[p]
		if lo != s.lo[p] || hi != s.hi[p] {
			s.lo[p], s.hi[p], s.part[p] = lo, hi, 1
			if lo&hi != 1<<16-1 {
				s.part[p] = shareOf(common, lo, hi)
			}
		}
		s.volume *= s.part[p]
	}
}

func shareOf(common *[256]float64, lo, hi uint16) (sum float64) {
	for ; hi != 0; hi &= hi - 1 {
		row := common[bits.TrailingZeros16(hi)<<4:]
		for l := lo; l != 0; l &= l - 1 {
			sum += row[bits.TrailingZeros16(l)]
		}
	}
	return sum
}

// usual is how common bytes are in logs, learned from a few lines.
var usual = sync.OnceValue(func() *[256]float64 {
	common := new([256]float64)
	const sample = `2026-03-14T06:12:00.123Z INFO  pass [reader-1] pass accepted zone=2 lane=1 in 87 ms
Mar 14 06:12:01 gate-1 boardingd[4112]: heartbeat to 192.0.2.30:8080 ok, rtt=94ms queue=2 (link up)
{"time":"2026-03-14T06:12:02Z","level":"WARN","message":"Response delayed by the Terminal","status":503}
192.0.2.11 - - [14/Mar/2026:06:12:03 +0000] "GET /api/v1/zones?limit=50 HTTP/1.1" 200 5316
ERROR org.example.gate.TicketService - No answer; retry 3 of 5 at TicketService.java:217
`
	for i := range common {
		common[i] = 0.0002
	}
	for i := range len(sample) {
		common[sample[i]] += 1.0 / float64(len(sample))
	}
	return common
})

// sieveChunk is how many bytes are looked at in one go: their bits stay near.
const sieveChunk = 8 << 10

// chunkRow has a bit for each byte of a chunk.
type chunkRow [chunkRowSize / 8]uint64

// classRow has words around those of a chunk, too, for what looks around.
type classRow [classRowSize / 8]uint64

// How long the rows are, in bytes; the kernels need it, too.
const (
	chunkRowSize = sieveChunk / 8
	classRowSize = sieveChunk/8 + 64
)

// The classes.
const (
	keyClass = iota
	digitClass
	capitalClass
	separatorClass
	signClass
	hexClass
	colonClass
	equalsClass
	dashClass
	dotClass
	commaClass
	quoteClass // of what else begins texts, too, see TextSigns
	classCount
)

// keyClasses tell bytes of keys, each bit with low and high halves whose every pair belongs to it: A to O, P to Z, _, a to o,
// p to z, the two signs, digits, and what is beyond ASCII.
func keyClasses() (n nibbles) {
	for c := range 256 {
		switch b := byte(c); {
		case b >= 'P' && b <= 'Z':
			n.allow(b, 1)
		case chars.IsUpper(b):
			n.allow(b, 0)
		case b == '_':
			n.allow(b, 2)
		case b >= 'p' && b <= 'z':
			n.allow(b, 4)
		case b >= 'a' && b <= 'z':
			n.allow(b, 3)
		case b == '-' || b == '.':
			n.allow(b, 5)
		case chars.IsDigit(b):
			n.allow(b, 6)
		case b >= 0x80:
			n.allow(b, 7)
		}
	}
	return n
}

// hexClasses tell hexadecimal digits, and in bits of their own what begins texts.
func hexClasses() (n nibbles) {
	rest := 3
	for c := range 256 {
		switch b := byte(c); {
		case chars.IsDigit(b):
			n.allow(b, 0)
		case chars.IsHex(b):
			n.allow(b, 1)
		case strings.IndexByte(TextSigns, b) >= 0 && b>>4 == 2:
			n.allow(b, 2)
		case strings.IndexByte(TextSigns, b) >= 0: // each by itself: what is of one bit is told by its halves
			n.allow(b, rest)
			rest++
		}
	}
	return n
}

// otherSigns are the others, which need more to be looked at.
const otherSigns = `()[/\%&{*ABJ_-.+?` + "\xef"

// wordTable remembers words of one to eight bytes, as numbers, by their hash: those that announce nothing, which most words of a
// log do. The newer of two with the same hash stays.
type wordTable [1 << 10]uint64

// TextSigns are those with which texts are given away: quotes, and what control characters begin with, see control.
const TextSigns = "\"'#\x1b%&`<"

// What is sifted: signs of each kind at which a rule may find something, and the hot places of numbers.
const (
	separatorSifted = iota // other than equals signs
	dashSifted
	dotSifted
	otherSifted
	cardSifted
	accountSifted
	siftedCount
)
