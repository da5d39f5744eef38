package window

import (
	_ "embed" // of the table
	"strings"
	"sync"
	"time"
)

//go:embed windowszones.txt
var windowsZones string

var windowsTable = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	for _, l := range strings.Split(windowsZones, "\n") {
		if name, zone, ok := strings.Cut(l, "\t"); ok {
			out[strings.ToLower(name)] = zone
		}
	}
	return out
})

// WindowsZone gives the zone that Windows calls by a name, such as "GMT Standard Time" (what tzutil /g prints); nil for one that is not
// known. With daylight saving switched off ("…_dstoff") it is the zone's plain time, which the tz database has no name for: nil too.
func WindowsZone(name string) *time.Location {
	zone, ok := windowsTable()[strings.ToLower(strings.TrimSpace(name))]
	if !ok {
		return nil
	}
	z, err := time.LoadLocation(zone)
	if err != nil {
		return nil
	}
	return z
}
