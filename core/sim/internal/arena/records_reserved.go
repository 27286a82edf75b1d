//go:build linux || darwin

package arena

import "syscall"

// reserve gives address space of so many bytes, all zero, of which only what is
// touched takes memory; nil: there is none to be had.
func reserve(size int) []byte {
	region, err := syscall.Mmap(
		-1,
		0,
		size,
		syscall.PROT_READ|syscall.PROT_WRITE,
		syscall.MAP_ANON|syscall.MAP_PRIVATE|syscall.MAP_NORESERVE,
	)
	if err != nil {
		return nil
	}
	return region
}

// release gives back what reserve gave.
func release(region []byte) {
	_ = syscall.Munmap(region) // it fails only for what is no such region
}
