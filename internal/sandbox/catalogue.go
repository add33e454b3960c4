package sandbox

import (
	"fmt"
	"strings"
)

// catalogueText lists every permission Mooring knows: service, noun, the kinds
// of node it applies to, then verbs with their level (l list, r read, w write,
// a administer, h hand-out) and, behind '!', what the holder can give itself.
const catalogueText = `
store bucket bucket,project list:l get:r create:w update:w delete:a get-policy:r set-policy:h!edit-grants get-retention:r set-retention:a set-lifecycle:a
store object bucket list:l read:r read-metadata:r create:w overwrite:w delete:w restore:w copy:w set-labels:w set-hold:a get-policy:r set-policy:h!edit-grants
store version bucket list:l read:r delete:a restore:w
store upload bucket list:l start:w finish:w abort:w
store notice bucket list:l get:r create:w delete:w
store replica bucket,project list:l get:r create:a delete:a pause:w
queue topic topic,project list:l get:r create:w update:w delete:a get-policy:r set-policy:h!edit-grants
queue message topic,subscription publish:w receive:r acknowledge:w peek:r purge:a replay:w
queue subscription subscription,topic,project list:l get:r create:w update:w delete:w seek:w
queue schema project list:l get:r create:w delete:w validate:r
queue dead-letter subscription,project list:l get:r drain:w purge:a
queue snapshot project list:l get:r create:w delete:w
compute machine machine,project list:l get:r create:w start:w stop:w restart:w resize:a delete:a get-console:r log-in:a!run-as set-identity:h!run-as set-labels:w
compute disk disk,project list:l get:r create:w attach:w detach:w resize:w delete:a snapshot:w
compute image project list:l get:r create:w deprecate:w delete:a share:a
compute job job,project list:l get:r create:w run:w cancel:w update-code:a!run-as delete:a
compute function function,project list:l get:r create:w invoke:w update-code:a!run-as set-identity:h!run-as delete:a get-policy:r set-policy:h!edit-grants
compute cluster project list:l get:r create:a resize:a upgrade:a delete:a get-credentials:a!mint-credential
compute schedule project list:l get:r create:w pause:w delete:w
database instance instance,project list:l get:r create:a restart:w resize:a delete:a connect:r get-metrics:r set-flags:a
database schema instance list:l get:r create:w update:w delete:a
database table instance list:l read:r insert:w update:w delete:w truncate:a export:r import:w
database user instance list:l get:r create:h!mint-credential set-password:h!mint-credential delete:a
database backup instance,project list:l get:r create:w restore:a delete:a
database query instance run:r cancel:w explain:r history:r
secrets secret secret,project list:l get:r create:w update:w delete:a get-policy:r set-policy:h!edit-grants
secrets version secret list:l get:r read:r add:w disable:w destroy:a
secrets key project list:l get:r create:a rotate:w disable:a destroy:a use-encrypt:w use-decrypt:r
secrets certificate project list:l get:r issue:a renew:w revoke:a
network net net,project list:l get:r create:a update:a delete:a peer:a
network subnet net list:l get:r create:w update:w delete:a
network rule net list:l get:r create:a update:a delete:a
network address project list:l get:r reserve:w release:w
network balancer project list:l get:r create:w update:w drain:w delete:a
network zone project list:l get:r create:w update:w delete:a
network record project list:l get:r create:w update:w delete:w
network tunnel project list:l get:r create:a delete:a restart:w
logging entry project list:l read:r create:w
logging setting project,unit,org list:l get:r update:a
logging sink project list:l get:r create:a update:a delete:a
logging metric project list:l get:r create:w delete:w
logging alert project list:l get:r create:w update:w mute:w delete:w
logging dashboard project list:l get:r create:w update:w delete:w
identity node org,unit,project list:l get:r create:a move:a delete:a
identity identity org,unit,project list:l get:r create:a disable:a enable:a delete:a update:w
identity group org list:l get:r create:w delete:a
identity membership org list:l create:h!join-group delete:a
identity act-as org,unit,project list:l create:h!run-as delete:a use:a!run-as
identity credential org,unit,project list:l mint:h!mint-credential revoke:a
identity role org,unit,project list:l get:r create:a update:h!edit-role delete:a
identity grant org,unit,project list:l get:r create:h!edit-grants update:h!edit-grants delete:a
identity denial org,unit,project list:l create:a update:h!lift-denial delete:h!lift-denial
identity ceiling org list:l create:a update:h!lift-ceiling delete:h!lift-ceiling
identity guardrail org list:l create:a update:h!lift-guardrail delete:h!lift-guardrail
identity policy org,unit,project simulate:r audit:r
`

// Log classes. Read is off by default; admin cannot be switched off.
const (
	ClassAdmin = "admin"
	ClassWrite = "write"
	ClassRead  = "read"
)

// Services lists the services in the order of the catalogue.
var Services = []string{"store", "queue", "compute", "database", "secrets", "network", "logging", "identity"}

// Catalogue returns every permission that Mooring knows.
func Catalogue() []*Permission {
	var out []*Permission
	levels := map[string]string{"l": "list", "r": "read", "w": "write", "a": "administer", "h": "hand-out"}
	classes := map[string]string{"l": ClassRead, "r": ClassRead, "w": ClassWrite, "a": ClassAdmin, "h": ClassAdmin}
	for line := range strings.Lines(strings.TrimSpace(catalogueText)) {
		f := strings.Fields(line)
		for _, v := range f[3:] {
			verb, rest, _ := strings.Cut(v, ":")
			level, escalates, _ := strings.Cut(rest, "!")
			out = append(out, &Permission{
				Permission: fmt.Sprintf("%s/%s:%s", f[0], f[1], verb),
				Level:      levels[level],
				Kinds:      strings.Split(f[2], ","),
				LogClass:   classes[level],
				Escalates:  escalates,
			})
		}
	}
	return out
}

// BuiltinRoles returns the roles that exist in every Mooring, from very narrow
// to very broad.
func BuiltinRoles() []*Role {
	all := Catalogue()
	pick := func(levels string, nouns ...string) []string {
		var out []string
		for _, p := range all {
			for _, n := range nouns {
				if strings.Contains(levels, p.Level[:1]) && PermissionMatches(n+":*", p.Permission) {
					out = append(out, p.Permission)
				}
			}
		}
		return out
	}
	role := func(name, title string, do []string) *Role {
		return &Role{Name: name, Title: title, Builtin: true, Do: do}
	}
	roles := []*Role{
		role("object-reader", "Read objects of a bucket", []string{"store/object:list", "store/object:read", "store/object:read-metadata"}),
		role("object-creator", "Add objects to a bucket", []string{"store/object:create", "store/upload:start", "store/upload:finish", "store/upload:abort"}),
		role("object-editor", "Read, add and change objects of a bucket", pick("lrw", "store/object", "store/upload")),
		role("topic-publisher", "Publish to a topic", []string{"queue/message:publish"}),
		role("subscription-consumer", "Receive and acknowledge messages", []string{"queue/message:receive", "queue/message:acknowledge", "queue/subscription:get"}),
		role("secret-reader", "Read the values of secrets", []string{"secrets/secret:get", "secrets/version:read"}),
		role("function-invoker", "Invoke functions", []string{"compute/function:invoke"}),
		role("job-runner", "Run and cancel jobs", []string{"compute/job:list", "compute/job:get", "compute/job:run", "compute/job:cancel"}),
		role("table-reader", "Connect and read tables", []string{"database/instance:connect", "database/table:list", "database/table:read", "database/query:run"}),
		role("table-writer", "Connect, read and write tables", []string{"database/instance:connect", "database/table:list", "database/table:read", "database/table:insert", "database/table:update", "database/query:run"}),
		role("metric-reader", "Read metrics and dashboards", pick("lr", "logging/metric", "logging/dashboard")),
		role("log-reader", "Read log entries", pick("lr", "logging/entry")),
		role("log-writer", "Write log entries", []string{"logging/entry:create"}),
		role("inventory-reader", "Read every policy and the inventory, nothing else", append(pick("lr", "identity/*"), "logging/setting:list", "logging/setting:get", "logging/entry:list", "logging/entry:read")),
		role("access-manager", "Change grants, roles and memberships", append(pick("lrah", "identity/grant", "identity/role", "identity/membership", "identity/act-as"), "logging/setting:update")),
	}
	for _, s := range Services[:7] {
		roles = append(roles,
			role(s+"-viewer", "See everything in "+s, pick("lr", s+"/*")),
			role(s+"-editor", "Use and change everything in "+s, pick("lrw", s+"/*")),
			role(s+"-admin", "Administer "+s, pick("lrwah", s+"/*")))
	}
	return append(roles,
		role("viewer", "See everything", pick("lr", "*/*")),
		role("editor", "Use and change everything but access", pick("lrw", "*/*")),
		role("administrator", "Everything, including access", []string{"*/*:*"}))
}
