package formats_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/auditlog"
)

// TestLists: events in an EventList, on one line or as a file of its own, with a byte order
// mark or without, are those that stand alone; and a request whose id a client chose twice
// is two.
func TestLists(t *testing.T) {
	event := func(id, name, at string) string {
		return fmt.Sprintf(
			`{"kind":"Event","apiVersion":"audit.k8s.io/v1","auditID":%q,"stage":"ResponseComplete","verb":"get","requestURI":"/api/v1/namespaces/shop/pods/%s","user":{"username":"ada"},"objectRef":{"resource":"pods","namespace":"shop","name":%q},"responseStatus":{"code":200},"requestReceivedTimestamp":"2026-11-24T08:00:%sZ"}`, id, name, name, at)
	}
	one, two, three := event("mine", "p1", "00"), event("mine", "p2", "00"), event("mine", "p1", "01")
	lines := one + "\n" + two + "\n" + three + "\n"
	bare := strings.ReplaceAll(`{"kind":"EventList","apiVersion":"audit.k8s.io/v1","items":[`+one+","+two+","+three+
		"]}", `"kind":"Event","apiVersion":"audit.k8s.io/v1",`, "")
	pretty := strings.ReplaceAll(`{"kind":"EventList","apiVersion":"audit.k8s.io/v1","metadata":{},"items":[`+one+","+
		two+","+three+"]}", ",", ",\n  ")
	uses := func(data string) string {
		if auditlog.IsList([]byte(data)) || auditlog.IsArray([]byte(data)) {
			r := auditlog.ArrayLines(strings.NewReader(data))
			var b bytes.Buffer
			if _, err := b.ReadFrom(r); err != nil {
				t.Fatal(err)
			}
			data = b.String()
		}
		all := told(t, "x", []byte(data))
		return all[:strings.LastIndex(strings.TrimSpace(all), "\n")+1] // without the count of records
	}
	want := uses(lines)
	if strings.Count(want, "core/pods:get") != 2 || !strings.Contains(want, "pods:p1 done") ||
		!strings.Contains(want, " x2 ") {
		t.Fatalf("three requests fold to\n%s", want)
	}
	for name, data := range map[string]string{"a list on a line": bare + "\n", "a list as a file": pretty,
		"an array": "[" + one + "," + two + "," + three + "]", "with a mark": "\xef\xbb\xbf" + lines,
		"a list with a mark": "\xef\xbb\xbf" + pretty, "an array with a mark": "\xef\xbb\xbf[" + one + "," + two +
			"," + three + "]"} {
		if got := uses(data); got != want {
			t.Errorf("%s folds to\n%s\nwant\n%s", name, got, want)
		}
	}
	if got := told(t, "x", []byte(`{"kind":"EventList","apiVersion":"audit.k8s.io/v1","items":[]}`+
		"\n")); !strings.Contains(got, "~ 1: an EventList without events") {
		t.Errorf("an empty list: %s", got)
	}
}
