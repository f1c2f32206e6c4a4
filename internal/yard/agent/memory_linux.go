package agent

import "syscall"

// limitMemory lets the system refuse what is more than scripts may take at once, before anybody
// can look.
func limitMemory() {
	limit := syscall.Rlimit{Cur: 3 * most, Max: 3 * most}
	_ = syscall.Setrlimit(syscall.RLIMIT_DATA, &limit)
	none := syscall.Rlimit{}
	_ = syscall.Setrlimit(syscall.RLIMIT_CORE, &none)
	_ = syscall.Setrlimit(syscall.RLIMIT_FSIZE, &none) // it writes no file
}
