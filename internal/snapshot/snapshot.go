package snapshot

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"clipfence/internal/core/access/index"
)

// Errors that callers decide on: both mean that the file is to be made anew.
var (
	// ErrDamaged: the file is no snapshot, or not as it was written.
	ErrDamaged = errors.New("snapshot is damaged")
	// ErrOther: the file is of another survey or version.
	ErrOther = errors.New("snapshot is of another survey or version")
)

const (
	magic   = "CLIPFENCE INDEX\n"
	align   = 64
	maxHead = 1 << 20
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

type column struct {
	Name   string `json:"name"`
	Offset int64  `json:"offset"`
	Length int64  `json:"length"`
	CRC    uint32 `json:"crc32c"`
}

type head struct {
	Key     string   `json:"key"`
	Columns []column `json:"columns"`
}

// Write keeps an index under the key of its survey, in place of whatever is there.
func Write(file, key string, x *index.Index) (err error) {
	h := head{Key: key}
	for name, data := range x.Sections {
		// as long as an offset can be written
		h.Columns = append(h.Columns, column{name, 1 << 50, int64(len(data)), crc32.Checksum(data, castagnoli)})
	}
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	at := up(int64(len(magic) + 8 + len(text) + 4))
	for i := range h.Columns {
		h.Columns[i].Offset = at
		at = up(at + h.Columns[i].Length)
	}
	if text, err = json.Marshal(h); err != nil {
		return err
	}
	begin := binary.LittleEndian.AppendUint32([]byte(magic), index.Version)
	begin = append(binary.LittleEndian.AppendUint32(begin, uint32(len(text))), text...)
	begin = binary.LittleEndian.AppendUint32(begin, crc32.Checksum(text, castagnoli))

	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".snapshot-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}()
	if _, err := f.Write(begin); err != nil {
		return err
	}
	i := 0
	for _, data := range x.Sections {
		if _, err := f.WriteAt(data, h.Columns[i].Offset); err != nil {
			return err
		}
		i++
	}
	if err := f.Truncate(at); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

func up(n int64) int64 { return (n + align - 1) / align * align }

// A File is an open snapshot.
type File struct {
	*index.Index
	data  []byte
	unmap func() error
}

// Close gives the file back; the index must not be used any more.
func (f *File) Close() error { return f.unmap() }

// Open maps a file and checks it: version, key and every checksum.
func Open(file, key string) (_ *File, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	start := make([]byte, len(magic)+8)
	if _, err := io.ReadFull(f, start); err != nil || !bytes.HasPrefix(start, []byte(magic)) {
		return nil, fmt.Errorf("%s: %w: it does not begin like one", file, ErrDamaged)
	}
	if v := binary.LittleEndian.Uint32(start[len(magic):]); v != index.Version {
		return nil, fmt.Errorf("%s: %w (version %d, this program writes %d)", file, ErrOther, v, index.Version)
	}
	n := binary.LittleEndian.Uint32(start[len(magic)+4:])
	if n > maxHead || int64(n)+int64(len(start))+4 > info.Size() {
		return nil, fmt.Errorf("%s: %w: its head is cut off", file, ErrDamaged)
	}
	text := make([]byte, n+4)
	if _, err := io.ReadFull(f, text); err != nil {
		return nil, fmt.Errorf("%s: %w: %w", file, ErrDamaged, err)
	}
	var h head
	if crc32.Checksum(text[:n], castagnoli) != binary.LittleEndian.Uint32(text[n:]) ||
		json.Unmarshal(text[:n], &h) != nil {
		return nil, fmt.Errorf("%s: %w: its head is not as it was written", file, ErrDamaged)
	}
	if h.Key != key {
		return nil, fmt.Errorf("%s: %w", file, ErrOther)
	}
	data, unmap, err := mapFile(f, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	s := &File{data: data, unmap: unmap}
	defer func() {
		if err != nil {
			err = errors.Join(fmt.Errorf("%s: %w", file, err), unmap())
		}
	}()
	columns := map[string][]byte{}
	for _, c := range h.Columns {
		if c.Offset < 0 || c.Length < 0 || c.Offset > int64(len(data)) || c.Length > int64(len(data))-c.Offset {
			return nil, fmt.Errorf("%w: column %s is cut off", ErrDamaged, c.Name)
		}
		columns[c.Name] = data[c.Offset : c.Offset+c.Length : c.Offset+c.Length]
	}
	if bad := check(h.Columns, columns); bad != "" {
		return nil, fmt.Errorf("%w: column %s is not as it was written", ErrDamaged, bad)
	}
	s.Index, err = index.Load(func(name string) ([]byte, bool) { b, ok := columns[name]; return b, ok })
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return s, nil
}

// check returns the name of a column whose checksum does not hold, or "".
func check(list []column, data map[string][]byte) string {
	work := make(chan column)
	var mu sync.Mutex
	var wg sync.WaitGroup
	bad := ""
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for c := range work {
				if crc32.Checksum(data[c.Name], castagnoli) != c.CRC {
					mu.Lock()
					bad = c.Name
					mu.Unlock()
				}
			}
		})
	}
	for _, c := range list {
		work <- c
	}
	close(work)
	wg.Wait()
	return bad
}
