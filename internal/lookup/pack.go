package lookup

import (
	"errors"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// mostPacked bounds what one frame may unfold to, in bytes.
const mostPacked = 1 << 32

var (
	packer = sync.OnceValues(func() (*zstd.Encoder, error) {
		return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	})
	unpacker = sync.OnceValues(func() (*zstd.Decoder, error) {
		return zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostPacked))
	})
)

// Pack writes bytes as one Zstandard frame (RFC 8878).
func Pack(b []byte) ([]byte, error) {
	z, err := packer()
	if err != nil {
		return nil, err
	}
	return z.EncodeAll(b, nil), nil
}

// Unpack reads what [Pack] wrote; [ErrDamaged].
func Unpack(b []byte) ([]byte, error) {
	z, err := unpacker()
	if err != nil {
		return nil, err
	}
	out, err := z.DecodeAll(b, nil)
	if err != nil {
		err = errors.Join(ErrDamaged, err)
	}
	return out, err
}
