//go:build unix

package snapshot

import (
	"os"
	"syscall"
)

// mapFile maps a file for reading; pages come when they are touched.
func mapFile(f *os.File, size int64) (data []byte, unmap func() error, err error) {
	data, err = syscall.Mmap(int(f.Fd()), 0, int(size), syscall.PROT_READ, syscall.MAP_SHARED)
	return data, func() error { return syscall.Munmap(data) }, err
}
