package bridge_test

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"clipfence/internal/sandbox"
	"clipfence/internal/source"
	"clipfence/internal/source/bridge"
)

// answer is what a scripted server does at one request.
type answer struct {
	status int
	header string // "Name: value"
	body   string
}

func script(t *testing.T, answers ...answer) (*httptest.Server, *int) {
	t.Helper()
	return scripted(t, func() {}, answers...)
}

// scripted is script that tells of each answer.
func scripted(t *testing.T, answered func(), answers ...answer) (*httptest.Server, *int) {
	t.Helper()
	n := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a := answers[min(n, len(answers)-1)]
		n++
		if a.status == 0 {
			panic(http.ErrAbortHandler)
		}
		if k, v, ok := strings.Cut(a.header, ": "); ok {
			w.Header().Set(k, v)
		}
		w.WriteHeader(a.status)
		_, _ = w.Write([]byte(a.body))
		answered()
	}))
	t.Cleanup(srv.Close)
	return srv, &n
}

const about = `{"protocol":"bridge/2","source":"mooring","root":"/mooring/harbour:t","revision":1,"you":"workload/x"}`

func TestRetries(t *testing.T) {
	good := answer{200, "", about}
	for _, tt := range []struct {
		name    string
		answers []answer
		tries   int
		want    error
	}{
		{"at once", []answer{good}, 1, nil},
		{"busy", []answer{{429, "Retry-After: 0", ""}, good}, 2, nil},
		{"errors", []answer{{500, "", "x"}, {503, "", ""}, {502, "", ""}, good}, 4, nil},
		{"cut lines", []answer{{}, {}, good}, 3, nil},
		{"never", []answer{{500, "", ""}}, 7, source.ErrUnreachable},
		{"wrong token", []answer{{401, "", `{"detail":"the token is not known here"}`}}, 1, source.ErrDenied},
		{"not allowed", []answer{{403, "", ""}}, 1, source.ErrDenied},
		{"nothing there", []answer{{404, "", ""}}, 1, source.ErrGone},
		{"changed", []answer{{412, "", ""}}, 1, source.ErrConflict},
	} {
		srv, n := script(t, tt.answers...)
		c, err := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Token: "sesame",
			Pause: time.Millisecond})
		if err != nil {
			t.Fatal(err)
		}
		_, err = c.About(t.Context())
		if !errors.Is(err, tt.want) || *n != tt.tries {
			t.Errorf("%s: %v after %d tries; want %v after %d", tt.name, err, *n, tt.want, tt.tries)
		}
		if err != nil && strings.Contains(err.Error(), "sesame") {
			t.Errorf("%s: the token is in the error: %v", tt.name, err)
		}
	}
	// A wait ends with its context.
	srv, _ := script(t, answer{429, "Retry-After: 3600", ""})
	c, _ := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL})
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(20*time.Millisecond, cancel)
	if _, err := c.About(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

func TestBadAnswers(t *testing.T) {
	for _, tt := range []struct{ name, body, want string }{
		{"a page of a website", "<html>", "not the bridge protocol"},
		{"another protocol", `{"protocol":"bridge/9"}`, `speaks "bridge/9"`},
		{"another source", strings.Replace(about, "mooring", "harbour", 1), `name the source "harbour"`},
	} {
		srv, _ := script(t, answer{200, "", tt.body})
		c, _ := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL})
		if _, err := c.About(t.Context()); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
	}
	for _, tt := range []struct{ page, want string }{
		{`{"items":[{"id":"x","value":{"permission":"no slash"}}]}`, "missing '/'"},
		{`{"items":[{"id":"x","value":{"permission":"a/b:c","colour":"red"}}]}`, "unknown field"},
		{`{"items":[],"next":"same"}`, "the same page"},
	} {
		srv, _ := script(t, answer{200, "", about}, answer{200, "", tt.page})
		c, _ := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL})
		var last error
		for _, err := range (bridge.Reader{Client: c}).Survey(t.Context(), "") {
			last = err
		}
		if last == nil || !strings.Contains(last.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.page, last, tt.want)
		}
	}
	srv, _ := script(t, answer{302, "Location: http://198.51.100.1/", ""})
	c, _ := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Pause: time.Millisecond})
	if _, err := c.About(t.Context()); err == nil || !strings.Contains(err.Error(), "sends us elsewhere") {
		t.Errorf("redirect: %v", err)
	}
}

func TestTLS(t *testing.T) {
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		w.Write([]byte(about))
	}))
	defer srv.Close()
	srv.Config.ErrorLog = nil
	ca := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})
	for _, tt := range []struct {
		name string
		o    bridge.Options
		want string
	}{
		{"trusted", bridge.Options{Name: "mooring", URL: srv.URL, CA: ca}, ""},
		{"not trusted", bridge.Options{Name: "mooring", URL: srv.URL}, "certificate is not trusted"},
		{"clear text over a network", bridge.Options{Name: "mooring", URL: "http://192.0.2.1"}, "use https"},
		{"no address", bridge.Options{Name: "mooring", URL: "mooring"}, "not an http or https address"},
		{"no certificate", bridge.Options{Name: "mooring", URL: srv.URL, CA: []byte("x")}, "no PEM certificate"},
	} {
		c, err := bridge.NewClient(tt.o)
		if err == nil {
			_, err = c.About(t.Context())
		}
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
	}
}

// TestSurveyIsWhole reads a Mooring page by page, and again from every cursor.
func TestSurveyIsWhole(t *testing.T) {
	c, err := sandbox.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	docs := map[string][]any{sandbox.KindNode: {&sandbox.Node{Path: "/mooring/harbour:t"}},
		sandbox.KindIdentity: {&sandbox.Identity{ID: "workload/x"}},
		sandbox.KindRole:     {&sandbox.Role{Name: "all", Do: []string{"*"}}},
		sandbox.KindGrant: {&sandbox.Grant{ID: "g", To: "workload/x", Role: "all",
			Where: []string{"/mooring/**"}}},
		sandbox.KindLogSetting: {&sandbox.LogSetting{Node: "/mooring/harbour:t",
			Logs: []sandbox.LogSwitch{{Service: "stow", LogClass: "read", Written: true},
				{Service: "stow", LogClass: "write"}}}}}
	for i := range 1200 {
		docs[sandbox.KindNode] = append(docs[sandbox.KindNode],
			&sandbox.Node{Path: "/mooring/harbour:t/box:b" + strings.Repeat("x", i%7) + string(rune('a'+i%26)) +
				string(rune('a'+i/26%26)) + string(rune('a'+i/676))})
	}
	if err := c.Fill(docs, map[string]string{"t": "workload/x"}); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(c.Handler())
	defer srv.Close()
	cl, err := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Token: "t", Pause: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	r := bridge.Reader{Client: cl}
	read := func(cursor string) (ids, cursors []string) {
		for b, err := range r.Survey(t.Context(), cursor) {
			if err != nil {
				t.Fatal(err)
			}
			for _, rec := range b.Records {
				ids = append(ids, rec.Kind+" "+rec.ID)
			}
			cursors = append(cursors, b.Cursor)
		}
		return ids, cursors
	}
	whole, cursors := read("")
	if want := 1 + 1201 + 1 + 1 + 1 + 2; len(whole) != want {
		t.Fatalf("%d records, want %d", len(whole), want)
	}
	for _, cur := range cursors {
		rest, _ := read(cur)
		if len(rest) > len(whole) || strings.Join(rest, "\n") != strings.Join(whole[len(whole)-len(rest):], "\n") {
			t.Errorf("from cursor %s the survey does not go on where it stopped", cur)
		}
	}
	rights, err := r.Check(t.Context())
	if err != nil || len(rights) == 0 {
		t.Fatalf("check: %v, %v", rights, err)
	}
	for _, x := range rights {
		if !x.OK {
			t.Errorf("%+v", x)
		}
	}
	// A right that is missing comes with the grant that mends it.
	d, err := (bridge.Changer{Client: cl}).Get(t.Context(), source.Grants, "g")
	if err != nil {
		t.Fatal(err)
	}
	narrow := strings.Replace(string(d.Body), `"role":"all"`, `"do":["muster/*:find","muster/grant:alter"]`, 1)
	if err := (bridge.Changer{Client: cl}).Do(t.Context(),
		source.Step{Kind: source.Grants, ID: "g", Before: d.Body, After: json.RawMessage(narrow)}); err != nil {
		t.Fatal(err)
	}
	rights, err = r.Check(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	lacks := ""
	for _, x := range rights {
		if !x.OK {
			lacks += x.Mend + "\n"
		}
	}
	if want := "grant workload/x: do [watch/log-switch:find] where [/mooring/harbour:t/**]\n" +
		"grant workload/x: do [watch/logbook:read] where [/mooring/harbour:t/**]\n"; lacks != want {
		t.Errorf("lacks:\n%swant:\n%s", lacks, want)
	}
}

// TestCircles: a bridge that names pages again, right away or later, or a log that does not
// move on, is told, and not followed for ever.
func TestCircles(t *testing.T) {
	for _, tt := range []struct {
		name  string
		pages []string // what each page names as the next one; the last is repeated
	}{
		{"the same page", []string{"a", "a"}},
		{"two that name each other", []string{"a", "b", "a", "b"}},
		{"a longer way round", []string{"a", "b", "c", "d", "b"}},
	} {
		n := 0
		next := func() string {
			n++
			return tt.pages[min(n-1, len(tt.pages)-1)]
		}
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case strings.HasSuffix(r.URL.Path, "/about"):
				_, _ = w.Write([]byte(about))
			case strings.HasSuffix(r.URL.Path, "/logs"):
				w.Header().Set("Bridge-Cursor", next())
				w.Header().Set("Bridge-More", "true")
			default:
				_, _ = w.Write([]byte(`{"items":[],"next":"` + next() + `","revision":1}`))
			}
		}))
		c, err := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Pause: time.Millisecond})
		if err != nil {
			t.Fatal(err)
		}
		var last error
		for _, err := range (bridge.Reader{Client: c}).Survey(t.Context(), "") {
			last = err
		}
		if last == nil || !strings.Contains(last.Error(), "goes round in circles") &&
			!strings.Contains(last.Error(), "the same page") {
			t.Errorf("survey, %s: %v", tt.name, last)
		}
		n = 0
		for _, err := range (bridge.Reader{Client: c}).Logs(t.Context(), "") {
			last = err
		}
		if last == nil || !strings.Contains(last.Error(), "does not move on") {
			t.Errorf("log, %s: %v", tt.name, last)
		}
		srv.Close()
	}
}

// TestLongWait: a bridge that asks for ages, or for more seconds than there are, is asked
// again after the longest pause.
func TestLongWait(t *testing.T) {
	for _, after := range []string{"86400", "9223372036854775807", "99999999999999999999", "-5", "soon"} {
		long := strings.HasPrefix(after, "86") || strings.HasPrefix(after, "92")
		ctx, cancel := context.WithCancel(t.Context())
		srv, n := scripted(t, func() {
			if long { // however long it took to get here
				time.AfterFunc(50*time.Millisecond, cancel)
			}
		}, answer{503, "Retry-After: " + after, ""}, answer{200, "", about})
		c, err := bridge.NewClient(bridge.Options{Name: "mooring", URL: srv.URL, Pause: time.Millisecond})
		if err != nil {
			t.Fatal(err)
		}
		if long {
			if _, err := c.About(ctx); !errors.Is(err, context.Canceled) || *n != 1 {
				t.Errorf("%s: %d tries, %v; it is to be waited for", after, *n, err)
			}
		} else if _, err := c.About(ctx); err != nil || *n != 2 {
			t.Errorf("%s: %d tries, %v", after, *n, err)
		}
		cancel()
	}
}
