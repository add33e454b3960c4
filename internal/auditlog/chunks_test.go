package auditlog_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

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

// read says what a stream holds: "number:text" for each record, "number!why" for
// what was passed over, and the error.
func read(in io.Reader, quoted bool) (out []string, offset int64, err error) {
	r, done, err := auditlog.Open(in)
	if err != nil {
		return nil, 0, err
	}
	defer done()
	for c, err := range auditlog.Chunks(r, 0, 1, quoted) {
		if err != nil {
			return out, c.Offset, err
		}
		offset = c.Offset
		if c.Reject != "" {
			out = append(out, fmt.Sprintf("%d!%s", c.Line.Number(), c.Reject))
		}
		for n, record := range c.Records(quoted) {
			out = append(out, fmt.Sprintf("%d:%s", c.Line.Next(n).Number(), record))
		}
		c.Free()
	}
	return out, offset, nil
}

func TestChunks(t *testing.T) {
	long := strings.Repeat("x", auditlog.MaxLine)
	huge := strings.Repeat("y", 5<<20)
	for _, tt := range []struct {
		name   string
		in     []byte
		quoted bool
		want   []string
		err    string
	}{
		{"empty", nil, false, nil, ""},
		{"plain", []byte("a\nb\n"), false, []string{"1:a", "2:b"}, ""},
		{"no last newline", []byte("a\r\n\n  \nb"), false, []string{"1:a", "4:b"}, ""},
		{"gzip", gz("a\nb\n"), false, []string{"1:a", "2:b"}, ""},
		{"zstd", zst("a\nb\n"), false, []string{"1:a", "2:b"}, ""},
		{"two gzip members", append(gz("a\n"), gz("b\n")...), false, []string{"1:a", "2:b"}, ""},
		{"a long line", []byte(long[:1000] + "\nb\n"), false, []string{"1:" + long[:1000], "2:b"}, ""},
		{"far too long", []byte("a\n" + huge + "\nb\n"), false, []string{"1:a", "2!record is longer than", "3:b"}, ""},
		{"far too long at the end", []byte("a\n" + huge), false, []string{"1:a", "2!record is longer than"}, ""},
		{"quoted", []byte("a,\"b\nc\"\nd\n"), true, []string{"1:a,\"b\nc\"", "3:d"}, ""},
		{"a quote that never closes", []byte("a,\"b\nc\nd\n"), true, []string{"1:a,\"b\nc\nd\n"}, ""},
		{"cut gzip", gz(strings.Repeat("abcdefgh\n", 3000))[:60], false, nil, "unexpected EOF"},
		{"cut zstd", zst("a\nb\nc\n")[:10], false, nil, "unexpected EOF"},
		{"gzip header only", []byte{0x1f, 0x8b, 0, 0}, false, nil, "gzip"},
	} {
		for how, in := range map[string]io.Reader{"at once": bytes.NewReader(tt.in),
			"in halves":     iotest.HalfReader(bytes.NewReader(tt.in)),
			"with the data": iotest.DataErrReader(bytes.NewReader(tt.in))} {
			got, offset, err := read(in, tt.quoted)
			if tt.err != "" {
				if err == nil || !strings.Contains(err.Error(), tt.err) {
					t.Errorf("%s %s: %v, want %q", tt.name, how, err, tt.err)
				}
				continue
			}
			ok := err == nil && len(got) == len(tt.want)
			for i := 0; ok && i < len(got); i++ {
				ok = got[i] == tt.want[i] || strings.Contains(tt.want[i], "!") && strings.HasPrefix(got[i], tt.want[i])
			}
			if !ok {
				t.Errorf("%s %s: %.200q, %v; want %.200q", tt.name, how, got, err, tt.want)
			}
			if len(tt.in) > 0 && tt.in[0] < 0x80 && tt.in[0] != 0x1f && tt.in[0] != 0x28 &&
				offset != int64(len(tt.in)) {
				t.Errorf("%s %s: ends at %d of %d", tt.name, how, offset, len(tt.in))
			}
		}
	}
}

func TestArrayLines(t *testing.T) {
	for _, tt := range []struct{ in, want, err string }{
		{`[{"a": 1}, {"b": [2]}]`, "{\"a\":1}\n{\"b\":[2]}\n", ""},
		{" \n[]", "", ""},
		{`[{"a":1},{"b"`, "{\"a\":1}\n", "JSON array"},
		{`[{"a":1} x`, "{\"a\":1}\n", "JSON array"},
	} {
		if !auditlog.IsArray([]byte(tt.in)) {
			t.Errorf("%q is no array", tt.in)
		}
		got, err := io.ReadAll(auditlog.ArrayLines(strings.NewReader(tt.in)))
		if string(got) != tt.want || (err == nil) != (tt.err == "") || err != nil &&
			!strings.Contains(err.Error(), tt.err) {
			t.Errorf("%q: %q, %v", tt.in, got, err)
		}
	}
}

func TestParseTime(t *testing.T) {
	for _, tt := range []struct {
		in   string
		want int64
	}{
		{"2026-11-24T08:00:00Z", 1795507200000}, {"2026-11-24T08:00:00.123456789Z", 1795507200123},
		{"2024-02-29T00:00:00.5Z", 1709164800500}, {"2026-11-24T09:00:00+01:00", 1795507200000},
		{"2026-11-24 08:00:00.123 UTC", 1795507200123}, {"2026-11-24T08:00:00.123456+0000", 1795507200123},
		{"2026-11-24 10:00:00+02", 1795507200000},
		{"2023-02-29T00:00:00Z", 0}, {"2026-13-01T00:00:00Z", 0}, {"2026-11-24T24:00:00Z", 0},
		{"0001-01-01T00:00:00Z", 0}, {"9999-12-31T00:00:00Z", 0}, {"2026-11-24 08:00:00 CET", 0}, {"now", 0}, {"", 0},
		{"2026-11-24T08:00:00.Z", 0}, {"2026-11-24T08:00:00.1x5Z", 0},
	} {
		got, err := auditlog.ParseTime([]byte(tt.in))
		if got != tt.want || (err == nil) != (tt.want != 0) {
			t.Errorf("ParseTime(%q) = %d, %v; want %d", tt.in, got, err, tt.want)
		}
	}
}

// FuzzParseTime holds the form that is read by hand against package time.
func FuzzParseTime(f *testing.F) {
	f.Add("2026-11-24T08:00:00.123Z")
	f.Add("2024-02-29T23:59:59Z")
	f.Fuzz(func(t *testing.T, s string) {
		got, err := auditlog.ParseTime([]byte(s))
		want, werr := time.Parse(time.RFC3339Nano, s)
		if werr == nil && want.Year() >= 1991 && want.Year() < 2199 && (err != nil || got != want.UnixMilli()) {
			t.Fatalf("%q: %d, %v; want %d", s, got, err, want.UnixMilli())
		}
		if err == nil && strings.HasSuffix(s, "Z") && strings.Contains(s, "T") && werr != nil {
			t.Fatalf("%q is read as %d, and is no RFC 3339: %v", s, got, werr)
		}
	})
}

// FuzzChunks: however the bytes come and are packed, the records are the same, and
// together with what was passed over they account for everything.
func FuzzChunks(f *testing.F) {
	for _, s := range []string{"a\nb", "\x00", "\x1f\x8b", "(\xb5/\xfd", "\xff\n", "a,\"b\nc\"\n"} {
		f.Add([]byte(s), true)
		f.Add([]byte(s), false)
	}
	f.Fuzz(func(t *testing.T, in []byte, quoted bool) {
		plain, _, err := read(bytes.NewReader(in), quoted)
		if bytes.HasPrefix(in, []byte{0x1f, 0x8b}) || bytes.HasPrefix(in, []byte{0x28, 0xb5, 0x2f, 0xfd}) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		packed, _, err := read(bytes.NewReader(gz(string(in))), quoted)
		halves, _, err2 := read(iotest.OneByteReader(bytes.NewReader(in)), quoted)
		if err != nil || err2 != nil || strings.Join(plain, "|") != strings.Join(packed, "|") ||
			strings.Join(plain, "|") != strings.Join(halves, "|") {
			t.Fatalf("%q: plain %q, packed %q, byte by byte %q", in, plain, packed, halves)
		}
	})
}
