package formats_test

import (
	"fmt"
	"strings"
	"testing"
)

// verdict is the first line that a record folds to, without what every row shares:
// a use, a fault (!) or a skip (~).
func verdict(t *testing.T, record string) string {
	t.Helper()
	var out []string
	for line := range strings.Lines(told(t, "x.log", []byte(record+"\n"))) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "! line 1: "):
			out = append(out, "! "+strings.TrimPrefix(line, "! line 1: "))
		case strings.HasPrefix(line, "~ 1: "):
			out = append(out, "~ "+strings.TrimPrefix(line, "~ 1: "))
		case strings.Contains(line, " from "):
			use, _, _ := strings.Cut(line, " from ")
			out = append(out, use)
		}
	}
	return strings.Join(out, "; ")
}

// TestKubernetesRecords: what one event says, part by part. The event is a get of pod
// p1 by ada; each row changes some of its fields.
func TestKubernetesRecords(t *testing.T) {
	event := func(changes string) string {
		f := map[string]string{"stage": `"ResponseComplete"`, "verb": `"get"`, "user": `{"username":"ada"}`,
			"ref": `{"resource":"pods","namespace":"shop","name":"p1"}`, "code": "200", "id": `"1"`,
			"time": `"2026-11-24T08:00:00Z"`, "version": `"audit.k8s.io/v1"`, "as": "null", "uri": `"/api"`,
			"notes": "{}"}
		for c := range strings.SplitSeq(changes, " & ") {
			if k, v, ok := strings.Cut(c, "="); ok {
				f[k] = v
			}
		}
		return fmt.Sprintf(
			`{"kind":"Event","apiVersion":%s,"auditID":%s,"stage":%s,"verb":%s,"requestURI":%s,"user":%s,"impersonatedUser":%s,"objectRef":%s,"responseStatus":{"code":%s},"requestReceivedTimestamp":%s,"annotations":%s}`,
			f["version"], f["id"], f["stage"], f["verb"], f["uri"], f["user"], f["as"], f["ref"], f["code"], f["time"],
			f["notes"])
	}
	for _, tt := range []struct{ changes, want string }{
		{``, `person/ada core/pods:get /x/namespace:shop/pods:p1 done`},
		{`verb="list" & ref={"resource":"pods","namespace":"shop"}`,
			`person/ada core/pods:list /x/namespace:shop done`},
		{`verb="create" & ref={"resource":"pods","namespace":"shop","name":"new"}`,
			`person/ada core/pods:create /x/namespace:shop done`},
		{`verb="create" & ref={"resource":"pods","namespace":"shop","name":"p1","subresource":"exec"}`,
			`person/ada core/pods/exec:create /x/namespace:shop/pods:p1 done`},
		{`ref={"resource":"deployments","apiGroup":"apps","namespace":"shop","name":"web"}`,
			`person/ada apps/deployments:get /x/namespace:shop/deployments:web done`},
		{`ref={"resource":"namespaces","name":"shop"}`, `person/ada core/namespaces:get /x/namespace:shop done`},
		{`ref={"resource":"namespaces","namespace":"shop","name":"shop"}`,
			`person/ada core/namespaces:get /x/namespace:shop done`},
		{`ref={"resource":"nodes","name":"n1"}`, `person/ada core/nodes:get /x/nodes:n1 done`},
		{`ref=null & uri="/healthz?verbose"`, `person/ada url/healthz:get /x done`},
		{`ref=null & uri="/"`, `person/ada url//:get /x done`},
		{`ref=null & uri="/a:b/\u001b[31m"`, `person/ada url/a:b/%1B%5B31m:get /x done`},
		{`ref={"resource":"secrets","namespace":"a/b","name":"x:y*"}`,
			`person/ada core/secrets:get /x/namespace:a%2Fb/secrets:x%3Ay%2A done`},
		{`code=403`, `person/ada core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`code=401`, `person/ada core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`user={} & code=401`, `~ a caller who could not prove who it is`},
		{`user={"username":"everyone"}`, `person/everyone core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"workload/ci"}`, `person/workload%2Fci core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"person/root"}`, `person/person%2Froot core/pods:get /x/namespace:shop/pods:p1 done`},
		{`code=403,"message":"users \"boss\" is forbidden: User \"ada\" cannot impersonate resource \"users\" in API group \"\" at the cluster scope"`, `person/ada core/users:impersonate /x/users:boss refused`},
		{`code=403,"message":"serviceaccounts \"bot\" is forbidden: User \"ada\" cannot impersonate resource \"serviceaccounts\" in API group \"\" in the namespace \"ops\""`, `person/ada core/serviceaccounts:impersonate /x/namespace:ops/serviceaccounts:bot refused`},
		{`code=403,"message":"pods \"p1\" is forbidden: User \"ada\" cannot impersonate-on:user-info:get resource \"pods\" in API group \"\" in the namespace \"shop\""`, `person/ada core/pods:impersonate-on%3Auser-info%3Aget /x/namespace:shop/pods:p1 refused`},
		{`code=403,"message":"pods \"p1\" is forbidden: User \"ada\" cannot get resource \"pods\" in API group \"\" in the namespace \"shop\""`, `person/ada core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`as={"username":"everyone"} & code=403`, `person/ada core/users:impersonate /x/users:everyone refused`},
		{`as={"username":"bob"} & code=403 & notes={"authorization.k8s.io/decision":"forbid"}`,
			`person/ada for person/bob core/pods:get /x/namespace:shop/pods:p1 refused; person/ada core/users:impersonate /x/users:bob done`},
		{`code=403 & notes={"authorization.k8s.io/decision":"allow"}`,
			`person/ada core/pods:get /x/namespace:shop/pods:p1 failed`},
		{`verb="patch" & code=201`,
			`person/ada core/pods:create /x/namespace:shop done; person/ada core/pods:patch /x/namespace:shop/pods:p1 done`},
		{`verb="update" & code=200`, `person/ada core/pods:update /x/namespace:shop/pods:p1 done`},
		{`code=404`, `person/ada core/pods:get /x/namespace:shop/pods:p1 failed`},
		{`code=500`, `person/ada core/pods:get /x/namespace:shop/pods:p1 failed`},
		{`notes={"authorization.k8s.io/decision":"forbid"}`,
			`person/ada core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`notes={"authorization.k8s.io/decision":"forbid"} & code=200`,
			`person/ada core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`code=null`, `person/ada core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"system:serviceaccount:ops:bot"}`,
			`workload/ops%2Fbot core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"system:serviceaccount:odd"}`,
			`workload/system%3Aserviceaccount%3Aodd core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"system:kube-scheduler"}`,
			`workload/system%3Akube-scheduler core/pods:get /x/namespace:shop/pods:p1 done`},
		{`user={"username":"system:anonymous"} & code=403`,
			`everyone core/pods:get /x/namespace:shop/pods:p1 refused`},
		{`as={"username":"system:serviceaccount:ops:bot"}`,
			`person/ada for workload/ops%2Fbot core/pods:get /x/namespace:shop/pods:p1 done; person/ada core/serviceaccounts:impersonate /x/namespace:ops/serviceaccounts:bot done`},
		{`as={"username":"bob"}`,
			`person/ada for person/bob core/pods:get /x/namespace:shop/pods:p1 done; person/ada core/users:impersonate /x/users:bob done`},
		{`as={"username":"system:masters-bot"}`,
			`person/ada for workload/system%3Amasters-bot core/pods:get /x/namespace:shop/pods:p1 done; person/ada core/users:impersonate /x/users:system%3Amasters-bot done`},
		{`stage="RequestReceived"`, `~ stage RequestReceived: no outcome yet`},
		{`stage="Panic" & code=500`, `person/ada core/pods:get /x/namespace:shop/pods:p1 failed`},
		{`id=""`, `! auditID is missing`},
		{`id=null`, `! auditID is missing`},
		{`user={}`, `! user.username is missing`},
		{`verb=""`, `~ a request without a verb, such as OPTIONS: it takes no right`},
		{`version="audit.k8s.io/v1beta1"`, `person/ada core/pods:get /x/namespace:shop/pods:p1 done`},
		{`version="audit.k8s.io/v2"`, `! apiVersion "audit.k8s.io/v2" is not audit.k8s.io/v1`},
		{`time="yesterday"`, `! requestReceivedTimestamp: time "yesterday" is not RFC 3339`},
		{`time="0001-01-01T00:00:00Z"`,
			`! requestReceivedTimestamp: time 0001-01-01T00:00:00Z is not between 1990 and 2200`},
		{`time=null`, `! requestReceivedTimestamp: time "" is not RFC 3339`},
		{`user={"username":7}`, `! user.username is missing`},
	} {
		if got := verdict(t, event(tt.changes)); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.changes, got, tt.want)
		}
	}
}

// TestCADFRecords: the same for a CADF event, an update of server s1 by u1.
func TestCADFRecords(t *testing.T) {
	event := func(changes string) string {
		f := map[string]string{"type": `"http://schemas.dmtf.org/cloud/audit/1.0/event"`, "id": `"1"`,
			"time": `"2026-11-24T08:00:00.000000+0000"`, "action": `"update"`, "outcome": `"success"`,
			"reason": "null", "initiator": `{"id":"i1","user_id":"u1","typeURI":"service/security/account/user"}`,
			"target": `{"id":"s1","typeURI":"service/compute/server"}`, "observer": `{"typeURI":"service/compute"}`}
		for c := range strings.SplitSeq(changes, " & ") {
			if k, v, ok := strings.Cut(c, "="); ok {
				f[k] = v
			}
		}
		return fmt.Sprintf(
			`{"typeURI":%s,"id":%s,"eventTime":%s,"action":%s,"outcome":%s,"reason":%s,"initiator":%s,"target":%s,"observer":%s}`, f["type"], f["id"], f["time"], f["action"], f["outcome"], f["reason"], f["initiator"], f["target"], f["observer"])
	}
	for _, tt := range []struct{ changes, want string }{
		{``, `unknown/u1 compute/server:update /x/server:s1 done`},
		{`action="read/list"`, `unknown/u1 compute/server:read%2Flist /x/server:s1 done`},
		{`action="created.project" & target={"id":"p1","typeURI":"data/security/project"} & observer={"typeURI":"service/security"}`, `unknown/u1 identity/project:created /x/project:p1 done`},
		{`action="authenticate" & outcome="failure"`, `unknown/u1 compute/server:authenticate /x/server:s1 refused`},
		{`action="authenticate" & target={"id":"made-up","typeURI":"service/security/account/user"}`,
			`unknown/u1 identity/user:authenticate /x/user:u1 done`},
		{`action="authenticate" & outcome="failure" & initiator={"id":"i1"}`,
			`unknown/i1 compute/server:authenticate /x/server:s1 refused`},
		{`action="authenticate" & outcome="failure" & reason={"reasonCode":"404"}`,
			`unknown/u1 compute/server:authenticate /x/server:s1 refused`},
		{`action="authenticate" & outcome="failure" & reason={"reasonCode":"404"} & initiator={"id":"made-up"}`,
			`~ a failed sign-in by somebody the service does not know`},
		{`action="created.role_assignment" & target={"id":"made-up","typeURI":"service/security/account/user"},"project":"p1"`, `unknown/u1 identity/role_assignment:created /x/project:p1 done`},
		{`action="deleted.role_assignment" & target={"id":"made-up","typeURI":"service/security/account/user"},"domain":"d1"`, `unknown/u1 identity/role_assignment:deleted /x/domain:d1 done`},
		{`target={"id":"s1","typeURI":"service/compute/server"},"project":"p1"`,
			`unknown/u1 compute/server:update /x/server:s1 done`},
		{`action="created.OS-TRUST:trust" & target={"id":"t1","typeURI":"data/security/trust"}`,
			`unknown/u1 identity/trust:created /x/trust:t1 done`},
		{`outcome="failure"`, `unknown/u1 compute/server:update /x/server:s1 failed`},
		{`outcome="failure" & reason={"reasonCode":"403"}`, `unknown/u1 compute/server:update /x/server:s1 refused`},
		{`outcome="failure" & reason={"reasonCode":401}`, `unknown/u1 compute/server:update /x/server:s1 refused`},
		{`outcome="failure" & reason={"reasonCode":500}`, `unknown/u1 compute/server:update /x/server:s1 failed`},
		{`outcome="pending"`, `~ outcome pending: another event tells the end`},
		{`outcome="unknown"`, `unknown/u1 compute/server:update /x/server:s1 failed`},
		{`outcome=null`, `unknown/u1 compute/server:update /x/server:s1 failed`},
		{`initiator={"id":"i1"}`, `unknown/i1 compute/server:update /x/server:s1 done`},
		{`initiator={}`, `~ an event of the service itself, or of somebody it does not tell: no initiator`},
		{`initiator={"typeURI":"service/security"}`, `! initiator has no id`},
		{`initiator=null`, `~ an event of the service itself, or of somebody it does not tell: no initiator`},
		{`initiator={"id":"i1","host":{"address":"10.1.2.3"}}`, `unknown/i1 compute/server:update /x/server:s1 done`},
		{`target={}`, `unknown/u1 compute/unknown:update /x done`},
		{`target={"id":"s 1/x","typeURI":"service/compute/server"}`,
			`unknown/u1 compute/server:update /x/server:s%201%2Fx done`},
		{`target=null`, `unknown/u1 compute/unknown:update /x done`},
		{`action=""`, `! action is missing`},
		{`observer={} & target={"id":"v","typeURI":"service/storage/volume"}`,
			`unknown/u1 storage/volume:update /x/volume:v done`},
		{`observer={"typeURI":"service/compute/network"}`, `unknown/u1 compute/server:update /x/server:s1 done`},
		{`observer={} & target={"id":"q","typeURI":"odd"}`, `unknown/u1 cadf/odd:update /x/odd:q done`},
		{`type="http://schemas.dmtf.org/cloud/audit/1.0/log"`,
			`! of no log format that is known here; a log map can say how to read it: docs/logs.md`},
		{`time="soon"`, `! eventTime: time "soon" is not RFC 3339`},
		{`id=""`, `unknown/u1 compute/server:update /x/server:s1 done`},
	} {
		if got := verdict(t, event(tt.changes)); got != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.changes, got, tt.want)
		}
	}
}

// TestPostgreSQLRecords: what a message of the server says, in jsonlog and, the same
// row, in csvlog, which must agree. A row is SQLSTATE, message, statement.
func TestPostgreSQLRecords(t *testing.T) {
	for _, tt := range []struct{ state, message, statement, want string }{
		{"00000", `connection authorized: user=clerk database=booking`, ``, `~ a message of the server`},
		{"28P01", `password authentication failed for user "clerk"`, ``,
			`unknown/clerk sql/database:connect /x/database:booking refused`},
		{"3D000", `database "x" does not exist`, ``, `~ a message of the server`},
		{"42501", `permission denied for table customer`, `select * from customer`,
			`unknown/clerk sql/table:select /x/database:booking/table:customer refused`},
		{"42501", `permission denied for table customer`, `  UPDATE customer set a=1`,
			`unknown/clerk sql/table:update /x/database:booking/table:customer refused`},
		{"42501", `permission denied for table customer`, `with x as (select 1) select * from customer`,
			`unknown/clerk sql/table:select /x/database:booking/table:customer refused`},
		{"42501", `permission denied for view report`, `select * from report`,
			`unknown/clerk sql/table:select /x/database:booking/table:report refused`},
		{"42501", `permission denied for materialized view report`, `select * from report`,
			`unknown/clerk sql/table:select /x/database:booking/table:report refused`},
		{"42501", `permission denied for relation old`, `delete from old`,
			`unknown/clerk sql/table:delete /x/database:booking/table:old refused`},
		{"42501", `permission denied for sequence seq`, `select nextval(1)`,
			`unknown/clerk sql/sequence:usage /x/database:booking/sequence:seq refused`},
		{"42501", `permission denied for function f`, `select f()`,
			`unknown/clerk sql/function:execute /x/database:booking/function:f refused`},
		{"42501", `permission denied for schema private`, `select * from private.x`,
			`unknown/clerk sql/schema:usage /x/database:booking/schema:private refused`},
		{"42501", `permission denied for schema public`, `create table x()`,
			`unknown/clerk sql/schema:create /x/database:booking/schema:public refused`},
		{"42501", `permission denied for database booking`, `create schema s`,
			`unknown/clerk sql/database:create /x/database:booking refused`},
		{"42501", `must be owner of table customer`, `drop table customer`,
			`unknown/clerk sql/table:drop /x/database:booking/table:customer refused`},
		{"42501", `must be owner of materialized view v`, `ALTER materialized view v`,
			`unknown/clerk sql/table:alter /x/database:booking/table:v refused`},
		{"42501", `must be owner of database booking`, `drop database booking`,
			`unknown/clerk sql/database:drop /x/database:booking refused`},
		{"42501", `must be owner of table customer`, `comment on table customer is 1`,
			`unknown/clerk sql/table:unknown /x/database:booking/table:customer refused`},
		{"42501", `permission denied to create role`, `create role x`,
			`unknown/clerk sql/object:unknown /x/database:booking refused`},
		{"42P01", `relation "x" does not exist`, `select * from x`, `~ a message of the server`},
		{"00000", `statement: select 1`, ``, `~ a statement without pgaudit names no objects`},
		{"00000", `duration: 3 ms`, ``, `~ a statement without pgaudit names no objects`},
		{"00000", `AUDIT: SESSION,1,1,READ,SELECT,TABLE,public.customer,select * from customer,<none>`, ``,
			`unknown/clerk sql/table:select /x/database:booking/schema:public/table:customer done`},
		{"00000", `AUDIT: OBJECT,1,1,WRITE,UPDATE,TABLE,public.customer,update customer set a=1,<none>`, ``,
			`unknown/clerk sql/table:update /x/database:booking/schema:public/table:customer done`},
		{"00000", `AUDIT: OBJECT,1,1,WRITE,UPDATE,TABLE,public.customer,update customer set a=1 where b=2,<none>`, ``,
			`unknown/clerk sql/table:select /x/database:booking/schema:public/table:customer done; unknown/clerk sql/table:update /x/database:booking/schema:public/table:customer done`},
		{"00000", `AUDIT: SESSION,1,1,READ,COPY,TABLE,public.customer,copy customer to stdout,<none>`, ``,
			`unknown/clerk sql/table:select /x/database:booking/schema:public/table:customer done`},
		{"00000", `AUDIT: SESSION,1,1,WRITE,COPY,TABLE,public.customer,copy customer from stdin,<none>`, ``,
			`unknown/clerk sql/table:insert /x/database:booking/schema:public/table:customer done`},
		{"00000", `AUDIT: SESSION,1,1,READ,SELECT,SEQUENCE,public.seq,select,<none>`, ``,
			`unknown/clerk sql/sequence:select /x/database:booking/schema:public/sequence:seq done`},
		{"00000", `AUDIT: SESSION,1,1,READ,SELECT,,,select 1,<none>`, ``, `~ a statement that touches no relation`},
		{"00000", `AUDIT: SESSION,1,1,MISC,SET,,,set role admin,<none>`, ``,
			`unknown/clerk sql/role:set /x/role:admin done`},
		{"00000", `AUDIT: SESSION,1,1,MISC,SET,,,set role none,<none>`, ``, `~ a setting of the session`},
		{"00000", `AUDIT: SESSION,1,1,MISC,SET,,,set local role "admin";,<none>`, ``,
			`unknown/clerk sql/role:set /x/role:admin done`},
		{"00000", `AUDIT: SESSION,1,1,DDL,CREATE TABLE,TABLE,public.x,create table x(),<none>`, ``,
			`unknown/clerk sql/schema:create /x/database:booking/schema:public/table:x done`},
		{"00000", `AUDIT: SESSION,1,1,DDL,DROP EXTENSION,EXTENSION,e,drop extension e,<none>`, ``,
			`unknown/clerk sql/object:drop-extension /x/database:booking/object:e done`},
		{"00000", `AUDIT: SESSION,1,1,FUNCTION,EXECUTE,FUNCTION,"public.f(integer, text)",select f(1),<none>`, ``,
			`unknown/clerk sql/function:execute /x/database:booking/schema:public/function:f done`},
		{"00000", `AUDIT: SESSION,1,1,ROLE,GRANT ROLE,,,grant a to b,<none>`, ``,
			`unknown/clerk sql/role:grant /x/database:booking done`},
		{"00000", `AUDIT: SESSION,1`, ``, `! not a line of pgaudit: "SESSION,1"`},
		{"00000", `AUDIT: ODD,1,1,READ,SELECT,TABLE,t,x,y`, ``,
			`! not a line of pgaudit: "ODD,1,1,READ,SELECT,TABLE,t,x,y"`},
		{"00000", `checkpoint starting: time`, ``, `~ a message of the server`},
	} {
		severity := "LOG"
		switch {
		case strings.HasPrefix(tt.state, "28"):
			severity = "FATAL"
		case tt.state != "00000":
			severity = "ERROR"
		}
		json := fmt.Sprintf(
			`{"timestamp":"2026-11-24 08:00:00.000 UTC","user":"clerk","dbname":"booking","remote_host":"10.0.0.9","session_id":"a.b","line_num":4,"error_severity":%q,"state_code":%q,"message":%q,"statement":%q}`, severity, tt.state, tt.message, tt.statement)
		quote := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
		csv := fmt.Sprintf(
			`2026-11-24 08:00:00.000 UTC,"clerk","booking",7,"10.0.0.9:50000",a.b,4,"SELECT",2026-11-24 07:00:00 UTC,1/1,0,%s,%s,%s,,,,,,%s,,,"psql","client backend",,0`, severity, tt.state, quote(tt.message), quote(tt.statement))
		for form, record := range map[string]string{"jsonlog": json, "csvlog": csv} {
			if got := verdict(t, record); got != tt.want {
				t.Errorf("%s %q:\n got %s\nwant %s", form, tt.message, got, tt.want)
			}
		}
	}
}
