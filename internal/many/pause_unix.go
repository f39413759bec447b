//go:build unix

package many

import "syscall"

// Pause stops a service's process until Resume.
func (f *Fleet) Pause(k int) error { return syscall.Kill(f.list[k].PID(), syscall.SIGSTOP) }

// Resume continues a service's process after Pause.
func (f *Fleet) Resume(k int) error { return syscall.Kill(f.list[k].PID(), syscall.SIGCONT) }
