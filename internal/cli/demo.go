package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"clipfence/internal/render"
	"clipfence/internal/sandbox"
	"clipfence/internal/sandbox/generate"
	"clipfence/internal/work"
)

func (a *app) demoCmd() *cobra.Command {
	var seed uint64
	cmd := &cobra.Command{
		Use: "demo [FOLDER]", Short: "The whole job on the sample estate, narrated, in a fresh folder",
		Args: cobra.MaximumNArgs(1),
		Long: `Make the sample estate, Ternhaven Ferries, start Mooring, the stand-in cloud, on a
free loopback port, and walk through the whole job: connect, survey, compare,
draft, rehearse, apply, confirm, undo, elevate, expire. Every output is real, and
the demo checks itself: it exits with 1 when a check does not hold. It leaves a
workspace to play with.`,
		Example: "  clipfence demo\n  clipfence demo /tmp/ternhaven",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := ""
			var err error
			if len(args) == 1 {
				if dir, err = filepath.Abs(args[0]); err == nil {
					err = os.Mkdir(dir, 0o700)
				}
			} else {
				dir, err = os.MkdirTemp("", "clipfence-demo-")
			}
			if err != nil {
				return fmt.Errorf("the demo wants a fresh folder: %w", err)
			}
			d := &demo{app: a, ctx: cmd.Context(), dir: dir, seed: seed, start: time.Now()}
			return d.run()
		},
	}
	cmd.Flags().Uint64Var(&seed, "seed", 1, "seed of the sample estate")
	return cmd
}

// demo is one walk through the whole job.
type demo struct {
	app   *app
	ctx   context.Context
	dir   string
	seed  uint64
	start time.Time

	moor   *mooring
	tokens map[string]string
	failed int
	asker  string // a person on call
	boss   string // a person who approves
}

const (
	demoWorkload = "workload/ticket-export"
	demoProject  = "/mooring/harbour:ternhaven/pier:commercial/berth:ticketing"
	demoObject   = demoProject + "/box:sales/2026-11-01/1.csv"
)

func (d *demo) run() (err error) {
	for _, step := range []func() error{d.found, d.connect, d.look, d.narrow, d.takeBack, d.lend, d.prove} {
		if err = d.ctx.Err(); err != nil {
			break
		}
		if err = step(); err != nil {
			break
		}
	}
	if d.moor != nil {
		err = errors.Join(err, d.moor.stop())
	}
	if err != nil {
		return fmt.Errorf("the demo stopped: %w\nits folder is %s", err, d.dir)
	}
	d.end()
	if d.failed > 0 {
		return errCheck
	}
	return nil
}

func (d *demo) title(s string) {
	paint := render.Painter(d.app.colourOn(d.app.out))
	fmt.Fprintf(d.app.out, "\n%s\n", paint("== "+s+" "+strings.Repeat("=", max(2, 74-len(s))), render.Strong))
}

func (d *demo) tell(format string, args ...any) {
	fmt.Fprintf(d.app.out, format+"\n", args...)
}

// check tells whether something that must hold does.
func (d *demo) check(ok bool, format string, args ...any) {
	paint := render.Painter(d.app.colourOn(d.app.out))
	mark := paint("[ok]", render.Good)
	if !ok {
		mark = paint("[FAILED]", render.Bad)
		d.failed++
	}
	fmt.Fprintf(d.app.out, "%s %s\n", mark, fmt.Sprintf(format, args...))
}

// cmd runs a command of this program, shows it and its output, and returns an
// error when it ends otherwise than expected.
func (d *demo) cmd(args ...string) error {
	paint := render.Painter(d.app.colourOn(d.app.out))
	var shown []string
	for _, s := range args {
		if strings.ContainsAny(s, " '") {
			s = "'" + s + "'"
		}
		shown = append(shown, s)
	}
	fmt.Fprintf(d.app.out, "\n%s\n", paint("$ clipfence "+strings.Join(shown, " "), render.Strong))
	return d.quiet(args...)
}

func (d *demo) quiet(args ...string) error {
	sub := &app{ctx: d.ctx, in: strings.NewReader(""), out: d.app.out, err: d.app.err, clock: d.app.clock}
	root := sub.root()
	root.SetArgs(append([]string{"-C", filepath.Join(d.dir, "workspace"), "--color",
		map[bool]string{true: "always", false: "never"}[d.app.colourOn(d.app.out)]}, args...))
	root.SetOut(d.app.out)
	root.SetErr(d.app.err)
	if err := root.ExecuteContext(d.ctx); err != nil && !errors.Is(err, errCheck) {
		return err
	}
	return nil
}

// mayCall makes a call on Mooring and checks whether it is let through.
func (d *demo) mayCall(who, permission, path string, want bool, why string) error {
	ok, because, err := call(d.ctx, d.moor.url, d.tokens[who], "", permission, path)
	if err != nil {
		return err
	}
	verdict := "Mooring allows"
	if !ok {
		verdict = "Mooring refuses"
	}
	d.check(ok == want, "%s: %s %s  (%s)", why, verdict, permission, because)
	return nil
}

func (d *demo) found() error {
	d.title("The sample estate")
	d.tell("Ternhaven Ferries is made up: a timetable, tickets, tides, cameras, a crew. Mooring,")
	d.tell("a small stand-in cloud, holds its people, workloads and grants, and 200 days of calls.")
	until := d.app.clock().UTC().Truncate(time.Second)
	f := generate.Estate(generate.Options{Seed: d.seed, Scale: 1, Days: 200, Until: until})
	for _, m := range f.Docs[sandbox.KindMembership] {
		m := m.(*sandbox.Membership)
		switch {
		case m.Group == "group/platform-oncall" && d.asker == "":
			d.asker = m.Member
		case m.Group == "group/security-leads" && d.boss == "":
			d.boss = m.Member
		}
	}
	f.Tokens[d.asker] = sandbox.NewToken()
	progress := d.app.progress()
	w, err := generate.Write(d.ctx, filepath.Join(d.dir, "mooring"), f,
		func(n, of int) { progress("making day %d of %d", n, of) })
	progress("")
	if err != nil {
		return err
	}
	d.tokens = f.Tokens
	if d.moor, err = startMooring(filepath.Join(d.dir, "mooring"), "127.0.0.1:0"); err != nil {
		return err
	}
	d.tell("Made: %d identities, %d grants, %s logged calls. Mooring serves %s", len(f.Docs[sandbox.KindIdentity]),
		len(f.Docs[sandbox.KindGrant]), render.Count(w.Events), d.moor.url)
	return nil
}

func (d *demo) connect() error {
	d.title("1. Connect, and check our own rights")
	d.tell("Reading and changing are two identities with two tokens. Tokens are named, never written down.")
	ws := filepath.Join(d.dir, "workspace")
	if err := d.files(ws); err != nil {
		return err
	}
	return d.cmd("source", "check")
}

// files writes the workspace of the demo.
func (d *demo) files(ws string) error {
	write := func(name, text string) error {
		name = filepath.Join(ws, name)
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return err
		}
		return os.WriteFile(name, []byte(text), 0o600)
	}
	people := ""
	for i, who := range []string{d.asker, d.boss} {
		private, public, err := newKey()
		if err != nil {
			return err
		}
		if err := write(fmt.Sprintf("keys/%s", []string{"asker", "approver"}[i]), private); err != nil {
			return err
		}
		people += fmt.Sprintf("  - id: %s\n    keys: [%q]\n", who, public)
	}
	private, public, err := newKey()
	if err != nil {
		return err
	}
	for name, text := range map[string]string{"trustee": private, "trustee.pub": public + "\n"} {
		if err := os.WriteFile(filepath.Join(d.dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	config := fmt.Sprintf(`# The workspace of the demo. Its fields: clipfence schema config
clipfence: 2
window: 90d
max_survey_age: 24h

# Never changed: the account for emergencies, and what this tool works as.
protected:
  - person/harbour-master
  - workload/clip-fence-survey
  - workload/clip-fence-change

# How long Mooring may take to show what was changed.
wait: 10s

sources:
  - name: mooring
    kind: bridge
    url: %s
    token: {file: keys/read.token}
    change_token: {file: keys/change.token}

# Who may sign gate requests and approvals, and their SSH keys.
people:
%s`, d.moor.url, people)
	gateFile := fmt.Sprintf(`# Whoever is on call may administer ticketing for an hour, when a lead agrees.
gate: 2
name: ticketing-admin
source: mooring
opens:
  role: skipper
  where: [%s/**]
may_ask: [group/platform-oncall]
longest: 1h
approvers: [group/security-leads]
approvals: 1
`, demoProject)
	return errors.Join(write("clipfence.yaml", config), write("gates/ticketing-admin.gate.yaml", gateFile),
		write("keys/read.token", d.tokens["workload/clip-fence-survey"]+"\n"),
		write("keys/change.token", d.tokens["workload/clip-fence-change"]+"\n"))
}

// newKey makes an SSH key pair: OpenSSH private key, authorized_keys line.
func newKey() (private, public string, err error) {
	pub, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", "", err
	}
	block, err := ssh.MarshalPrivateKey(priv, "clipfence demo")
	if err != nil {
		return "", "", err
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		return "", "", err
	}
	return string(pem.EncodeToMemory(block)), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), nil
}

func (d *demo) look() error {
	d.title("2. Survey: who has what, and what they did")
	if err := d.cmd("survey"); err != nil {
		return err
	}
	d.title("3. How far can the evidence be trusted?")
	d.tell("Unused is a claim about evidence. Where a log is off, nothing can be called unused.")
	if err := d.cmd("coverage"); err != nil {
		return err
	}
	d.title("4. Granted against used, and what is wrong")
	if err := d.cmd("gauge", "--kind", "workload"); err != nil {
		return err
	}
	if err := d.cmd("findings", "--severity", "medium"); err != nil {
		return err
	}
	d.tell("")
	d.tell("year-end-closing has been silent since January and is not on this list: it may be yearly.")
	return d.cmd("gauge", "workload/year-end-closing")
}

func (d *demo) narrow() error {
	d.title("5. Draft and rehearse the narrower access of " + demoWorkload)
	d.tell("It administers a whole berth and reads one box. What may it do today?")
	for _, x := range []struct {
		permission, why string
	}{{"stow/item:read", "its work"}, {"stow/item:throw-out", "not its work"}} {
		if err := d.mayCall(demoWorkload, x.permission, demoObject, true, x.why); err != nil {
			return err
		}
	}
	if err := d.cmd("draft", "--for", demoWorkload); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(d.dir, "workspace", "drafts", "workload-ticket-export.fence.yaml"))
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	d.tell("\n$ head -14 drafts/workload-ticket-export.fence.yaml\n%s",
		strings.Join(lines[:min(14, len(lines))], "\n"))
	if err := d.cmd("rehearse", demoWorkload); err != nil {
		return err
	}
	d.title("6. Apply, and see that it holds")
	if err := d.cmd("apply", demoWorkload, "--yes", "--reason", "reads one box, administers a berth"); err != nil {
		return err
	}
	d.tell("")
	if err := d.mayCall(demoWorkload, "stow/item:read", demoObject, true, "its work goes on"); err != nil {
		return err
	}
	if err := d.mayCall(demoWorkload, "stow/item:throw-out", demoObject, false, "the rest is gone"); err != nil {
		return err
	}
	return d.mayCall(demoWorkload, "muster/grant:give", demoProject, false, "it hands out no rights")
}

func (d *demo) takeBack() error {
	d.title("7. Undo is one step")
	if err := d.cmd("undo", "c-1", "--yes"); err != nil {
		return err
	}
	d.tell("")
	if err := d.mayCall(demoWorkload, "stow/item:throw-out", demoObject, true, "exactly as before"); err != nil {
		return err
	}
	d.tell("The draft is still there, and good: it goes back on.")
	if err := d.cmd("draft", "--for", demoWorkload, "--force"); err != nil {
		return err
	}
	if err := d.cmd("apply", demoWorkload, "--yes"); err != nil {
		return err
	}
	d.tell("")
	return d.mayCall(demoWorkload, "stow/item:throw-out", demoObject, false, "narrow again")
}

func (d *demo) lend() error {
	d.title("8. Lend the powerful right for a moment")
	d.tell("%s is on call and needs to administer ticketing; %s approves.", d.asker, d.boss)
	d.tell("Who they are is proven by their SSH keys.")
	write := func(want bool, why string) error {
		return d.mayCall(d.asker, "tables/library:restart", demoProject+"/library:main", want, why)
	}
	if err := write(false, "before"); err != nil {
		return err
	}
	key := func(name string) string { return filepath.Join(d.dir, "workspace", "keys", name) }
	d.tell("\nWho may ask and approve stands in the workspace; that it counts, a trustee vouches for")
	d.tell("whose key is pinned outside of it.")
	for _, args := range [][]string{{"trust", "pin", filepath.Join(d.dir, "trustee.pub")},
		{"trust", "sign", "--key", filepath.Join(d.dir, "trustee"), "--yes"}} {
		if err := d.cmd(args...); err != nil {
			return err
		}
	}
	if err := d.cmd("gate", "ask", "ticketing-admin", "--for", "2s", "--reason", "refund run is stuck", "--key",
		key("asker")); err != nil {
		return err
	}
	r, err := d.newest()
	if err != nil {
		return err
	}
	if err := d.cmd("gate", "approve", r.ID, "--key", key("approver"), "--yes"); err != nil {
		return err
	}
	if err := d.cmd("gate", "open", r.ID, "--yes"); err != nil {
		return err
	}
	if err := write(true, "while it is open"); err != nil {
		return err
	}
	if r, err = d.newest(); err != nil {
		return err
	}
	d.tell("\nSuppose the process that opened it dies here. The time runs out ...")
	select {
	case <-d.ctx.Done():
		return d.ctx.Err()
	case <-time.After(time.Until(r.Until) + 100*time.Millisecond):
	}
	if err := write(false, "its time is over"); err != nil {
		return err
	}
	if err := d.cmd("patrol", "--once"); err != nil {
		return err
	}
	_, err = d.moor.cloud.Get(sandbox.KindGrant, r.GrantID())
	d.check(errors.Is(err, sandbox.ErrNotFound), "nothing of the elevation is left in Mooring")
	return nil
}

// newest returns the request that was asked for last.
func (d *demo) newest() (*work.Request, error) {
	sub := &app{ctx: d.ctx, in: d.app.in, out: d.app.out, err: d.app.err, clock: d.app.clock,
		dir: filepath.Join(d.dir, "workspace")}
	w, err := sub.open(d.ctx)
	if err != nil {
		return nil, err
	}
	gates, err := w.Gates(d.ctx)
	if err != nil {
		return nil, errors.Join(err, w.Close())
	}
	all := gates.Requests
	if len(all) == 0 {
		err = errors.New("no gate request was kept")
	}
	if err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return all[len(all)-1], w.Close()
}

func (d *demo) prove() error {
	d.title("9. What was done is on record")
	if err := d.cmd("ledger", "list"); err != nil {
		return err
	}
	return d.cmd("ledger", "verify")
}

func (d *demo) end() {
	d.title("Done")
	if d.failed > 0 {
		d.tell("%d checks FAILED in %.0f s.", d.failed, time.Since(d.start).Seconds())
	} else {
		d.tell("Every check held, in %.0f s.", time.Since(d.start).Seconds())
	}
	host := strings.TrimPrefix(d.moor.url, "http://")
	if _, err := exec.LookPath("clipfence"); err != nil {
		d.tell("\nTo go on, put the program on your PATH, such as: go build -o /usr/local/bin/clipfence " +
			"./cmd/clipfence")
	}
	d.tell("\nThe workspace stays in %s. Start Mooring again in a second terminal and play on:", d.dir)
	d.tell("  clipfence sandbox serve %s --listen %s", filepath.Join(d.dir, "mooring"), host)
	d.tell("  cd %s", filepath.Join(d.dir, "workspace"))
	d.tell("  clipfence findings                       what else is wrong")
	d.tell("  clipfence reach workload/build-runner --through")
	d.tell("  clipfence draft --for workload/camera-sync && clipfence apply workload/camera-sync")
	d.tell("  clipfence apply --dry-run workload/camera-sync")
	d.tell("  clipfence draft --all && clipfence review --key keys/approver")
	d.tell("  clipfence draft --from task              access for a task, in place of everything")
}
