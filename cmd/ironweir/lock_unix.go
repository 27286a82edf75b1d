//go:build unix

package main

import (
	"os"
	"syscall"
)

// lockFile locks a file for this process, until it is closed; an error: another one has locked it.
func lockFile(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }
