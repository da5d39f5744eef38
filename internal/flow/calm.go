package flow

import (
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// Where a run keeps little, the garbage collector must not go through that little again and again; and where it keeps much, memory
// must not double before it starts. So the heap grows freely to calmLimit, and is kept there unless most of that is in use.
const (
	calmLimit   = 64 << 20 // bytes
	calmPercent = 800      // by how much the heap may grow between two collections, below the limit
	calmRoom    = 8 << 20  // bytes that are free at least, beside a quarter of what is in use
)

var calming struct {
	sync.Mutex
	runs    int
	percent int
	limit   int64
}

// calm sets the garbage collector to that until the function that it gives is called.
func calm() (end func()) {
	calming.Lock()
	defer calming.Unlock()
	if calming.runs++; calming.runs == 1 {
		calming.percent = debug.SetGCPercent(calmPercent)
		calming.limit = debug.SetMemoryLimit(calmLimit)
		watch()
	}
	return sync.OnceFunc(func() {
		calming.Lock()
		defer calming.Unlock()
		if calming.runs--; calming.runs == 0 {
			debug.SetGCPercent(calming.percent)
			debug.SetMemoryLimit(calming.limit)
		}
	})
}

// watch raises the limit with what is in use, after each collection: a collector that cannot win would take half of the time.
func watch() {
	type sentinel struct{ _ [16]byte }
	runtime.AddCleanup(&sentinel{}, func(int) {
		calming.Lock()
		defer calming.Unlock()
		if calming.runs == 0 || calming.limit != math.MaxInt64 { // somebody else gave a limit
			return
		}
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		used := int64(live[0].Value.Uint64())
		debug.SetMemoryLimit(max(calmLimit, used+used/4+calmRoom))
		watch()
	}, 0)
}
