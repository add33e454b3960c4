// Package ldap reads the access log that an OpenLDAP server keeps in its database
// cn=accesslog, as LDIF: what a search there prints, or slapcat.
//
// LDIF has an entry over several lines, so a file of it is turned into a line of JSON an
// entry first ([Lines]). An entry is one operation. Its permission is ldap/entry with the
// operation (search, compare, add, modify, delete, rename), ldap/session:open for a bind,
// and ldap/password:change for what changes userPassword: the server logs the password
// operation as a modification too. The path is the distinguished name read from its end, a
// segment an RDN, in lower case: cn=crew,ou=groups,dc=example is
// /source/dc:example/ou:groups/cn:crew. The caller is the distinguished name in lower case
// that the session was bound as; one without a name is anybody's.
//
// The server answers noSuchObject to whoever may not even know that an entry is there, and
// to whoever asks for one that is not: the two look alike, and are called failed, not
// refused.
//
// Source: slapo-accesslog(5) of OpenLDAP 2.5; draft-chu-ldap-logschema-00; RFC 4511 for
// result codes; RFC 4514 for distinguished names; RFC 4517, 3.3.13 for times.
package ldap

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	dn "github.com/go-ldap/ldap/v3"

	"clipfence/internal/auditlog"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Result codes, RFC 4511 4.1.9.
const (
	success               = 0
	compareFalse          = 5
	compareTrue           = 6
	strongerAuthRequired  = 8
	confidentialityWanted = 13
	insufficientAccess    = 50
	saslBindInProgress    = 14
	mostOfAName           = 4 << 10 // bytes of a distinguished name
	passwordAttribute     = "userpassword"
	operational           = " entrycsn modifiersname modifytimestamp pwdchangedtime pwdfailuretime pwdreset " +
		"pwdhistory "
	prefix                 = "{\"ldif\":"
	timeForm, timeFormFine = "20060102150405Z", "20060102150405.999999Z"
)

var verbs = map[string]string{"search": "ldap/entry:search", "compare": "ldap/entry:compare", "add": "ldap/entry:add",
	"modify": "ldap/entry:modify", "delete": "ldap/entry:delete", "modrdn": "ldap/entry:rename"}

// Format reads the entries of one source's access log.
type Format struct{ source []byte }

var _ auditlog.Format = (*Format)(nil)

// New returns a reader for what the estate calls source.
func New(source string) *Format {
	return &Format{model.AppendEscaped([]byte("/"), []byte(source))}
}

// Name returns "ldap".
func (*Format) Name() string { return "ldap" }

// Sniff looks for what [Lines] writes.
func (*Format) Sniff(line []byte) bool { return bytes.HasPrefix(line, []byte(prefix)) }

// Parse yields the events of an entry: two for a modification that changes a password and
// something else.
func (f *Format) Parse(line []byte, yield func(*auditlog.Event) error) error {
	var r record
	if err := json.Unmarshal(line, &r); err != nil {
		return fmt.Errorf("LDIF: %w", err)
	}
	fail := func(format string, args ...any) error {
		return fmt.Errorf("LDIF at line %d: %w", r.Line, fmt.Errorf(format, args...))
	}
	if r.Fault != "" {
		return fail("%s", r.Fault)
	}
	one := func(name string) string {
		if v := r.Entry[name]; len(v) > 0 {
			return v[0]
		}
		return ""
	}
	kind := one("reqType")
	switch {
	case kind == "":
		return &auditlog.Skip{Why: "an entry that is no operation"}
	case kind == "unbind" || kind == "abandon":
		return &auditlog.Skip{Why: kind + " asks for nothing"}
	}
	at, err := time.Parse(timeFormFine, one("reqStart"))
	if err != nil {
		return fail("reqStart %q is no time such as %s", one("reqStart"), timeForm)
	}
	code, err := strconv.Atoi(one("reqResult"))
	if err != nil {
		return fail("reqResult %q is no number", one("reqResult"))
	}
	where, path, err := f.name(one("reqDN"))
	if err != nil {
		return fail("reqDN: %w", err)
	}
	who, _, err := f.name(one("reqAuthzID"))
	if err != nil {
		return fail("reqAuthzID: %w", err)
	}
	e := auditlog.Event{Time: at.UnixMilli(), ID: []byte(one("reqStart") + " " + one("reqSession") + " " + kind),
		Path: path, Outcome: outcome(code), Who: auditlog.Name{Text: []byte(who)}}
	var ops []string
	switch base, _, _ := strings.Cut(kind, "{"); base {
	case "bind":
		switch {
		case code == saslBindInProgress:
			return &auditlog.Skip{Why: "bind that goes on"}
		case code != success:
			return &auditlog.Skip{Why: "bind that failed: nobody is known by it"}
		case where == "":
			return &auditlog.Skip{Why: "bind without a name"}
		}
		e.Who.Text, ops = []byte(where), []string{"ldap/session:open"}
	case "modify":
		ops = changes(r.Entry["reqMod"])
	default:
		if ops = []string{verbs[base]}; ops[0] == "" {
			ops[0] = kind // such as extended and its number
		}
	}
	for _, op := range ops {
		e.Operation = []byte(op)
		if err := yield(&e); err != nil {
			return err
		}
	}
	return nil
}

func outcome(code int) usage.Outcome {
	switch code {
	case success, compareFalse, compareTrue:
		return usage.Done
	case insufficientAccess, strongerAuthRequired, confidentialityWanted:
		return usage.Refused
	}
	return usage.Failed
}

// changes says what a modification takes, by the attributes that it changes. A refused one
// has the same list.
func changes(attributes []string) []string {
	password, other := false, len(attributes) == 0
	for _, a := range attributes {
		a, _, _ = strings.Cut(strings.ToLower(a), ";") // options of the attribute
		switch {
		case a == passwordAttribute:
			password = true
		case a != "" && !strings.Contains(operational, " "+a+" "):
			other = true
		}
	}
	var out []string
	if password {
		out = append(out, "ldap/password:change")
	}
	if other || !password {
		out = append(out, "ldap/entry:modify")
	}
	return out
}

// name reads a distinguished name as text and as a path, both in lower case: what names
// entries is compared without case by nearly every schema.
func (f *Format) name(s string) (text string, path []byte, err error) {
	path = bytes.Clone(f.source)
	if s == "" {
		return "", path, nil
	}
	if len(s) > mostOfAName {
		return "", nil, errors.New("is longer than any name")
	}
	parsed, err := dn.ParseDN(strings.ToLower(s))
	if err != nil {
		return "", nil, fmt.Errorf("%.200q is no distinguished name: %w", s, err)
	}
	for i := len(parsed.RDNs) - 1; i >= 0; i-- {
		for j, a := range parsed.RDNs[i].Attributes {
			name := []byte(a.Value)
			if j == 0 {
				path = append(path, '/')
				path = model.AppendEscaped(path, []byte(a.Type))
				path = append(path, ':')
			} else {
				name = []byte("+" + a.Type + "=" + a.Value)
			}
			path = model.AppendEscaped(path, name)
		}
	}
	return parsed.String(), path, nil
}
