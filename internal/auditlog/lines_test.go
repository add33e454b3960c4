package auditlog_test

import (
	"bytes"
	"compress/gzip"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"clipfence/internal/auditlog"
)

func gz(s string) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write([]byte(s))
	w.Close()
	return b.Bytes()
}

func zst(s string) []byte {
	w, _ := zstd.NewWriter(nil)
	return w.EncodeAll([]byte(s), nil)
}

func TestLines(t *testing.T) {
	long := strings.Repeat("x", auditlog.MaxLine)
	for _, tt := range []struct {
		name string
		in   []byte
		want []string // "number text" or "number ! reject"
		err  string
	}{
		{"empty", nil, nil, ""},
		{"plain", []byte("a\nb\n"), []string{"1 a", "2 b"}, ""},
		{"no last newline", []byte("a\r\n\n  \nb"), []string{"1 a", "4 b"}, ""},
		{"gzip", gz("a\nb\n"), []string{"1 a", "2 b"}, ""},
		{"zstd", zst("a\nb\n"), []string{"1 a", "2 b"}, ""},
		{"two gzip members", append(gz("a\n"), gz("b\n")...), []string{"1 a", "2 b"}, ""},
		{"NUL", []byte("a\n\x00b\nc"), []string{"1 a", "2 ! NUL", "3 c"}, ""},
		{"not UTF-8", []byte("\xff\xfe\nb"), []string{"1 ! not UTF-8", "2 b"}, ""},
		{"as long as may be", []byte(long + "\nb\n"), []string{"1 " + long, "2 b"}, ""},
		{"too long", []byte(long + "xyz\nb\n"), []string{"1 ! longer than", "2 b"}, ""},
		{"far too long", []byte(strings.Repeat(long, 5) + "\nb\n"), []string{"1 ! longer than", "2 b"}, ""},
		{"cut gzip", gz(strings.Repeat("abcdefgh\n", 3000))[:60], nil, "unexpected EOF"},
		{"cut zstd", zst("a\nb\nc\n")[:10], nil, "unexpected EOF"},
		{"gzip header only", []byte{0x1f, 0x8b, 0, 0}, nil, "gzip"},
	} {
		i := 0
		var last error
		for l, err := range auditlog.Lines(bytes.NewReader(tt.in)) {
			if last = err; err != nil {
				break
			}
			if tt.err != "" {
				continue
			}
			if i >= len(tt.want) {
				t.Errorf("%s: an extra line %d", tt.name, l.Number)
				break
			}
			num, want, _ := strings.Cut(tt.want[i], " ")
			if rest, bad := strings.CutPrefix(want, "! "); bad {
				if !strings.Contains(l.Reject, rest) {
					t.Errorf("%s: line %d: reject %q, want %q", tt.name, l.Number, l.Reject, rest)
				}
			} else if string(l.Bytes) != want || l.Reject != "" {
				t.Errorf("%s: line %d = %.30q (%s), want %.30q", tt.name, l.Number, l.Bytes, l.Reject, want)
			}
			if num != string('0'+rune(l.Number)) {
				t.Errorf("%s: line number %d, want %s", tt.name, l.Number, num)
			}
			i++
		}
		if tt.err == "" && (last != nil || i != len(tt.want)) || tt.err != "" && (last == nil || !strings.Contains(last.Error(), tt.err)) {
			t.Errorf("%s: %d lines, error %v; want %d, %q", tt.name, i, last, len(tt.want), tt.err)
		}
	}
}

// FuzzLines: however the bytes are packed, the lines and the rejects account for
// them, and packing changes nothing.
func FuzzLines(f *testing.F) {
	for _, s := range []string{"a\nb", "\x00", "\x1f\x8b", "(\xb5/\xfd", "\xff\n"} {
		f.Add([]byte(s))
	}
	f.Add(gz("a\nb"))
	f.Fuzz(func(t *testing.T, in []byte) {
		collect := func(b []byte) (out []string) {
			for l, err := range auditlog.Lines(bytes.NewReader(b)) {
				if err != nil {
					return append(out, "error")
				}
				if bytes.ContainsAny(l.Bytes, "\n\x00") && l.Reject == "" {
					t.Fatalf("line %q", l.Bytes)
				}
				out = append(out, string(l.Bytes)+"|"+l.Reject)
			}
			return out
		}
		plain := collect(in)
		if bytes.HasPrefix(in, []byte{0x1f, 0x8b}) || bytes.HasPrefix(in, []byte{0x28, 0xb5, 0x2f, 0xfd}) {
			return
		}
		if packed := collect(gz(string(in))); strings.Join(plain, "\n") != strings.Join(packed, "\n") {
			t.Fatalf("%q: plain %q, packed %q", in, plain, packed)
		}
	})
}
