package sandbox_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	yaml "go.yaml.in/yaml/v3"

	"clipfence/internal/sandbox"
)

const root = "/mooring/harbour:t"

func mooring(t *testing.T, dir string, docs map[string][]any) (*sandbox.Cloud, *httptest.Server) {
	t.Helper()
	c, err := sandbox.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	all := map[string][]any{sandbox.KindNode: {&sandbox.Node{Path: root}, &sandbox.Node{Path: root + "/box:b"}},
		sandbox.KindIdentity: {&sandbox.Identity{ID: "person/admin"}, &sandbox.Identity{ID: "workload/x"},
			&sandbox.Identity{ID: "person/left", Disabled: true}, &sandbox.Identity{ID: "workload/w"}},
		sandbox.KindGrant: {&sandbox.Grant{ID: "a", To: "person/admin", Role: "skipper",
			Where: []string{root + "/**"}}, &sandbox.Grant{ID: "x", To: "workload/x",
			Do: []string{"stow/item:read", "stow/item:put"}, Where: []string{root + "/**"}}},
		sandbox.KindActAs: {&sandbox.ActAs{ID: "1", From: "workload/w", To: "workload/x"}}}
	for _, p := range sandbox.Catalogue() {
		all[sandbox.KindPermission] = append(all[sandbox.KindPermission], p)
	}
	for _, r := range sandbox.BuiltinRoles() {
		all[sandbox.KindRole] = append(all[sandbox.KindRole], r)
	}
	for k, v := range docs {
		all[k] = append(all[k], v...)
	}
	if err := c.Fill(all, map[string]string{"admin": "person/admin", "x": "workload/x", "left": "person/left",
		"w": "workload/w"}); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(c.Handler())
	t.Cleanup(func() { srv.Close(); c.Close() })
	return c, srv
}

// ask sends a request: "METHOD path", headers as "Name: value".
func ask(t *testing.T, srv *httptest.Server, token, call, body string, headers ...string) (int, string, http.Header) {
	t.Helper()
	method, path, _ := strings.Cut(call, " ")
	req, err := http.NewRequest(method, srv.URL+"/bridge/v2"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for _, h := range headers {
		k, v, _ := strings.Cut(h, ": ")
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(b), res.Header
}

func TestProtocol(t *testing.T) {
	_, srv := mooring(t, t.TempDir(), nil)
	_, _, h := ask(t, srv, "admin", "GET /collections/grants/item?id=x", "")
	tag := h.Get("ETag")
	newGrant := `{"id":"n","to":"workload/x","role":"look-round","where": ["` + root + `/**"]}`
	oldGrant := `{"id":"x","to":"workload/x","role":"look-round","where": ["` + root + `/**"]}`
	for _, tt := range []struct {
		name, token, call, body string
		headers                 []string
		status                  int
		want                    string
	}{
		{"who am I", "x", "GET /about", "", nil, 200, `"you":"workload/x"`},
		{"nobody", "", "GET /about", "", nil, 200, `"you":"everyone"`},
		{"wrong token", "nope", "GET /about", "", nil, 401, "not known"},
		{"closed account", "left", "GET /about", "", nil, 401, "disabled"},
		{"not allowed to list", "x", "GET /collections/grants", "", nil, 403, "nothing grants it"},
		{"no such collection", "admin", "GET /collections/ships", "", nil, 404, "no collection"},
		{"bad page", "admin", "GET /collections/grants?page=%25", "", nil, 400, "not one of ours"},
		{"bad limit", "admin", "GET /collections/grants?limit=-1", "", nil, 400, "limit"},
		{"no precondition", "admin", "PUT /collections/grants/item?id=n", newGrant, nil, 428, "If-Match"},
		{"any version is none", "admin", "PUT /collections/grants/item?id=x", oldGrant, []string{"If-Match: *"}, 428,
			"If-Match"},
		{"stale", "admin", "PUT /collections/grants/item?id=x", oldGrant, []string{`If-Match: "old"`}, 412,
			"precondition"},
		{"there already", "admin", "PUT /collections/grants/item?id=x", oldGrant, []string{"If-None-Match: *"}, 412,
			"precondition"},
		{"another name", "admin", "PUT /collections/grants/item?id=m", newGrant, []string{"If-None-Match: *"}, 422,
			"names itself"},
		{"unknown field", "admin", "PUT /collections/grants/item?id=n", `{"id":"n","colour":1}`,
			[]string{"If-None-Match: *"}, 422, "unknown field"},
		{"unknown role", "admin", "PUT /collections/grants/item?id=n",
			strings.Replace(newGrant, "look-round", "king", 1), []string{"If-None-Match: *"}, 422, "no role"},
		{"unknown identity", "admin", "PUT /collections/grants/item?id=n",
			strings.Replace(newGrant, "workload/x", "workload/y", 1), []string{"If-None-Match: *"}, 422,
			"no identity"},
		{"not allowed to grant", "x", "PUT /collections/grants/item?id=n", newGrant, []string{"If-None-Match: *"}, 403,
			"muster/grant:give"},
		{"new", "admin", "PUT /collections/grants/item?id=n", newGrant, []string{"If-None-Match: *"}, 200, `"id":"n"`},
		{"edit", "admin", "PUT /collections/grants/item?id=x", oldGrant, []string{"If-Match: " + tag}, 200,
			`"look-round"`},
		{"remove without reading", "admin", "DELETE /collections/grants/item?id=n", "", nil, 428, ""},
		{"remove what is not there", "admin", "DELETE /collections/grants/item?id=zz", "", []string{`If-Match: "q"`},
			404, ""},
		{"built-in role", "admin", "PUT /collections/roles/item?id=look-round",
			`{"name":"look-round","do":["stow/item:read"]}`, []string{`If-Match: "q"`}, 422, "built-in"},
		{"call", "x", "POST /act", `{"permission":"stow/item:throw-out","path":"` + root + `/box:b/1"}`, nil, 403,
			"may not"},
		{"call as another", "w", "POST /act", `{"permission":"stow/item:read","path":"` + root +
			`/box:b/1","as":"workload/x"}`, nil, 200, `"allowed":true`},
		{"call as somebody else", "x", "POST /act", `{"permission":"stow/item:read","path":"` + root +
			`/box:b/1","as":"person/admin"}`, nil, 403, "may not act as"},
		{"no such permission", "x", "POST /act", `{"permission":"a/b:c","path":"/m"}`, nil, 400, "no permission"},
		{"faults are not for all", "x", "PUT /faults", `{}`, nil, 403, ""},
		{"bad cursor", "admin", "GET /logs?cursor=../../x:1", "", nil, 400, "not one of ours"},
	} {
		status, body, _ := ask(t, srv, tt.token, tt.call, tt.body, tt.headers...)
		if status != tt.status || !strings.Contains(body, tt.want) {
			t.Errorf("%s: %d %s, want %d %q", tt.name, status, body, tt.status, tt.want)
		}
	}
}

// TestPaging walks a collection in pages of every size.
func TestPaging(t *testing.T) {
	var nodes []any
	for i := range 37 {
		nodes = append(nodes, &sandbox.Node{Path: fmt.Sprintf("%s/box:%d", root, i)})
	}
	_, srv := mooring(t, t.TempDir(), map[string][]any{sandbox.KindNode: nodes})
	for limit := 1; limit < 45; limit += 6 {
		var ids []string
		for page, more := "", true; more; more = page != "" {
			_, body, _ := ask(t, srv, "admin", fmt.Sprintf("GET /collections/nodes?limit=%d&page=%s", limit, page), "")
			var p struct {
				Items []sandbox.Item
				Next  string
			}
			if err := json.Unmarshal([]byte(body), &p); err != nil || len(p.Items) > limit {
				t.Fatalf("%s: %v", body, err)
			}
			for _, it := range p.Items {
				ids = append(ids, it.ID)
			}
			page = p.Next
		}
		if len(ids) != 39 || !slices.IsSorted(ids) || len(slices.Compact(ids)) != 39 {
			t.Errorf("limit %d: %d ids", limit, len(ids))
		}
	}
}

// TestVisibleLater: a change is answered at once and seen later, by reading and by
// deciding alike; and what is written survives a restart.
func TestVisibleLater(t *testing.T) {
	dir := t.TempDir()
	c, srv := mooring(t, dir, nil)
	now := time.Now()
	c.Now = func() time.Time { return now }
	c.SetFaults(sandbox.Faults{VisibleAfterMS: 60_000})
	grant := `{"id":"n","to":"workload/w","role":"look-into-boxes","where": ["` + root + `/**"]}`
	if status, body, _ := ask(t, srv, "admin", "PUT /collections/grants/item?id=n", grant,
		"If-None-Match: *"); status != 200 {
		t.Fatal(body)
	}
	may := func() bool {
		status, _, _ := ask(t, srv, "w", "POST /act", `{"permission":"stow/item:read","path":"`+root+`/box:b"}`)
		return status == 200
	}
	seen := func() bool { s, _, _ := ask(t, srv, "admin", "GET /collections/grants/item?id=n", ""); return s == 200 }
	if may() || seen() {
		t.Error("visible at once")
	}
	// A second writer that still sees nothing must not write over the first.
	if status, _, _ := ask(t, srv, "admin", "PUT /collections/grants/item?id=n", grant,
		"If-None-Match: *"); status != 412 {
		t.Errorf("a second writer: %d", status)
	}
	now = now.Add(61 * time.Second)
	if !may() || !seen() {
		t.Error("not visible later")
	}
	srv.Close()
	c.Close()
	again, err := sandbox.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if it, err := again.Get(sandbox.KindGrant, "n"); err != nil ||
		!strings.Contains(string(it.Value), "look-into-boxes") {
		t.Errorf("after a restart: %s, %v", it.Value, err)
	}
}

// TestAuditLog: a class that is off leaves no line, nor does a writer that may not
// write; and what is logged is served from any cursor.
func TestAuditLog(t *testing.T) {
	sw := func(read bool) []sandbox.LogSwitch {
		return []sandbox.LogSwitch{{Service: "stow", LogClass: sandbox.ClassLooking, Written: read},
			{Service: "stow", LogClass: sandbox.ClassHandling, Written: true}}
	}
	for _, tt := range []struct {
		name    string
		setting *sandbox.LogSetting
		want    []string
	}{
		{"no setting: looking is off", nil, []string{"stow/item:put"}},
		{"a setting that says nothing of it", &sandbox.LogSetting{Node: root}, []string{"stow/item:put"}},
		{"everything is off", &sandbox.LogSetting{Node: root,
			Logs: []sandbox.LogSwitch{{Service: "stow", LogClass: sandbox.ClassLooking},
				{Service: "stow", LogClass: sandbox.ClassHandling},
				{Service: "stow", LogClass: sandbox.ClassSteering}}}, nil},
		{"reading is off", &sandbox.LogSetting{Node: root, Logs: sw(false)}, []string{"stow/item:put"}},
		{"reading is on", &sandbox.LogSetting{Node: root, Logs: sw(true)},
			[]string{"stow/item:read", "stow/item:put", "stow/item:read"}},
		{"the writer may not write", &sandbox.LogSetting{Node: root, Writer: "workload/w", Logs: sw(true)}, nil},
	} {
		docs := map[string][]any{}
		if tt.setting != nil {
			docs[sandbox.KindLogSetting] = []any{tt.setting}
		}
		_, srv := mooring(t, t.TempDir(), docs)
		for _, p := range []string{"stow/item:read", "stow/item:put"} {
			ask(t, srv, "x", "POST /act", `{"permission":"`+p+`","path":"`+root+`/box:b/1"}`)
		}
		ask(t, srv, "w", "POST /act", `{"permission":"stow/item:read","path":"`+root+`/box:b/1"}`) // refused
		var got []string
		cursor := ""
		for range 10 {
			_, body, h := ask(t, srv, "admin", "GET /logs?limit=1&cursor="+cursor, "")
			for line := range strings.Lines(body) {
				var e sandbox.Event
				if err := json.Unmarshal([]byte(line), &e); err != nil {
					t.Fatal(err)
				}
				got = append(got, e.API.Operation)
			}
			cursor = h.Get("Bridge-Cursor")
		}
		if !slices.Equal(got, tt.want) {
			t.Errorf("%s: %v, want %v", tt.name, got, tt.want)
		}
	}
}

func TestCatalogueAndRoles(t *testing.T) {
	perms := sandbox.Catalogue()
	services := map[string]bool{}
	levels := map[string]bool{}
	seen := map[string]bool{}
	for _, p := range perms {
		s, _, _ := strings.Cut(p.Permission, "/")
		services[s] = true
		levels[p.Level] = true
		if seen[p.Permission] || p.LogClass == "" {
			t.Errorf("%+v", p)
		}
		seen[p.Permission] = true
	}
	if len(perms) < 300 || len(services) != 8 || len(levels) != 5 {
		t.Errorf("%d permissions over %d services and %d levels", len(perms), len(services), len(levels))
	}
	roles := sandbox.BuiltinRoles()
	least, most := 1<<30, 0
	for _, r := range roles {
		n := 0
		for _, p := range perms {
			if slices.ContainsFunc(r.Do, func(d string) bool { return sandbox.PermissionMatches(d, p.Permission) }) {
				n++
			}
		}
		if n == 0 || !r.Builtin {
			t.Errorf("role %s gives %d", r.Name, n)
		}
		least, most = min(least, n), max(most, n)
	}
	if len(roles) < 25 || least > 1 || most != len(perms) {
		t.Errorf("%d roles, from %d to %d permissions", len(roles), least, most)
	}
}

// TestOpenAPI holds the written protocol against the handlers, both ways.
func TestOpenAPI(t *testing.T) {
	var doc struct {
		OpenAPI string                    `yaml:"openapi"`
		Paths   map[string]map[string]any `yaml:"paths"`
	}
	if err := yaml.Unmarshal(sandbox.OpenAPI, &doc); err != nil {
		t.Fatal(err)
	}
	var written, served []string
	for path, ops := range doc.Paths {
		for m := range ops {
			if m != "parameters" {
				written = append(written, strings.ToUpper(m)+" "+path)
			}
		}
	}
	for _, r := range sandbox.Routes {
		served = append(served, r.Method+" "+r.Path)
	}
	slices.Sort(written)
	slices.Sort(served)
	if doc.OpenAPI != "3.1.0" || !slices.Equal(written, served) {
		t.Errorf("openapi.yaml writes\n%s\nand the handler serves\n%s", strings.Join(written, "\n"),
			strings.Join(served, "\n"))
	}
	var root yaml.Node
	if err := yaml.Unmarshal(sandbox.OpenAPI, &root); err != nil {
		t.Fatal(err)
	}
	var check func(n *yaml.Node)
	check = func(n *yaml.Node) {
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "$ref" {
				at := root.Content[0]
				for _, seg := range strings.Split(strings.TrimPrefix(n.Content[i+1].Value, "#/"), "/") {
					var next *yaml.Node
					for j := 0; j+1 < len(at.Content); j += 2 {
						if at.Content[j].Value == seg {
							next = at.Content[j+1]
						}
					}
					if next == nil {
						t.Errorf("line %d: %s leads nowhere", n.Content[i+1].Line, n.Content[i+1].Value)
						return
					}
					at = next
				}
			}
		}
		for _, c := range n.Content {
			check(c)
		}
	}
	check(&root)
	published, err := os.ReadFile(filepath.Join("..", "..", "docs", "bridge.openapi.yaml"))
	if err != nil || !bytes.Equal(published, sandbox.OpenAPI) {
		t.Errorf("docs/bridge.openapi.yaml is not internal/sandbox/openapi.yaml (%v): copy it", err)
	}
}

func FuzzWild(f *testing.F) {
	f.Add("/m/a*/**", "/m/ab/c")
	f.Add("/m/%2A", "/m/%2a")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		if !strings.Contains(path, "*") && !strings.Contains(path, "%") && path != "" &&
			!sandbox.PathMatches(path, path) {
			t.Fatalf("%q does not match itself", path)
		}
		sandbox.PathMatches(pattern, path)
		sandbox.PermissionMatches(pattern, path)
	})
}
