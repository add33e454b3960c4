package postgresql

import (
	"encoding/csv"
	"strings"
	"testing"
	"time"
)

// TestMore: what a statement takes beside the verb that pgaudit names, on the relation
// shop.tickets. Each was tried on a server, with a role that had only the one right.
func TestMore(t *testing.T) {
	for _, tt := range []struct{ command, text, want string }{
		{"UPDATE", "update shop.tickets set price = 9", ""},
		{"UPDATE", "update shop.tickets set price = default, note = now()::text", ""},
		{"UPDATE", "update shop.tickets set price = price + 1", "select"},
		{"UPDATE", "update shop.tickets set (price, note) = (1, 'x')", ""},
		{"UPDATE", "update shop.tickets set note = 'where', price = 1 where true", ""},
		{"UPDATE", "UPDATE shop.tickets\nSET price = 1\nWHERE id = 1", "select"},
		{"UPDATE", "update shop.tickets set price=1/**/where id=1", "select"},
		{"UPDATE", "update shop.tickets set price = 1 -- where id = 1\n", ""},
		{"UPDATE", "update shop.tickets set note = $$where id$$", ""},
		{"UPDATE", "update shop.tickets set note = E'it\\'s where id'", ""},
		{"UPDATE", "update shop.tickets set price = 1 returning 1", ""},
		{"UPDATE", "update shop.tickets set price = 1 returning *", "select"},
		{"UPDATE", "update shop.tickets t set price = s.n from shop.stock s", ""},
		{"UPDATE", "update shop.tickets t set price = s.n from shop.stock s where t.id = s.id", "select"},
		{"UPDATE", "update shop.tickets as t set price = t.price from shop.stock s", "select"},
		{"UPDATE", `update "shop"."tickets" set "price" = "note"::int`, "select"},
		{"UPDATE", "<previously logged>", "select"},
		{"DELETE", "delete from shop.tickets", ""},
		{"DELETE", "delete from shop.tickets where id = 9", "select"},
		{"DELETE", "delete from shop.tickets using shop.stock where shop.tickets.id = shop.stock.id", "select"},
		{"DELETE", "delete from shop.tickets using shop.stock where shop.stock.id = 1", ""},
		{"INSERT", "insert into shop.tickets values (1, 'returning id')", ""},
		{"INSERT", "insert into shop.tickets values (1) returning id", "select"},
		{"INSERT", "insert into shop.tickets values (1) on conflict do nothing", ""},
		{"INSERT", "insert into shop.tickets values (1) on conflict (id) do nothing", "select"},
		{"INSERT", "insert into shop.tickets values (1) on conflict (id) do update set price = 1", "update select"},
		// of which relation n is, the text does not tell
		{"INSERT", "insert into shop.tickets select id from shop.stock where n > 1", "select"},
		{"SELECT", "select * from shop.tickets", ""},
		{"SELECT", "select 'for update' from shop.tickets", ""},
		{"SELECT", "select * from shop.tickets for no key update skip locked", "update"},
		{"SELECT", "select * from shop.tickets t join shop.stock s on true for share of s", ""},
		{"SELECT", "select * from shop.tickets t join shop.stock s on true for share of t", "update"},
		{"INSERT", "merge into shop.tickets t using shop.stock s on t.id = s.id when matched then delete",
			"select delete"},
		{"INSERT", "merge into shop.tickets t using shop.stock s on t.id = s.id when matched then update set price " +
			"= 1 when not matched then insert values (1)", "select update"},
	} {
		if got := strings.Join(parse(tt.text).more(tt.command, "shop.tickets"), " "); got != tt.want {
			t.Errorf("%s, %q: %q, want %q", tt.command, tt.text, got, tt.want)
		}
	}
}

// TestWords: which relations a statement names, truncates and touches, and which verb it
// was refused.
func TestWords(t *testing.T) {
	for _, tt := range []struct{ text, named, truncated, touches, denied string }{
		{"select * from shop.cheap", "no", "", "yes", "select"},
		{"select * from shop . tickets", "yes", "", "yes", "select"},
		{`select * from "Tickets"`, "no", "", "yes", "select"},
		{"select '1 from tickets'", "no", "", "no", "select"},
		{"select nextval('shop.seq')", "no", "", "no", "select"},
		{"select * from generate_series(1, 9)", "no", "", "no", "select"},
		{"truncate table only shop.tickets, stock restart identity", "yes", `"shop"."tickets" "stock"`, "yes",
			"truncate"},
		{`truncate "a""b"`, "no", `"a""b"`, "yes", "select"},
		{"table tickets", "yes", "", "yes", "select"},
		{"/* x */ update only tickets set a = 1", "yes", "", "yes", "update"},
		{"with x as (delete from shop.tickets returning 1) select 1", "yes", "", "yes", "delete"},
		{"insert into shop.tickets select 1", "yes", "", "yes", "insert"},
		{"insert into tickets select * from tickets", "yes", "", "yes", "select"},
		{"insert into trail select * from tickets", "yes", "", "yes", "select"},
		{"copy tickets from stdin", "yes", "", "yes", "insert"},
		{"explain (analyze) delete from tickets", "yes", "", "yes", "delete"},
		{"", "yes", "", "yes", "unknown"},
	} {
		s := parse(tt.text)
		yes := map[bool]string{true: "yes", false: "no"}
		got := strings.Join([]string{yes[s.named("shop.tickets")], strings.Join(s.truncated(), " "), yes[s.touches()],
			s.denied("tickets")}, "|")
		if want := strings.Join([]string{tt.named, tt.truncated, tt.touches, tt.denied}, "|"); got != want {
			t.Errorf("%q: %s, want %s", tt.text, got, want)
		}
	}
}

// TestWhen: the zones in which a server may write its times.
func TestWhen(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		text string
		zone *time.Location
		want string
	}{
		{"2026-07-01 12:00:00.123 UTC", nil, "2026-07-01T12:00:00.123Z"},
		{"2026-07-01 12:00:00.123 -03", nil, "2026-07-01T15:00:00.123Z"},
		{"2026-07-01 12:00:00.123 +0545", nil, "2026-07-01T06:15:00.123Z"},
		{"2026-07-01 12:00:00.123 GMT", nil, "2026-07-01T12:00:00.123Z"},
		{"2026-07-01 12:00:00.123 CEST", nil, "log_zone"},
		{"2026-07-01 12:00:00.123 CEST", oslo, "2026-07-01T10:00:00.123Z"},
		{"2026-10-25 02:30:00.000 CEST", oslo, "2026-10-25T00:30:00Z"},
		{"2026-10-25 02:30:00.000 CET", oslo, "2026-10-25T01:30:00Z"},
		{"2026-07-01 12:00:00.123 PST", oslo, "knows no zone PST"},
		{"yesterday", nil, "not RFC 3339"},
	} {
		ms, err := New("s", tt.zone).when([]byte(tt.text))
		got := time.UnixMilli(ms).UTC().Format(time.RFC3339Nano)
		if err != nil {
			got = err.Error()
		}
		if got != tt.want && (err == nil || !strings.Contains(got, tt.want)) {
			t.Errorf("%q: %s, want %s", tt.text, got, tt.want)
		}
	}
}

// TestFields holds the splitter against encoding/csv.
func TestFields(t *testing.T) {
	for _, in := range []string{"a,b,c", `"a","b""c",d`, `,,`, "\"a\nb\",x,\"\"", `"""",b,c`, `a,"b"x,c`, `"a,b,c`, "",
		"a",
		"2026-11-26 03:00:00.123 UTC,\"w\"\"1\",x", "a,longer than eight,", "12345678,1234567,123456789",
		`"""""",",",""`} {
		out := make([][]byte, 3)
		_, odd, err := fields([]byte(in), []int{0, 1, 2}, out)
		r := csv.NewReader(strings.NewReader(in))
		want, werr := r.Read()
		if (err == nil) != (werr == nil && len(want) == 3) {
			t.Errorf("%q: %v, want %q, %v", in, err, want, werr)
			continue
		}
		for i := range out {
			if odd>>i&1 != 0 {
				out[i] = undoubled(out[i])
			}
			if err == nil && string(out[i]) != want[i] {
				t.Errorf("%q: field %d is %q, want %q", in, i, out[i], want[i])
			}
		}
	}
}

func FuzzTokens(f *testing.F) {
	for _, s := range []string{"select 1 -- x", "/* /* */", "$a$ x", `"`, "'", "e'\\", "a.b.c"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p := parse(s)
		for _, c := range []string{"SELECT", "INSERT", "UPDATE", "DELETE"} {
			p.more(c, "a.b")
		}
		p.truncated()
		p.denied("b")
		p.touches()
		for _, w := range p.words {
			if w.text == "" && !w.quote {
				t.Fatalf("%q: an empty token", s)
			}
		}
	})
}
