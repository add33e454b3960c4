package sandbox

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Event is one line of the audit log: OCSF 1.3 API Activity (class 6003), with
// the parts that Mooring fills. What OCSF has no word for is under unmapped.
type Event struct {
	ActivityID  int           `json:"activity_id"` // 1 create, 2 read, 3 update, 4 delete, 99 other
	CategoryUID int           `json:"category_uid"`
	ClassUID    int           `json:"class_uid"`
	TypeUID     int           `json:"type_uid"`
	Time        int64         `json:"time"` // milliseconds since 1970
	SeverityID  int           `json:"severity_id"`
	StatusID    int           `json:"status_id"` // 1 success, 2 failure
	Metadata    EventMetadata `json:"metadata"`
	Actor       EventActor    `json:"actor"`
	API         EventAPI      `json:"api"`
	Resources   []EventThing  `json:"resources"`
	Source      EventEndpoint `json:"src_endpoint"`
	Unmapped    *EventExtra   `json:"unmapped,omitempty"`
}

// EventMetadata is OCSF's metadata object.
type EventMetadata struct {
	Version string       `json:"version"`
	UID     string       `json:"uid"`
	LogName string       `json:"log_name"`
	Product EventProduct `json:"product"`
}

// EventProduct is OCSF's product object.
type EventProduct struct {
	Name   string `json:"name"`
	Vendor string `json:"vendor_name"`
}

// EventActor is OCSF's actor object.
type EventActor struct {
	User    EventUser    `json:"user"`
	Session EventSession `json:"session"`
}

// EventUser is OCSF's user object.
type EventUser struct {
	UID    string `json:"uid,omitempty"`
	TypeID int    `json:"type_id"` // 1 user, 3 system (a workload), 0 unknown
}

// EventSession is OCSF's session object.
type EventSession struct {
	MFA bool `json:"is_mfa"`
}

// EventAPI is OCSF's api object.
type EventAPI struct {
	Operation string        `json:"operation"`
	Service   EventService  `json:"service"`
	Response  EventResponse `json:"response"`
}

// EventService is OCSF's service object.
type EventService struct {
	Name string `json:"name"`
}

// EventResponse is OCSF's response object.
type EventResponse struct {
	Code    int    `json:"code"`
	Message string `json:"message,omitempty"`
}

// EventThing is OCSF's resource_details object.
type EventThing struct {
	UID string `json:"uid"`
}

// EventEndpoint is OCSF's network_endpoint object.
type EventEndpoint struct {
	IP string `json:"ip,omitempty"`
}

// EventExtra holds what is Mooring's own.
type EventExtra struct {
	ActingFor string `json:"acting_for,omitempty"`
	Reason    string `json:"reason,omitempty"`
}

// NewEvent describes one call.
func NewEvent(uid string, at time.Time, who, as, permission, path, class string, v Verdict, network string,
	mfa bool) *Event {
	service, _, verb, _ := permissionParts(permission)
	activity := 99
	switch verb {
	case "put", "set-up", "send", "add-rows", "lay-in", "issue", "mint", "give", "found", "build", "write":
		activity = 1
	case "find", "describe", "read", "inspect", "reveal", "ask", "look-at", "collect":
		activity = 2
	case "replace", "alter", "amend", "mend-rows", "restart", "refit", "rewrite", "rename":
		activity = 3
	case "throw-out", "scrap", "strike-rows", "burn", "shred", "take-back", "take-down", "tear-up":
		activity = 4
	}
	e := &Event{
		ActivityID: activity, CategoryUID: 6, ClassUID: 6003, TypeUID: 600300 + activity,
		Time: at.UnixMilli(), SeverityID: 1, StatusID: 1,
		Metadata:  EventMetadata{"1.3.0", uid, class, EventProduct{"Mooring", "Clip Fence sandbox"}},
		Actor:     EventActor{EventUser{who, 0}, EventSession{mfa}},
		API:       EventAPI{permission, EventService{service}, EventResponse{200, ""}},
		Resources: []EventThing{{path}},
		Source:    EventEndpoint{network},
	}
	switch {
	case who == "everyone": // a call without a name
		e.Actor.User.UID = ""
	case strings.HasPrefix(who, "person/"):
		e.Actor.User.TypeID = 1
	case strings.HasPrefix(who, "workload/"):
		e.Actor.User.TypeID = 3
	}
	if !v.Allowed {
		e.SeverityID, e.StatusID, e.API.Response = 2, 2, EventResponse{403, "denied: " + v.Because}
	}
	if as != "" || v.Allowed {
		e.Unmapped = &EventExtra{ActingFor: as}
		if v.Allowed {
			e.Unmapped.Reason = v.Because
		}
	}
	return e
}

// logFiles lists the files of the audit log, oldest day first.
func logFiles(dir string) ([]string, error) {
	es, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range es {
		if strings.Contains(e.Name(), ".jsonl") {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names, err
}

func dayOf(file string) string { day, _, _ := strings.Cut(file, "."); return day }

// readLog returns whole lines from a place in the log on, all of one file, and
// the place behind them. A place is "day:byte"; "" is the beginning.
func readLog(dir, from string, limit int) (lines []byte, next string, more bool, err error) {
	day, off := from, int64(0)
	if from != "" {
		d, o, ok := strings.Cut(from, ":")
		n, perr := strconv.ParseInt(o, 10, 64)
		if _, derr := time.Parse(time.DateOnly, d); !ok || perr != nil || derr != nil || n < 0 {
			return nil, "", false, fmt.Errorf("cursor %q is not one of ours", from)
		}
		day, off = d, n
	}
	names, err := logFiles(dir)
	if err != nil {
		return nil, "", false, err
	}
	for i, name := range names {
		if dayOf(name) < day {
			continue
		}
		if dayOf(name) > day {
			day, off = dayOf(name), 0
		}
		lines, n, err := readLines(filepath.Join(dir, name), off, limit)
		if err != nil {
			return nil, "", false, err
		}
		next = fmt.Sprintf("%s:%d", day, off+int64(len(lines)))
		if len(lines) == 0 && i < len(names)-1 {
			continue
		}
		return lines, next, i < len(names)-1 || n == limit, nil
	}
	return nil, from, false, nil
}

// openLog opens a log file whatever its compression.
func openLog(name string) (io.ReadCloser, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	switch filepath.Ext(name) {
	case ".gz":
		z, err := gzip.NewReader(f)
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return struct {
			io.Reader
			io.Closer
		}{z, f}, nil
	case ".zst":
		z, err := zstd.NewReader(f)
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return struct {
			io.Reader
			io.Closer
		}{z, f}, nil
	}
	return f, nil
}

func readLines(name string, off int64, limit int) ([]byte, int, error) {
	f, err := openLog(name)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	if _, err := io.CopyN(io.Discard, f, off); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, 0, nil
		}
		return nil, 0, err
	}
	var out bytes.Buffer
	r := bufio.NewReaderSize(f, 1<<16)
	n := 0
	for ; n < limit; n++ {
		line, err := r.ReadBytes('\n')
		if err != nil { // a line without its end is still being written
			break
		}
		out.Write(line)
	}
	return out.Bytes(), n, nil
}

// AppendEvent writes one event to its day's file.
func AppendEvent(dir string, e *Event) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	day := time.UnixMilli(e.Time).UTC().Format(time.DateOnly)
	f, err := os.OpenFile(filepath.Join(dir, day+".jsonl"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(b, '\n'))
	return errors.Join(err, f.Close())
}
