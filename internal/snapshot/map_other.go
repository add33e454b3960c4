//go:build !unix

package snapshot

import (
	"io"
	"os"
)

// mapFile reads a file where it cannot be mapped.
func mapFile(f *os.File, size int64) (data []byte, unmap func() error, err error) {
	data = make([]byte, size)
	_, err = f.ReadAt(data, 0)
	if err == io.EOF {
		err = nil
	}
	return data, func() error { return nil }, err
}
