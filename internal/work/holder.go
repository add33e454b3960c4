package work

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// holder names this process among all of all machines: host, process id, and when it
// began, since ids come again.
func holder() string {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	return fmt.Sprintf("process %d on %s, begun %s", os.Getpid(), host, begun(os.Getpid()))
}

// alive reports whether a holder may still be at work: false only for a process of this
// machine that is gone.
func alive(who string) bool {
	rest, ok := strings.CutPrefix(who, "process ")
	id, rest, found := strings.Cut(rest, " on ")
	host, since, timed := strings.Cut(rest, ", begun ")
	here, err := os.Hostname()
	pid, perr := strconv.Atoi(id)
	if !ok || !found || !timed || err != nil || perr != nil || host != here || since == "" {
		return true // another machine's, or one that tells nothing: its lease runs out
	}
	return begun(pid) == since
}

// begun returns when a process began, as the system counts it; "" where that is not told.
func begun(pid int) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	// The name in parentheses may hold anything; the time is the 20th field behind it
	// (proc(5), starttime).
	_, rest, ok := strings.Cut(string(data[strings.LastIndexByte(string(data), ')')+1:]), " ")
	if f := strings.Fields(rest); ok && len(f) > 19 {
		return f[19]
	}
	return ""
}
