package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

func (a *app) auditVerb() *cobra.Command {
	offline, identity, state := "", "", ""
	var heads, paper []string
	v := &cobra.Command{Use: "audit", Short: "Hold the histories of all units against the tree, its checkpoints and what benches have kept (lead)", Args: cobra.NoArgs,
		Long:    "Reads every entry of every unit and of the audit log, computes the tree anew, and holds it against each\nsigned checkpoint; records against their signatures, events and runs. Exit 16 where something was changed,\nput in or taken away; what, is said by name.\n\nWith --offline it reads a dump, and no service is asked: --heads names what `ferry bench heads` has written on\na bench, whose key of the service it holds everything against.",
		Example: "  ferry audit\n  ferry audit --state audit.json\n  ferry audit --offline ferry-2026-11.dump --heads van.json",
		RunE: func(c *cobra.Command, args []string) error {
			printed, err := onPaper(paper)
			if err != nil {
				return err
			}
			if offline == "" && len(heads) > 0 {
				return core.Fail(core.BadFile, "--heads goes with --offline: the benches show the service itself what they have kept")
			}
			if offline != "" {
				return untilStopped(func(ctx context.Context) error { return a.auditOffline(ctx, offline, identity, heads, printed) })
			}
			return a.call(func(ctx context.Context, c *client.Client, _ []string) error {
				return a.auditAll(ctx, c, state, printed)
			})(c, args)
		}}
	v.Flags().StringVar(&offline, "offline", "", "a dump to read, in place of asking the service")
	v.Flags().StringVar(&identity, "identity", "", "with --offline: file of the identity for which the dump was encrypted")
	v.Flags().StringArrayVar(&heads, "heads", nil, "with --offline: file of what a bench has kept; several may be given, and one must")
	v.Flags().StringArrayVar(&paper, "paper", nil, "checkpoint that stands on a printed report: ENTRIES:ROOT")
	v.Flags().StringVar(&state, "state", "", "file that keeps how far the audit is: one that was broken off goes on there")
	v.AddCommand(a.auditLog())
	return v
}

// onPaper reads checkpoints as somebody types them off a report.
func onPaper(typed []string) (all []client.Printed, err error) {
	for _, t := range typed {
		size, root, ok := strings.Cut(t, ":")
		var p client.Printed
		if p.Size, err = strconv.ParseUint(strings.TrimSpace(size), 10, 62); err == nil && ok {
			p.Root, err = core.ParseDigest(strings.TrimSpace(root))
		}
		if err != nil || !ok || p.Size == 0 {
			return nil, core.Fail(core.NotUnderstood, "--paper %s is no checkpoint", t).Do("Type it as ENTRIES:ROOT, both as they stand under \"The histories when this was printed\".")
		}
		all = append(all, p)
	}
	return all, nil
}

// audited is what came of an audit.
type audited struct {
	Entries  uint64       `json:"entries"`
	Findings []core.Said  `json:"findings"`
	Tree     *client.Tree `json:"tree,omitempty"`
	Against  int          `json:"against,omitempty"` // checkpoints of benches
}

// begun is an audit that was broken off.
type begun struct {
	Walk     history.Walk `json:"walk"`
	Findings []core.Said  `json:"findings"`
}

// auditAll lets the service audit itself, a part at a time.
func (a *app) auditAll(ctx context.Context, c *client.Client, state string, printed []client.Printed) error {
	var at begun
	if state != "" {
		raw, err := os.ReadFile(state)
		if err == nil {
			err = json.Unmarshal(raw, &at)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return core.Fail(core.BadFile, "%s does not tell where an audit was broken off: %w", state, err).Do("Remove it to begin anew.")
		}
	}
	clear := func() {
		if a.live {
			fmt.Fprint(a.err, "\r\x1b[K")
		}
	}
	for {
		part, err := c.AuditAll(ctx, client.AuditStep{Walk: at.Walk, Printed: printed})
		clear()
		if err != nil {
			return err
		}
		at.Walk, at.Findings = part.Walk, append(at.Findings, part.Findings...)
		if part.Done {
			if state != "" {
				if err := os.Remove(state); err != nil && !errors.Is(err, os.ErrNotExist) {
					return err
				}
			}
			return a.showAudit(audited{Entries: part.Size, Findings: at.Findings, Tree: part.Tree})
		}
		if a.live {
			fmt.Fprint(a.err, toldOf(int(part.Size), "%s entry to read, %d read", "%s entries to read, %d read", part.Walk.Next))
		}
		if state == "" {
			continue
		}
		raw, err := json.Marshal(at)
		if err == nil {
			err = os.WriteFile(state, raw, 0o600)
		}
		if err != nil {
			return err
		}
	}
}

// auditOffline audits a dump against what benches have kept.
func (a *app) auditOffline(ctx context.Context, dump, identity string, files []string, printed []client.Printed) error {
	if len(files) == 0 {
		return core.Fail(core.BadFile, "an audit without the service wants to know what a bench has kept: --heads FILE").Do("Write it on a bench: ferry bench heads --dir FOLDER > FILE")
	}
	var kept []keptHeads
	for _, name := range files {
		raw, err := os.ReadFile(name)
		if err != nil {
			return core.Fail(core.NotFound, "%w", err)
		}
		var k keptHeads
		if err := json.Unmarshal(raw, &k); err != nil || len(k.ServiceKey) == 0 {
			return core.Fail(core.BadFile, "%s is not what ferry bench heads writes", name)
		}
		kept = append(kept, k)
	}
	r, f, err := openDump(dump, identity)
	if err != nil {
		return err
	}
	defer f.Close()
	archive, err := store.OpenArchive(r)
	if err != nil {
		return err
	}
	var service history.Line // a bench may not have heard yet of the newest
	for i, k := range kept {
		line, err := history.Line{Now: k.ServiceKey, Before: k.Before}.Follow(archive.Successions())
		if err != nil {
			return core.Fail(core.BadFile, "%s: %w", files[i], err)
		}
		if i > 0 && string(line.Now) != string(service.Now) {
			return core.Fail(core.BadFile, "%s is of a bench of another service: its key is %s, that of %s is %s", files[i], line.Now.ID(), files[0], service.Now.ID())
		}
		if len(line.Before) >= len(service.Before) {
			service = line
		}
	}
	x := &history.Audit{Service: service, Benches: archive.Benches, Names: archive.Name,
		Held: func(e *history.Entry, r *history.Record) ([]core.Said, error) {
			return store.Agrees(ctx, archive, e, r)
		}}
	for _, p := range printed {
		x.Against = append(x.Against, history.Checkpoint{Size: p.Size, Root: p.Root})
	}
	var heads []history.Head
	for i, k := range kept {
		for _, signed := range k.Checkpoints {
			c, err := service.OpenCheckpoint([]byte(signed))
			if err != nil {
				return core.Fail(core.BadFile, "%s: %w", files[i], err)
			}
			x.Against = append(x.Against, c)
		}
		heads = append(heads, k.Heads.Heads...)
	}
	var w history.Walk
	found, size, _, err := x.On(ctx, archive, &w, func() bool { return false })
	if err != nil {
		return err
	}
	for _, h := range heads {
		switch {
		case !h.Verify(service.Any()...):
			return core.Fail(core.BadFile, "the head of entry %d of %s was not signed by the service", h.N, archive.Name(h.Unit))
		case !archive.LeadsTo(h):
			found = append(found, core.Say("entry %d of %s is missing or another: a bench has kept its signed head", h.N, archive.Name(h.Unit)))
		}
	}
	return a.showAudit(audited{Entries: size, Findings: found, Against: len(x.Against)})
}

func (a *app) showAudit(x audited) error {
	if x.Findings == nil {
		x.Findings = []core.Said{}
	}
	if len(x.Findings) > 0 {
		a.exit = ExitCode(core.VerifyDiffers)
	}
	return a.show(x, func() {
		for _, f := range x.Findings {
			fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "✗"), f.Text)
		}
		if n := len(x.Findings); n > 0 {
			fmt.Fprintf(a.out, "%s %s, %s\n", a.paint(brick+bold, "NOT AS IT WAS ENTERED:"), toldOf(int(x.Entries), "%s entry read", "%s entries read"), toldOf(n, "%s finding", "%s findings"))
			return
		}
		fmt.Fprintf(a.out, "%s %s\n", a.paint(teal, "✓"), toldOf(int(x.Entries), "%s entry read: as it was entered and signed, none missing", "%s entries read: all as they were entered and signed, none missing"))
		if x.Against > 0 {
			fmt.Fprintf(a.out, "  %s\n", toldOf(x.Against, "held against %s checkpoint of benches", "held against %s checkpoints of benches"))
		}
		if t := x.Tree; t != nil {
			tell(a.out, "  checkpoint of %s: %d entries, root %s\n", when(t.At), t.Size, t.Root.String()[:16])
		}
	})
}

// keptHeads is what a bench has kept of the service's histories, with the key that it holds them
// against.
type keptHeads struct {
	ServiceKey trust.Public         `json:"serviceKey"`
	Before     []history.Succession `json:"before,omitempty"` // how it came to be the one in force
	client.Heads
}

// benchHeads writes what a bench has kept, for an audit without the service.
func (a *app) benchHeads(dir *string) *cobra.Command {
	return &cobra.Command{Use: "heads", Short: "What this bench has kept of the service's histories, for ferry audit --offline", Args: cobra.NoArgs,
		Example: "  ferry bench heads --dir /var/lib/ferry-bench > van.json",
		RunE: func(*cobra.Command, []string) error {
			w, err := bench.ReadWitness(*dir)
			if err != nil {
				return err
			}
			out, line := json.NewEncoder(a.out), w.Line()
			out.SetIndent("", "  ")
			return out.Encode(keptHeads{line.Now, line.Before, w.Kept()})
		}}
}

// auditLog shows what was done about who may what.
func (a *app) auditLog() *cobra.Command {
	all := false
	v := &cobra.Command{Use: "log", Short: "What was done about who may what, checked entry by entry (lead)", Args: cobra.NoArgs, Example: "  ferry audit log\n  ferry audit log --all --output json",
		Long: "Sign-ins and wrong passwords, people, roles, sessions, tokens, links, benches, keys, model sheets in force, vouched and\nwithdrawn releases. With --output json each entry is a line of its own.",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			page, err := c.Audit(ctx, 0)
			if err != nil {
				return err
			}
			entries, cut := page.Entries, page.Cut
			for before := page.Before; all && before > 0; {
				next, err := c.Audit(ctx, before)
				if err != nil {
					return err
				}
				entries, before, cut = append(entries, next.Entries...), next.Before, next.Cut
			}
			if page.Chain != "intact" {
				a.exit = ExitCode(core.VerifyDiffers)
			}
			if a.output == "json" {
				out := json.NewEncoder(a.out)
				for _, e := range entries {
					if err := out.Encode(e); err != nil {
						return err
					}
				}
				return nil
			}
			var rows [][]string
			for _, e := range entries {
				rows = append(rows, []string{fmt.Sprint(e.N), when(e.At), words.Audit.In(e.Kind), e.By, column(e.Text, 60)})
			}
			a.table([]string{"n", "at", "what", "by", ""}, rows)
			if cut > 0 {
				tell(a.out, "Entries 1 to %d were let go, as the team has settled, but those that say so. Their hashes stand in the chain and in the tree.\n", cut)
			}
			if len(page.Found) > 0 {
				fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "✗ changed since it was entered:"), core.Texts(page.Found, "; "))
			} else if a.output == "text" {
				tell(a.out, "%s as it was entered and signed\n", a.paint(teal, "✓"))
			}
			return nil
		})}
	v.Flags().BoolVar(&all, "all", false, "all of it, not only the newest hundred")
	return v
}
