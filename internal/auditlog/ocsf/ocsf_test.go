package ocsf_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/auditlog/ocsf"
	"clipfence/internal/core/usage"
)

// event builds a line out of its parts; what is given replaces what is usual.
func event(over map[string]any) string {
	e := map[string]any{
		"class_uid": 6003, "time": 1790000000000, "status_id": 1,
		"metadata":  map[string]any{"uid": "e-1", "version": "1.3.0"},
		"actor":     map[string]any{"user": map[string]any{"uid": "workload/x", "type_id": 3}, "session": map[string]any{"is_mfa": true}},
		"api":       map[string]any{"operation": "store/object:read", "response": map[string]any{"code": 200}},
		"resources": []any{map[string]any{"uid": "/m/b:x/1"}}, "src_endpoint": map[string]any{"ip": "10.0.0.1"},
	}
	for k, v := range over {
		e[k] = v
		if v == nil {
			delete(e, k)
		}
	}
	b, _ := json.Marshal(e)
	return string(b)
}

func user(uid string, typ int) map[string]any {
	return map[string]any{"actor": map[string]any{"user": map[string]any{"uid": uid, "type_id": typ}}}
}

func TestParse(t *testing.T) {
	for _, tt := range []struct{ name, line, want, wantErr string }{
		{"usual", event(nil), "workload/x for  store/object:read /m/b:x/1 done 10.0.0.1 yes", ""},
		{"no factor, no address", event(map[string]any{"actor": map[string]any{"user": map[string]any{"uid": "person/a"}}, "src_endpoint": nil}), "person/a for  store/object:read /m/b:x/1 done invalid IP unknown", ""},
		{"acting for", event(map[string]any{"unmapped": map[string]any{"acting_for": "workload/y"}}), "workload/x for workload/y store/object:read /m/b:x/1 done 10.0.0.1 yes", ""},
		{"refused", event(map[string]any{"status_id": 2, "api": map[string]any{"operation": "a/b:c", "response": map[string]any{"code": 403}}}), "workload/x for  a/b:c /m/b:x/1 refused 10.0.0.1 yes", ""},
		{"failed", event(map[string]any{"status_id": 2, "api": map[string]any{"operation": "a/b:c", "response": map[string]any{"code": 500}}}), "workload/x for  a/b:c /m/b:x/1 failed 10.0.0.1 yes", ""},
		{"plain user name", event(user("ann@example.org", 1)), "person/ann@example.org for  store/object:read /m/b:x/1 done 10.0.0.1 unknown", ""},
		{"system", event(user("runner 7", 3)), "workload/runner%207 for  store/object:read /m/b:x/1 done 10.0.0.1 unknown", ""},
		{"who knows", event(user("x/y", 0)), "unknown/x%2Fy for  store/object:read /m/b:x/1 done 10.0.0.1 unknown", ""},
		{"anonymous", event(user("", 0)), "everyone for  store/object:read /m/b:x/1 done 10.0.0.1 unknown", ""},
		{"duplicate key: the last counts", strings.Replace(event(nil), `"class_uid":6003`, `"class_uid":1,"class_uid":6003`, 1), "workload/x for  store/object:read /m/b:x/1 done 10.0.0.1 yes", ""},
		{"not JSON", "hello", "", "not JSON"},
		{"cut", event(nil)[:100], "", "not JSON"},
		{"array", "[1]", "", "not JSON"},
		{"other class", event(map[string]any{"class_uid": 3002}), "", "not an API Activity event"},
		{"no time", event(map[string]any{"time": nil}), "", "time 0"},
		{"year 1", event(map[string]any{"time": -62135596800000}), "", "not between 1990 and 2200"},
		{"year 9999", event(map[string]any{"time": 253402300799000}), "", "not between 1990 and 2200"},
		{"time as text", event(map[string]any{"time": "now"}), "", "not JSON"},
		{"no resource", event(map[string]any{"resources": []any{}}), "", "resources is empty"},
		{"bad path", event(map[string]any{"resources": []any{map[string]any{"uid": "m//b"}}}), "", "resources[0].uid"},
		{"bad operation", event(map[string]any{"api": map[string]any{"operation": "read"}}), "", "api.operation"},
		{"bad address", event(map[string]any{"src_endpoint": map[string]any{"ip": "here"}}), "", "src_endpoint.ip"},
		{"deep", strings.Repeat(`{"a":`, 20_000), "", "not JSON"},
	} {
		c, err := ocsf.Parse([]byte(tt.line))
		if err != nil {
			if tt.wantErr == "" || !strings.Contains(err.Error(), tt.wantErr) {
				t.Errorf("%s: %v, want %q", tt.name, err, tt.wantErr)
			}
			continue
		}
		got := fmt.Sprintf("%s for %s %s %s %s %s %s", c.Identity, c.ActingFor, c.Permission, c.Path, c.Outcome, c.Network, c.SecondFactor)
		if tt.wantErr != "" || got != tt.want {
			t.Errorf("%s: %s, want %s %s", tt.name, got, tt.want, tt.wantErr)
		}
	}
	if _, err := ocsf.Parse([]byte(event(map[string]any{"class_uid": 1}))); !errors.Is(err, ocsf.ErrOtherClass) {
		t.Error("another class is not told apart from a broken line")
	}
	a, _ := ocsf.Parse([]byte(event(nil)))
	b, _ := ocsf.Parse([]byte(event(map[string]any{"metadata": map[string]any{"uid": "e-2"}})))
	none, _ := ocsf.Parse([]byte(event(map[string]any{"metadata": nil})))
	if a.EventID == b.EventID || none.EventID == a.EventID || none.EventID == [16]byte{} {
		t.Error("events are not told apart by their ids")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(event(nil)))
	f.Add([]byte(event(user("\x1b[31m", 1))))
	f.Fuzz(func(t *testing.T, line []byte) {
		c, err := ocsf.Parse(line)
		if err != nil {
			return
		}
		if c.Identity.IsZero() || c.Permission.IsZero() || c.Path.IsZero() || c.Time.Year() < 1990 || c.EventID == [16]byte{} {
			t.Fatalf("%q parses to %+v", line, c)
		}
		fold := usage.Fold{}
		fold.Add(c)
		if len(fold) != 1 {
			t.Fatal("a call is no use")
		}
	})
}

func BenchmarkParse(b *testing.B) {
	line := []byte(event(nil))
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		if _, err := ocsf.Parse(line); err != nil {
			b.Fatal(err)
		}
	}
}
