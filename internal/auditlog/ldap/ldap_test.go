package ldap_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/ldap"
	"clipfence/internal/core/model"
)

// fold reads LDIF as a survey does and counts what comes out; skipped and faults by why.
func fold(t testing.TB, in io.Reader) (calls, skipped map[string]int, faults []string) {
	calls, skipped = map[string]int{}, map[string]int{}
	lines := ldap.Lines(in)
	defer lines.Close()
	f := ldap.New("dir")
	s := bufio.NewScanner(lines)
	s.Buffer(nil, auditlog.MaxLine)
	for s.Scan() {
		if !f.Sniff(s.Bytes()) {
			t.Fatalf("not known again: %s", s.Bytes())
		}
		err := f.Parse(s.Bytes(), func(e *auditlog.Event) error {
			if _, err := model.ParsePath(string(e.Path)); err != nil {
				return err // set aside, as a survey does
			}
			calls[fmt.Sprintf("%s\t%s\t%s\t%s", e.Who.Text, e.Operation, e.Path, e.Outcome)]++
			return nil
		})
		var skip *auditlog.Skip
		if errors.As(err, &skip) {
			skipped[skip.Why]++
		} else if err != nil {
			faults = append(faults, err.Error())
		}
	}
	if err := s.Err(); err != nil {
		faults = append(faults, err.Error())
	}
	return calls, skipped, faults
}

// TestOpenLDAP: 1,331 entries that slapd 2.5 wrote of what was done, as the file beside
// them says: who did what to which entry, how it ended and how often.
func TestOpenLDAP(t *testing.T) {
	file, err := os.Open("testdata/openldap25.ldif.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	z, err := gzip.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	got, skipped, faults := fold(t, z)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	// who made the entries
	maps.DeleteFunc(got, func(k string, _ int) bool { return strings.HasPrefix(k, "cn=admin,") })
	truth, err := os.ReadFile("testdata/openldap25.tsv")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int{}
	for line := range strings.Lines(string(truth)) {
		x := strings.Split(strings.TrimRight(line, "\n"), "\t")
		var path strings.Builder
		path.WriteString("/dir")
		rdns := strings.Split(x[2], ",")
		for _, r := range slices.Backward(rdns) {
			k, v, _ := strings.Cut(r, "=")
			path.WriteString("/" + k + ":" + v)
		}
		op := "ldap/entry:" + x[1]
		switch {
		case x[1] == "bind":
			op = "ldap/session:open"
		case x[1] == "passwd", x[1] == "modify" && x[0] == x[2]: // by either operation
			op = "ldap/password:change"
		}
		n, err := strconv.Atoi(x[4])
		if err != nil {
			t.Fatal(err)
		}
		want[strings.Join([]string{x[0], op, path.String(), x[3]}, "\t")] += n
	}
	for k := range maps.Keys(want) {
		if got[k] != want[k] {
			t.Errorf("%s: %d, want %d", k, got[k], want[k])
		}
	}
	for k, n := range got {
		if want[k] == 0 {
			t.Errorf("%s: %d that nobody did", k, n)
		}
	}
	if skipped["unbind asks for nothing"] != 424 || skipped["bind that failed: nobody is known by it"] == 0 {
		t.Errorf("skipped: %v", skipped)
	}
}

// TestEntries: what else may stand in such a file.
func TestEntries(t *testing.T) {
	const head = "dn: reqStart=20261126015234.000009Z,cn=accesslog\nreqStart: 20261126015234.000009Z\nreqSession: 7\n"
	for _, tt := range []struct{ name, in, want string }{
		{"folded, base64, a comma in a name, an umlaut", "version: 1\n\n# accesslog\n#  goes on\n" + head +
			"reqType: delete\nreqAuthzID: cn=Moen\\, Bo,ou=peo\n ple,dc=x\nreqDN:: Y249w5h5ZSxkYz14\nreqResult: 0\n\n",
			"cn=moen\\, bo,ou=people,dc=x\tldap/entry:delete\t/dir/dc:x/cn:%C3%B8ye\tdone"},
		{"two in an RDN, hostile words", head +
			"reqType: add\nreqAuthzID: cn=everyone\nreqDN: cn=a/b:*+sn=..,dc=x\nreqResult: 50\n",
			"cn=everyone\tldap/entry:add\t/dir/dc:x/cn:a%2Fb%3A%2A+sn=..\trefused"},
		{"a password and more", head +
			"reqType: modify\nreqAuthzID: cn=a\nreqDN: cn=b\nreqResult: 0\nreqMod: userPassword:= secret\n" +
			"reqMod: cn;lang-en:+ x\nreqMod: entryCSN:= 1\n",
			"cn=a\tldap/password:change\t/dir/cn:b\tdone|cn=a\tldap/entry:modify\t/dir/cn:b\tdone"},
		{"anybody", head + "reqType: search\nreqAuthzID:\nreqDN:\nreqResult: 0\n", "\tldap/entry:search\t/dir\tdone"},
		{"an extended operation", head +
			"reqType: extended{1.3.6.1.4.1.4203.1.11.3}\nreqAuthzID: cn=a\nreqDN:\nreqResult: 0\n",
			"cn=a\textended{1.3.6.1.4.1.4203.1.11.3}\t/dir\tdone"},
		{"windows lines and a byte order mark", "\ufeff" +
			strings.ReplaceAll(head+"reqType: compare\nreqAuthzID: cn=a\nreqDN: cn=b\nreqResult: 6\n\n", "\n", "\r\n"),
			"cn=a\tldap/entry:compare\t/dir/cn:b\tdone"},
		{"no operation", "dn: cn=accesslog\nobjectClass: auditContainer\ncn: accesslog\n", ""},
		{"binds that prove nobody", head + "reqType: bind\nreqAuthzID:\nreqDN: cn=a\nreqResult: 49\n\n" + head +
			"reqType: bind\nreqAuthzID:\nreqDN:\nreqResult: 0\n", ""},
		{"no result", head + "reqType: add\nreqDN: cn=b\n", "LDIF at line 1: reqResult"},
		{"no time", "\n\ndn: x\nreqType: add\nreqStart: yesterday\n",
			"LDIF at line 3: reqStart \"yesterday\" is no time"},
		{"no name", head + "reqType: add\nreqAuthzID: cn=a\nreqDN: ,,\nreqResult: 0\n",
			"LDIF at line 1: reqDN: \",,\" is no distinguished name"},
		{"no LDIF", head + "what\n", "LDIF at line 1: not LDIF"},
	} {
		calls, _, faults := fold(t, strings.NewReader(tt.in))
		got := slices.Sorted(maps.Keys(calls))
		for _, w := range strings.Split(tt.want, "|") {
			if w != "" && !slices.Contains(got, w) &&
				!slices.ContainsFunc(faults, func(f string) bool { return strings.HasPrefix(f, w) }) {
				t.Errorf("%s: %q %q, want %q", tt.name, got, faults, w)
			}
		}
		if tt.want == "" && len(got)+len(faults) > 0 {
			t.Errorf("%s: %q %q", tt.name, got, faults)
		}
	}
	if !ldap.Is([]byte("\ufeffversion: 1\n# x\n\ndn: cn=x\n")) || ldap.Is([]byte(`{"dn": 1}`)) || ldap.Is(nil) {
		t.Error("LDIF is not told from other logs")
	}
}

// FuzzLines: whatever the bytes, what comes out are records that the reader knows, and no
// value of a changed attribute.
func FuzzLines(f *testing.F) {
	f.Add([]byte("dn: cn=x\nreqStart: 20261126015234.000009Z\nreqType: modify\n" +
		"reqMod: userPassword:= s3cret\nreqResult: 0\nreqDN: cn=x\n\n"))
	f.Add([]byte("dn:: eA==\n y\n#c\n z\n\n\n:x\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		fold(t, bytes.NewReader(in))
		out, _ := io.ReadAll(ldap.Lines(bytes.NewReader(append([]byte("reqMod: a:= s3cret\nreqOld: b: s3cret\n\n"),
			in...))))
		if !bytes.Contains(in, []byte("s3cret")) && bytes.Contains(out, []byte("s3cret")) {
			t.Errorf("a value came through: %s", out)
		}
	})
}
