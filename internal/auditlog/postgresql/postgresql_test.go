package postgresql

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/auditlog"
)

// TestLines: what one line of the log says, as operations on paths.
func TestLines(t *testing.T) {
	const db = "/pg/database:ferry"
	audit := func(class, command, kind, object, statement string) map[string]any {
		quote := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
		if object != "" {
			object = quote(object)
		}
		return map[string]any{"message": fmt.Sprintf("AUDIT: SESSION,1,1,%s,%s,%s,%s,%s,<not logged>", class, command,
			kind, object, quote(statement))}
	}
	denied := func(message, statement string) map[string]any {
		return map[string]any{"error_severity": "ERROR", "state_code": "42501", "message": message,
			"statement": statement}
	}
	for _, tt := range []struct {
		name string
		line map[string]any
		want string // operation path, with ! where refused; "skip"
	}{
		{"select", audit("READ", "SELECT", "TABLE", "public.tickets", "select 1 from tickets"), "sql/table:select " +
			db + "/schema:public/table:tickets"},
		{"a quoted name with a dot", audit("READ", "SELECT", "TABLE", `public."a.b"`, `select * from "a.b"`),
			"sql/table:select " + db + "/schema:public/table:a.b"},
		{"a quoted schema with a dot", audit("READ", "SELECT", "TABLE", `"x.y".t`, `select * from "x.y".t`),
			"sql/table:select " + db + "/schema:x.y/table:t"},
		{"a quote in a name", audit("READ", "SELECT", "TABLE", `public."say ""hi"""`, `table "say ""hi"""`),
			"sql/table:select " + db + `/schema:public/table:say%20%22hi%22`},
		{"a slash in a name", audit("READ", "SELECT", "TABLE", `public."a/b"`, `select * from "a/b"`),
			"sql/table:select " + db + "/schema:public/table:a%2Fb"},
		{"a view", audit("READ", "SELECT", "VIEW", "public.v", "select * from v"), "sql/table:select " + db +
			"/schema:public/table:v"},
		{"a sequence", audit("READ", "SELECT", "SEQUENCE", "public.s", "select"), "sql/sequence:select " + db +
			"/schema:public/sequence:s"},
		{"insert", audit("WRITE", "INSERT", "TABLE", "public.tickets", "insert into tickets values (1)"),
			"sql/table:insert " + db + "/schema:public/table:tickets"},
		{"update without where", audit("WRITE", "UPDATE", "TABLE", "public.tickets", "update tickets set a = 1"),
			"sql/table:update " + db + "/schema:public/table:tickets"},
		{"update with where", audit("WRITE", "UPDATE", "TABLE", "public.t", "update t set a = 1 where b = 2"),
			"sql/table:update " + db + "/schema:public/table:t, sql/table:select " + db + "/schema:public/table:t"},
		{"copy to", audit("READ", "COPY", "TABLE", "public.t", "copy t to stdout"), "sql/table:select " + db +
			"/schema:public/table:t"},
		{"copy from", audit("WRITE", "COPY", "TABLE", "public.t", "copy t from stdin"), "sql/table:insert " + db +
			"/schema:public/table:t"},
		{"a function", audit("FUNCTION", "EXECUTE", "FUNCTION", "public.refund(integer, text)",
			"select refund(1, '')"), "sql/function:execute " + db + "/schema:public/function:refund"},
		{"a merge with a command that is not listed", audit("READ", "SENECT", "TABLE", "public.t",
			"merge into t using s on t.id = s.id when matched then delete"), "sql/table:senect " + db +
			"/schema:public/table:t"},
		{"a truncate that names nothing", audit("DDL", "TRUNCATE TABLE", "", "", "truncate"), "sql/table:truncate " +
			db},
		{"a command that is not listed", audit("DDL", "REFRESH MATERIALIZED VIEW", "MATERIALIZED VIEW", "public.m",
			"refresh"), "sql/table:refresh-materialized-view " + db + "/schema:public/table:m"},
		{"no object", audit("READ", "SELECT", "", "", "select 1"), "skip"},
		{"set role", audit("MISC", "SET", "", "", "SET ROLE Clerk;"), "sql/role:set /pg/role:clerk"},
		{"set role in quotes", audit("MISC_SET", "SET", "", "", `set local role "Night Clerk"`),
			"sql/role:set /pg/role:Night%20Clerk"},
		{"set role none", audit("MISC", "SET", "", "", "set role none"), "skip"},
		{"another setting", audit("MISC", "SET", "", "", "set search_path to role"), "skip"},
		{"refused select", denied("permission denied for table tickets", "select * from tickets"),
			"!sql/table:select " + db + "/table:tickets"},
		{"refused in a statement with a part of its own",
			denied("permission denied for table tickets", "with x as (select 1) select * from tickets"),
			"!sql/table:select " + db + "/table:tickets"},
		{"refused in a schema", denied("permission denied for schema public", "create table x()"),
			"!sql/schema:create " + db + "/schema:public"},
		{"refused use of a schema", denied("permission denied for schema hr", "select * from hr.t"),
			"!sql/schema:usage " + db + "/schema:hr"},
		{"refused function", denied("permission denied for function refund", "select refund(1)"),
			"!sql/function:execute " + db + "/function:refund"},
		{"refused materialized view", denied("permission denied for materialized view m", "select * from m"),
			"!sql/table:select " + db + "/table:m"},
		{"refused, a name as it is", denied(`permission denied for table Tide. "Log"`,
			`select * from yard."Tide. ""Log"""`), "!sql/table:select " + db + "/schema:yard/table:Tide.%20%22Log%22"},
		{"refused sequence", denied("permission denied for sequence n", "select nextval('yard.n')"),
			"!sql/sequence:usage " + db + "/schema:yard/sequence:n"},
		{"refused function of a schema", denied("permission denied for function f", "select yard.f()"),
			"!sql/function:execute " + db + "/schema:yard/function:f"},
		{"not the owner, in a schema", denied("must be owner of table t", "alter table yard.t add c int"),
			"!sql/table:alter " + db + "/schema:yard/table:t"},
		{"not the owner", denied("must be owner of table tickets", "drop table tickets"), "!sql/table:drop " + db +
			"/table:tickets"},
		{"refused otherwise", denied("must be superuser to do this", "alter system set x = 1"),
			"!sql/object:unknown " + db},
		{"connection", map[string]any{"message": "connection authorized: user=ann database=ferry"}, "skip"},
		{"connection of 18", map[string]any{"message": "connection ready: setup total=4.1 ms",
			"session_id": "692e0000.1"}, "sql/database:connect " + db},
		{"statement of a session", map[string]any{"session_id": "692e0000.1",
			"message": "AUDIT: SESSION,1,1,READ,SELECT,TABLE,public.t,select * from t,<none>"},
			"sql/database:connect " + db + ", sql/table:select " + db + "/schema:public/table:t"},
		{"through a view", audit("READ", "SELECT", "TABLE", "public.tickets", "select * from v"),
			"sql/table:select-through " + db + "/schema:public/table:tickets"},
		{"no relation, though one is touched", audit("READ", "SELECT", "", "", "select * from tickets"),
			"sql/table:select " + db},
		{"truncate", audit("WRITE", "TRUNCATE TABLE", "", "", "truncate public.a, b"), "sql/table:truncate " + db +
			"/schema:public/table:a, sql/table:truncate " + db + "/table:b"},
		{"refused, in another language", denied("keine Berechtigung für Tabelle tickets", "select * from tickets"),
			"!sql/object:unknown " + db},
		{"refused, of a schema that the statement names",
			denied("permission denied for table t", "insert into shop.t select * from shop.u"), "!sql/table:insert " +
				db + "/schema:shop/table:t"},
		{"a wrong password", map[string]any{"error_severity": "FATAL", "state_code": "28P01",
			"message": `password authentication failed for user "ann"`}, "!sql/database:connect " + db},
		{"a statement", map[string]any{"message": "statement: select 1"}, "skip"},
		{"a checkpoint", map[string]any{"message": "checkpoint starting: time"}, "skip"},
		{"an error that is no refusal", map[string]any{"error_severity": "ERROR", "state_code": "42P01",
			"message": `relation "x" does not exist`}, "skip"},
	} {
		line := map[string]any{"timestamp": "2026-11-24 08:00:00.000 UTC", "user": "ann", "dbname": "ferry",
			"session_id": "1.2", "line_num": 3, "error_severity": "LOG"}
		for k, v := range tt.line {
			line[k] = v
		}
		record, err := json.Marshal(line)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		f := New("pg", nil)
		if !f.Sniff(record) {
			t.Errorf("%s: not taken for a line of PostgreSQL", tt.name)
		}
		err = f.Parse(record, func(e *auditlog.Event) error {
			s := string(e.Operation) + " " + string(e.Path)
			if !e.Outcome.Allowed() {
				s = "!" + s
			}
			got = append(got, s)
			return nil
		})
		var skip *auditlog.Skip
		if errors.As(err, &skip) {
			got, err = []string{"skip"}, nil
		}
		if s := strings.Join(got, ", "); err != nil || s != tt.want {
			t.Errorf("%s: %s, %v; want %s", tt.name, s, err, tt.want)
		}
	}
}

func TestIdentifiers(t *testing.T) {
	for in, want := range map[string]string{
		"t": "t", "s.t": "s|t", `"S".t`: "S|t", `"a.b"."c""d"`: `a.b|c"d`, "s.f(a.b, c)": "s|f",
		`"f(x)".g(int)`: "f(x)|g", "": "", `"unclosed.x`: "unclosed.x", "a.": "a|",
	} {
		if got := strings.Join(identifiers(in), "|"); got != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
}
