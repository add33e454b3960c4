package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"clipfence/internal/render"
	"clipfence/internal/work"
)

func (a *app) patrolCmd() *cobra.Command {
	var once bool
	var every durationFlag
	cmd := &cobra.Command{
		Use: "patrol", Short: "The keeper: closes gates whose time is over", Args: cobra.NoArgs,
		Long: `Close every gate whose time is over or whose opening broke off, let lapse what
nobody answered, and look whether anything of a closed gate is left. With --once a
single round; otherwise a round every --every, until it is interrupted.

With apply_watched in clipfence.yaml it also carries out the drafts that were accepted and
watched, once their days are over and they would have refused nothing.`,
		Example: "  clipfence patrol --once\n  clipfence patrol --every 30s",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.real(); err != nil {
				return err
			}
			a.closes = true
			// A keeper whose log cannot be written goes on all the same.
			tell := func(d *render.Doc) error {
				err := a.print(d)
				if err != nil && !once {
					a.log.Error("patrol", "error", err)
					return nil
				}
				return err
			}
			return a.with(cmd.Context(), func(w *work.Workspace) error {
				for {
					round, err := w.Patrol(cmd.Context())
					if err != nil && !once {
						a.log.Error("patrol", "error", err)
					}
					if once || len(round.Closed)+len(round.Strays)+len(round.Lapsed)+len(round.Rowless) > 0 {
						if err := tell(roundDoc(round)); err != nil {
							return err
						}
					}
					done, left, carried := w.ApplyWatched(cmd.Context())
					if len(done)+len(left) > 0 && (once || len(done) > 0) {
						if perr := tell(watchedDoc(done, left)); perr != nil {
							return perr
						}
					}
					if err = errors.Join(err, carried); carried != nil && !once {
						a.log.Error("patrol", "error", carried)
					}
					if once {
						return err
					}
					pause := time.Duration(every.Duration)
					if pause == 0 {
						pause = 30 * time.Second
					}
					select {
					case <-cmd.Context().Done():
						return nil
					case <-time.After(pause):
					}
				}
			})
		},
	}
	cmd.Flags().BoolVar(&once, "once", false, "one round")
	cmd.Flags().Var(&every, "every", "the pause between rounds (default 30s)")
	return cmd
}

func roundDoc(r work.Round) *render.Doc {
	d := &render.Doc{Value: r}
	var parts []string
	say := func(rs []*work.Request, what string) {
		if len(rs) == 0 {
			return
		}
		parts = append(parts, fmt.Sprintf("%d %s", len(rs), what))
		for _, q := range rs {
			d.Lines = append(d.Lines, fmt.Sprintf("  %s: %s, %s of %s, asked for %q", what, q.ID, q.Gate, q.By,
				q.Reason))
		}
	}
	say(r.Closed, "closed")
	say(r.Rowless, "open by the ledger, in no row of the store, and closed")
	say(r.Closing, "not seen, and looked for again")
	say(r.Strays, "left behind and removed")
	say(r.Lapsed, "lapsed")
	say(r.Open, "still open, within their time")
	if r.Unlooked > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s that ended lately not looked at in this round",
			render.Plural(r.Unlooked, "request")))
	}
	d.Head = "Patrol: nothing to do"
	if len(parts) > 0 {
		d.Head = "Patrol: " + strings.Join(parts, ", ")
	}
	return d
}

// watchedDoc says what was carried out after it was watched.
func watchedDoc(done []*work.Record, left []work.LeftOut) *render.Doc {
	d := &render.Doc{Head: fmt.Sprintf("Carried out after watching: %s", render.Plural(len(done), "draft")),
		Value: map[string]any{"changes": done, "left": left}}
	for _, r := range done {
		d.Lines = append(d.Lines, fmt.Sprintf("  %s for %s", r.ID, r.For))
		d.Next = append(d.Next, "clipfence undo "+r.ID)
	}
	for _, l := range left {
		d.Lines = append(d.Lines, fmt.Sprintf("  left %s: %s", l.Name, l.Why))
	}
	return d
}
