package standin

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// runsOnGate answers what a gate is asked about what runs on it, as the shell of a Linux host would: the gate's agent, which still holds
// a file open that was deleted, and a database in a container.
func runsOnGate(command string, out io.Writer) (exit int, ok bool) {
	if !strings.Contains(command, "== processes ==") {
		return 0, false
	}
	now := FaultAt.Add(140 * time.Minute) // a moment after its newest line
	container := strings.Repeat("5c1e0b7a9d42", 6)[:64]
	fmt.Fprintf(out, "== now ==\n%d\n%d.00 1.00\n== services ==\ngate-agent.service loaded active running Boarding gate agent\n"+
		"systemd-journald.service loaded active running Journal Service\n", now.Unix(), 26*3600)
	fmt.Fprintf(out, "== processes ==\n812 (gate-agent) S 1 1 1 0 -1 1 0 0 0 0 1 1 0 0 20 0 1 0 %d 1 1\n"+
		"900 (postgres) S 1 1 1 0 -1 1 0 0 0 0 1 1 0 0 20 0 1 0 9000 1 1\n", 100*3600)
	fmt.Fprintf(out, "== groups ==\n/proc/900/cgroup:0::/system.slice/docker-%s.scope\n", container)
	_, err := io.WriteString(out, "== files ==\n/proc/812/fd:\n"+
		"l-wx------ 1 svc svc 64 Mar 14 06:12 3 -> /var/log/boarding/gate.log\n"+
		"l-wx------ 1 svc svc 64 Mar 14 06:12 5 -> /var/log/boarding/agent-start.log\n"+
		"l-wx------ 1 svc svc 64 Mar 14 06:12 4 -> /var/log/boarding/trace.log (deleted)\n== end ==\n")
	return 0, err == nil
}
