package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/sandbox"
	"clipfence/internal/sandbox/generate"
)

func (a *app) sandboxCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "sandbox", Short: "Run Mooring, the stand-in cloud", Args: cobra.NoArgs,
		Long: "Mooring is a small simulated cloud that speaks the bridge protocol, so that every command has " +
			"something real to talk to.",
		Example: "  clipfence sandbox generate mooring\n  clipfence sandbox serve mooring --listen 127.0.0.1:7070",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.sandboxServe(), a.sandboxGenerate(), a.sandboxCall(), &cobra.Command{
		Use: "openapi", Short: "Print the bridge protocol as OpenAPI 3.1", Args: cobra.NoArgs,
		Example: "  clipfence sandbox openapi",
		RunE:    func(*cobra.Command, []string) error { _, err := a.out.Write(sandbox.OpenAPI); return err }})
	return cmd
}

func (a *app) sandboxServe() *cobra.Command {
	var listen string
	cmd := &cobra.Command{Use: "serve FOLDER", Short: "Serve the Mooring in a folder over HTTP on loopback",
		Args:    cobra.ExactArgs(1),
		Example: "  clipfence sandbox serve mooring --listen 127.0.0.1:7070",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := os.Stat(filepath.Join(args[0], "mooring.db")); err != nil {
				return fmt.Errorf("%s holds no Mooring; make one with: %s", args[0],
					command("clipfence sandbox generate %s", args[0]))
			}
			m, err := startMooring(args[0], listen)
			if err != nil {
				return err
			}
			if err := a.print(&render.Doc{Head: "Mooring serves " + m.url,
				Lines: []string{"Tokens of some identities are in " + filepath.Join(args[0], generate.TokensFile)},
				Value: map[string]string{"url": m.url}}); err != nil {
				return errors.Join(err, m.stop())
			}
			<-cmd.Context().Done()
			return m.stop()
		}}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7070", "loopback address and port; port 0 takes a free one")
	return cmd
}

// mooring is a running Mooring.
type mooring struct {
	url   string
	cloud *sandbox.Cloud
	srv   *http.Server
	done  chan error
}

func startMooring(dir, listen string) (*mooring, error) {
	host, _, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("%q is not a loopback address with a port, such as 127.0.0.1:7070", listen)
	}
	c, err := sandbox.Open(dir)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	m := &mooring{url: "http://" + l.Addr().String(), cloud: c,
		srv: &http.Server{Handler: c.Handler(), ReadHeaderTimeout: 10 * time.Second}, done: make(chan error, 1)}
	go func() { m.done <- m.srv.Serve(l) }()
	return m, nil
}

func (m *mooring) stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	err := m.srv.Shutdown(ctx)
	if serr := <-m.done; !errors.Is(serr, http.ErrServerClosed) {
		err = errors.Join(err, serr)
	}
	return errors.Join(err, m.cloud.Close())
}

func (a *app) sandboxGenerate() *cobra.Command {
	var o generate.Options
	var until timeFlag
	cmd := &cobra.Command{Use: "generate FOLDER", Short: "Make an estate and its calls, from a seed",
		Args: cobra.ExactArgs(1),
		Long: "Make the sample estate, Ternhaven Ferries, or a larger one of its kind, and the calls of so many " +
			"days. The same seed, scale, days and end give the same bytes.",
		Example: "  clipfence sandbox generate mooring --seed 7 --days 200 --until 2026-11-24T08:00:00Z",
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.Days < 1 || o.Days > 5000 || o.Scale < 1 || o.Scale > 2000 {
				return errors.New("--days must be 1 to 5000 and --scale 1 to 2000")
			}
			if o.Until = until.Time; o.Until.IsZero() {
				o.Until = a.clock().UTC().Truncate(time.Second)
			}
			progress := a.progress()
			defer progress("")
			f := generate.Estate(o)
			w, err := generate.Write(cmd.Context(), args[0], f,
				func(done, of int) { progress("day %d of %d", done, of) })
			if err != nil {
				return err
			}
			return a.print(&render.Doc{Head: fmt.Sprintf("Mooring made in %s: %s nodes, %s, %s grants, %s events "+
				"(%.0f MB of log)", args[0], render.Count(len(f.Docs[sandbox.KindNode])),
				identities(len(f.Docs[sandbox.KindIdentity])), render.Count(len(f.Docs[sandbox.KindGrant])),
				render.Count(w.Events), float64(w.Bytes)/1e6),
				Next: []string{command("clipfence sandbox serve %s", args[0])},
				Value: map[string]any{"folder": args[0], "events": w.Events, "refused": w.Refused,
					"unlogged": w.Unlogged, "bytes": w.Bytes}})
		}}
	f := cmd.Flags()
	f.Uint64Var(&o.Seed, "seed", 1, "the seed")
	f.IntVar(&o.Scale, "scale", 1, "1 is Ternhaven; n is about n times as large")
	f.IntVar(&o.Days, "days", 200, "days of calls")
	f.Var(&until, "until", "the last moment of the calls (default: now)")
	return cmd
}

func (a *app) sandboxCall() *cobra.Command {
	var url, tokens, who, as string
	cmd := &cobra.Command{Use: "call PERMISSION PATH", Short: "Make one call on a Mooring, as somebody",
		Args: cobra.ExactArgs(2),
		Long: "Make one call on a Mooring as an identity of its tokens file, and say whether it was let " +
			"through. Exit code 1 when it was refused.",
		Example: "  clipfence sandbox call stow/item:read " +
			"/mooring/harbour:ternhaven/pier:commercial/berth:ticketing/box:sales/1.csv --who " +
			"workload/ticket-export --tokens mooring/tokens.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := os.ReadFile(tokens)
			if err != nil {
				return err
			}
			var all map[string]string
			if err := json.Unmarshal(data, &all); err != nil {
				return fmt.Errorf("%s: %w", tokens, err)
			}
			if all[who] == "" {
				return fmt.Errorf("%s holds no token of %q", tokens, who)
			}
			ok, why, err := call(cmd.Context(), url, all[who], as, args[0], args[1])
			if err != nil {
				return err
			}
			head := "allowed: " + why
			if !ok {
				head = "refused: " + why
			}
			if err := a.print(&render.Doc{Head: head,
				Value: map[string]any{"allowed": ok, "because": why}}); err != nil {
				return err
			}
			if !ok {
				return errCheck
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&url, "url", "http://127.0.0.1:7070", "where the Mooring serves")
	f.StringVar(&tokens, "tokens", "mooring/"+generate.TokensFile, "its tokens file")
	f.StringVar(&who, "who", "", "who calls")
	f.StringVar(&as, "as", "", "acting as somebody else")
	return cmd
}

// call makes one call on a Mooring.
func call(ctx context.Context, url, token, as, permission, path string) (ok bool, why string, err error) {
	body, err := json.Marshal(map[string]string{"permission": permission, "path": path, "as": as})
	if err != nil {
		return false, "", err
	}
	req, err := http.NewRequestWithContext(ctx, "POST", strings.TrimSuffix(url, "/")+"/bridge/v2/act",
		bytes.NewReader(body))
	if err != nil {
		return false, "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return false, "", err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, 1<<16))
	if err != nil {
		return false, "", err
	}
	var answer struct{ Detail, Because string }
	if err := json.Unmarshal(data, &answer); err != nil {
		return false, "", fmt.Errorf("%s: %w", res.Status, err)
	}
	switch res.StatusCode {
	case 200:
		return true, answer.Because, nil
	case 403:
		return false, answer.Detail, nil
	}
	return false, "", fmt.Errorf("%s: %s", res.Status, answer.Detail)
}
