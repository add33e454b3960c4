// Command foldbench makes a large audit log and folds it, so that the fold can be
// timed beside another engine doing the same work on the same files.
//
//	foldbench gen DIR [EVENTS]     OCSF lines in DIR/jsonl, and the same as DIR/zst,
//	                               DIR/gz and DIR/parquet; Kubernetes audit in DIR/k8s
//	foldbench run DIR/FORM [ROWS]  folds, prints one JSON line, writes the groups to ROWS
//
// scripts/bench-fold runs the whole comparison.
package main

import (
	"bufio"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/pprof"
	"strconv"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"
	parquet "github.com/parquet-go/parquet-go"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/auditlog/formats"
	"clipfence/internal/source/files"
)

func main() {
	var err error
	switch {
	case len(os.Args) >= 3 && os.Args[1] == "gen":
		n := 950_000
		if len(os.Args) > 3 {
			n, err = strconv.Atoi(os.Args[3])
		}
		if err == nil {
			err = generate(os.Args[2], n)
		}
	case len(os.Args) >= 3 && os.Args[1] == "run":
		rows := ""
		if len(os.Args) > 3 {
			rows = os.Args[3]
		}
		err = run(os.Args[2], rows)
	default:
		err = errors.New("usage: foldbench gen DIR [EVENTS] | foldbench run DIR/FORM [ROWS]")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "foldbench:", err)
		os.Exit(1)
	}
}

// run folds everything in a folder and says how long it took.
func run(dir, rows string) error {
	if name := os.Getenv("CPUPROFILE"); name != "" {
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	debug.SetGCPercent(60)
	start := time.Now()
	r := &files.Reader{Name: "bench", LogFiles: []string{dir}}
	groups, events, rejects := 0, 0, 0
	var out *bufio.Writer
	if rows != "" {
		f, err := os.Create(rows)
		if err != nil {
			return err
		}
		defer f.Close()
		out = bufio.NewWriterSize(f, 1<<20)
		defer out.Flush()
	}
	// One batch: the other engine answers once, too.
	for b, err := range fold.Run(context.Background(), r.Logs(context.Background(), ""),
		fold.Options{Formats: formats.For("cloud", nil), Rows: 1 << 30, Bytes: 1 << 50}) {
		if err != nil {
			return err
		}
		groups += b.Table.Len()
		events += b.Events
		rejects += b.Rejects
		if rejects > 0 {
			fmt.Fprintln(os.Stderr, b.Rejected[0])
		}
		if out != nil {
			for _, u := range b.Table.Uses() {
				fmt.Fprintf(out, "%s\t%s\t%s\t%s\t%d\t%d\t%d\t%d\n", u.Identity, u.Permission, u.Path, u.Outcome,
					u.Count, u.First.UnixMilli(), u.Last.UnixMilli(), u.Days.Count())
			}
		}
	}
	seconds := time.Since(start).Seconds()
	var use syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &use); err != nil {
		return err
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"seconds": seconds, "peak_mb": use.Maxrss / 1024,
		"groups": groups, "events": events, "rejects": rejects})
}

const parts = 8 // files, as rotation leaves them

// fields that no fold needs, as real events are full of them.
const padding = `"cloud":{"region":"fjord-1","zone":"fjord-1b","account":{"uid":"a-00213","name":"ternhaven","type_id":4}},"osint":[],"observables":[{"name":"src_endpoint.ip","type_id":2,"value":"%s"},{"name":"actor.user.uid","type_id":4,"value":"%s"}],"enrichments":[{"name":"location","provider":"harbour","value":"quay 7","data":{"lat":62.4722,"long":6.1549,"accuracy":12}}],"device":{"hostname":"gw-03.ternhaven.example","os":{"name":"linux","type_id":200,"build":"6.6.31"},"type_id":1,"uid":"d-77120031","interfaces":[{"ip":"10.20.0.3","mac":"02:42:ac:11:00:02","name":"eth0","type_id":1}]},"http_request":{"http_method":"POST","user_agent":"ferry-client/4.11.2 (linux; amd64) grpc/1.68.0","version":"2","url":{"hostname":"api.ternhaven.example","path":"/v2/objects/batch","port":443,"scheme":"https","query_string":"page=2&size=500&fields=name,size,owner"},"length":1183,"http_headers":[{"name":"accept","value":"application/json"},{"name":"x-request-id","value":"%s"}]},"http_response":{"code":200,"length":48211,"latency":23,"message":"OK"},"severity":"Informational","severity_id":1,"status":"Success","timezone_offset":60,"raw_data_size":2291,"activity_name":"Read","category_name":"Application Activity","class_name":"API Activity","type_name":"API Activity: Read","message":"The caller read an object of a container that holds telemetry, timetables, tickets, tides or crew rosters, as it does many times a day, and nobody was surprised by it at all.","start_time":%d,"end_time":%d,"duration":23,"count":1`

type event struct {
	at                     int64
	uid, who, op, path, ip string
	kind, code, status     int
	mfa                    bool
}

// stream makes the events of one file. 950,000 of them make about 440,000 groups.
func stream(part, n int) func(yield func(event) bool) {
	return func(yield func(event) bool) {
		r := rand.New(rand.NewPCG(uint64(part), 99))
		base := time.Date(2026, 8, 26, 0, 0, 0, 0, time.UTC).UnixMilli()
		ops := []string{"stow/item:read", "stow/item:put", "stow/item:find", "post/letter:send", "tables/table:read",
			"locker/secret:reveal", "engine/errand:run", "stow/item:throw-out"}
		span := int64(90*24*3600*1000) / parts
		for i := range n {
			who := int(float64(2000) * r.Float64() * r.Float64())
			e := event{at: base + int64(part)*span + span*int64(i)/int64(n),
				who: fmt.Sprintf("workload/service-%04d", who), kind: 3, code: 200, status: 1,
				ip: fmt.Sprintf("10.%d.%d.%d", who%4, who%250, 1+r.IntN(200))}
			e.uid = fmt.Sprintf("%08x-%04x-%012x", r.Uint32(), r.Uint32()&0xffff, r.Uint64()>>16)
			e.op = ops[int(float64(len(ops))*r.Float64()*r.Float64())]
			e.path = fmt.Sprintf("/cloud/harbour:ternhaven/berth:p%02d/box:b%03d/%04d-%02d/object-%05d.parquet",
				who%40, who%300, 2026, 1+who%12, int(78*r.Float64()*r.Float64()*float64(1+who%4)))
			if r.IntN(50) == 0 {
				e.code, e.status = 403, 2
			}
			if who%9 == 0 {
				e.who, e.kind, e.mfa = fmt.Sprintf("person/p%03d", who), 1, true
			}
			if !yield(e) {
				return
			}
		}
	}
}

func (e event) line(b []byte) []byte {
	return fmt.Appendf(b, `{"activity_id":2,"category_uid":6,"class_uid":6003,"type_uid":600302,"time":%d,"metadata":{"version":"1.3.0","uid":"%s","log_name":"read","logged_time":%d,"product":{"name":"Mooring","vendor_name":"Ternhaven","version":"7.2"},"profiles":["cloud","host"]},"actor":{"user":{"uid":"%s","name":"%s","type_id":%d,"email_addr":"ops@ternhaven.example"},"session":{"is_mfa":%t,"uid":"s-%x","issuer":"idp.ternhaven.example"}},"api":{"operation":"%s","version":"v2","service":{"name":"stow"},"request":{"uid":"r-%s"},"response":{"code":%d}},"resources":[{"uid":"%s","type":"object","region":"fjord-1","owner":{"name":"platform","type_id":3}}],"src_endpoint":{"ip":"%s","port":50113,"hostname":"node-7"},"status_id":%d,`+padding+"}\n",
		e.at, e.uid, e.at+40, e.who, e.who, e.kind, e.mfa, e.at%7919, e.op, e.uid, e.code, e.path, e.ip, e.status,
		e.ip, e.who, e.uid, e.at-20, e.at)
}

// k8s makes the same calls as a cluster would log them.
func (e event) k8s(b []byte) []byte {
	at := time.UnixMilli(e.at).UTC().Format("2006-01-02T15:04:05.000000Z")
	return fmt.Appendf(b, `{"kind":"Event","apiVersion":"audit.k8s.io/v1","level":"Metadata","auditID":"%s","stage":"ResponseComplete","requestURI":"/api/v1/namespaces/ns-%s/pods/object","verb":"get","user":{"username":"%s","uid":"5b0d7a4e-3c11-4f55-9a1e-0f51f3d0c0de","groups":["system:serviceaccounts","system:authenticated"],"extra":{"authentication.kubernetes.io/pod-name":["forecast-6d5c7b9f-x2x7k"]}},"sourceIPs":["%s"],"userAgent":"ferry-client/4.11.2 (linux; amd64)","objectRef":{"resource":"pods","namespace":"ns-%s","name":"pod-%s","apiVersion":"v1"},"responseStatus":{"metadata":{},"code":%d},"requestReceivedTimestamp":"%s","stageTimestamp":"%s","annotations":{"authorization.k8s.io/decision":"allow","authorization.k8s.io/reason":"RBAC: allowed by RoleBinding \"readers/ns\" of Role \"reader\" to ServiceAccount \"service/ns\"","note":"%0900d"}}`+"\n",
		e.uid, e.path[30:33], e.who, e.ip, e.path[30:33], e.path[len(e.path)-13:len(e.path)-8], e.code, at, at, 7)
}

type column struct {
	ClassUID int64 `parquet:"class_uid"`
	Time     int64 `parquet:"time"`
	StatusID int64 `parquet:"status_id"`
	Metadata struct {
		UID string `parquet:"uid"`
	} `parquet:"metadata"`
	Actor struct {
		User struct {
			UID    string `parquet:"uid,dict"`
			TypeID int64  `parquet:"type_id"`
		} `parquet:"user"`
		Session struct {
			MFA bool `parquet:"is_mfa"`
		} `parquet:"session"`
	} `parquet:"actor"`
	API struct {
		Operation string `parquet:"operation,dict"`
		Response  struct {
			Code int64 `parquet:"code"`
		} `parquet:"response"`
	} `parquet:"api"`
	Resources []struct {
		UID string `parquet:"uid,dict"`
	} `parquet:"resources,list"`
	Source struct {
		IP string `parquet:"ip,dict"`
	} `parquet:"src_endpoint"`
	Message string `parquet:"message,dict"`
}

func generate(dir string, n int) error {
	for _, form := range []string{"jsonl", "zst", "gz", "parquet", "k8s"} {
		if err := os.MkdirAll(filepath.Join(dir, form), 0o700); err != nil {
			return err
		}
	}
	for p := range parts {
		if err := generatePart(dir, p, n/parts); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "\rpart %d of %d", p+1, parts)
	}
	fmt.Fprintln(os.Stderr)
	return nil
}

func generatePart(dir string, p, n int) (err error) {
	var closers []io.Closer
	create := func(form, ext string) *os.File {
		f, cerr := os.Create(filepath.Join(dir, form, fmt.Sprintf("part-%d.%s", p, ext)))
		err = errors.Join(err, cerr)
		closers = append(closers, f)
		return f
	}
	plain, packed, zipped, cols, cluster := create("jsonl", "jsonl"), create("zst", "jsonl.zst"), create("gz",
		"jsonl.gz"), create("parquet", "parquet"), create("k8s", "jsonl")
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(packed, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	g, err := gzip.NewWriterLevel(zipped, gzip.BestSpeed)
	if err != nil {
		return err
	}
	w := parquet.NewGenericWriter[column](cols, parquet.Compression(&parquet.Snappy),
		parquet.MaxRowsPerRowGroup(60_000))
	lines, k8s := bufio.NewWriterSize(io.MultiWriter(plain, z, g), 1<<20), bufio.NewWriterSize(cluster, 1<<20)
	var b []byte
	for e := range stream(p, n) {
		b = e.line(b[:0])
		if _, err = lines.Write(b); err != nil {
			break
		}
		if _, err = k8s.Write(e.k8s(nil)); err != nil {
			break
		}
		c := column{ClassUID: 6003, Time: e.at, StatusID: int64(e.status), Message: "The caller read an object."}
		c.Metadata.UID, c.Actor.User.UID, c.Actor.User.TypeID, c.Actor.Session.MFA = e.uid, e.who, int64(e.kind), e.mfa
		c.API.Operation, c.API.Response.Code, c.Source.IP = e.op, int64(e.code), e.ip
		c.Resources = append(c.Resources, struct {
			UID string `parquet:"uid,dict"`
		}{e.path})
		if _, err = w.Write([]column{c}); err != nil {
			break
		}
	}
	err = errors.Join(err, lines.Flush(), k8s.Flush(), z.Close(), g.Close(), w.Close())
	for _, c := range closers {
		err = errors.Join(err, c.Close())
	}
	return err
}
