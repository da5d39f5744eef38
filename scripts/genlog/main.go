// Genlog writes a made-up gate log of so many MiB to standard output, as a stream, the same each time. Every fifth line
// holds something to be found, or each with the third word dense. With the third word requests it is a log of requests instead,
// with ids and sizes of chance: it packs to a quarter, not to a sixth.
package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"time"
)

func main() {
	mib, err := strconv.Atoi(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, "genlog MIB [SEED [dense|requests]]")
		os.Exit(2)
	}
	seed := uint64(1)
	if len(os.Args) > 2 {
		seed, _ = strconv.ParseUint(os.Args[2], 10, 64)
	}
	dense := len(os.Args) > 3 && os.Args[3] == "dense" // something to be found in every line
	requests := len(os.Args) > 3 && os.Args[3] == "requests"
	r := rand.New(rand.NewPCG(seed, 2))
	w := bufio.NewWriterSize(os.Stdout, 1<<20)
	defer w.Flush()
	t := time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)
	for n := 0; n < mib<<20; {
		t = t.Add(time.Duration(r.IntN(40)) * time.Millisecond)
		at := t.Format("2006-01-02T15:04:05.000Z")
		var m int
		x := r.IntN(100)
		if dense {
			x = 80 + x/5
		}
		switch {
		case requests:
			m = request(w, r, at, x)
		case x < 60:
			m, _ = fmt.Fprintf(w, "%s INFO  pass  [reader-%d] pass OT%08d accepted zone=%d lane=%d in %d ms\n", at, x%3,
				r.IntN(1e8), x%4, x%2, r.IntN(90))
		case x < 80:
			m, _ = fmt.Fprintf(w, "%s DEBUG door  [lane-%d] cycle %d open=%dms close=%dms current=1.%dA\n", at, x%2,
				r.IntN(1e6), 380+x, 410+x, x%10)
		case x < 95:
			m, _ = fmt.Fprintf(w, "%s INFO  link  heartbeat to 192.0.2.%d ok rtt=%dms queue=%d\n", at, r.IntN(250), x, x%4)
		case x < 98:
			m, _ = fmt.Fprintf(w, "%s INFO  pass  operator=m.quintela checked mail passenger.%d@merrowick.example\n", at, r.IntN(5000))
		default:
			m, _ = fmt.Fprintf(w, "%s WARN  auth  token refresh token=tpg_%016x expires_in=3600\n", at, r.Uint64N(4000))
		}
		n += m
	}
}

var (
	paths  = []string{"/v2/gates/%d/state", "/v2/passes/%d", "/v2/manifests/%d/boarded", "/v2/lanes/%d/queue", "/health/%d"}
	people = []string{"m.quintela", "a.dias", "t.vaz", "r.faria"}
)

func request(w *bufio.Writer, r *rand.Rand, at string, x int) int {
	n, _ := fmt.Fprintf(w, "%s INFO [worker-%d] gate.http.Server request=%016x span=%08x GET ", at, x%8, r.Uint64(), r.Uint32())
	m, _ := fmt.Fprintf(w, paths[x%len(paths)], r.IntN(1e5))
	k, _ := fmt.Fprintf(w, " status=%d bytes=%d took=%d.%03dms from=192.0.2.%d", 200+x%5*(x%11), r.IntN(90_000), r.IntN(90),
		r.IntN(1000), r.IntN(250))
	n += m + k
	if x < 5 {
		m, _ = fmt.Fprintf(w, " user=%s mail=%s@merrowick.example", people[x%4], people[x%4])
		n += m
	}
	_ = w.WriteByte('\n')
	return n + 1
}
