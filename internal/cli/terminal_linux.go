package cli

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// terminalKey names the terminal in which the program runs: its session, and when that began, since numbers are used again. "" is none.
func terminalKey(asks bool) string {
	sid, err := unix.Getsid(0)
	if err != nil || !asks {
		return ""
	}
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", sid))
	if err != nil {
		return ""
	}
	text := string(data)
	fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:]) // the name before may hold anything
	const started = 19                                                  // of the fields behind the name (proc(5))
	if len(fields) <= started {
		return ""
	}
	return fmt.Sprintf("%d-%s", sid, fields[started])
}
