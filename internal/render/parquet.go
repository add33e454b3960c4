package render

import (
	"errors"
	"io"

	parquet "github.com/parquet-go/parquet-go"
)

// Parquet writes rows as a Parquet file, with the columns that the fields' parquet
// tags name.
func Parquet[T any](w io.Writer, rows []T) error {
	p := parquet.NewGenericWriter[T](w, parquet.Compression(&parquet.Zstd))
	_, err := p.Write(rows)
	return errors.Join(err, p.Close())
}
