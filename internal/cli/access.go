package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// kept is the file in which a person's tokens are, by the address of the service. Nobody else
// may read it.
func keptIn() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "ferry", "signed-in.json"), err
}

// keptTokens reads it. A file that others may read is refused: what is in it opens the team's
// catalogue and register.
func keptTokens() (map[string]string, error) {
	all := map[string]string{}
	path, err := keptIn()
	if err != nil {
		return all, nil // no home, nothing kept
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, core.Fail(core.NotAllowed, "others may read %s, which holds your sign-in", path).Do("Take that right away (chmod 600), then: ferry sign-in, for somebody may have read it.")
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		return nil, core.Fail(core.BadFile, "%s cannot be read: %w", path, err).Do("Remove it, and sign in again: ferry sign-in.")
	}
	return all, nil
}

// keepToken puts a token into the file, or takes it out where it is empty.
func keepToken(url, token string) (string, error) {
	all, err := keptTokens()
	if err != nil {
		return "", err
	}
	if all[url] = token; token == "" {
		delete(all, url)
	}
	path, err := keptIn()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	raw, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(path+".new", append(raw, '\n'), 0o600); err != nil {
		return "", err
	}
	return path, os.Rename(path+".new", path)
}

func (a *app) signInVerb() *cobra.Command {
	machine := ""
	v := &cobra.Command{Use: "sign-in", Short: "Sign this machine in as you: type a code in the console", Args: cobra.NoArgs,
		Long:    "Shows a code. Whoever is signed in to the console types it there, and this machine gets a token that is\nhis own, with an end. It is kept for this user alone. Scripts have one in FERRY_TOKEN, which goes first.",
		Example: "  ferry sign-in --url https://ferry.example.org",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			m, err := c.AskMachine(ctx, client.NewMachine{Machine: machine})
			if err != nil {
				return err
			}
			tell(a.err, "In the console, at %s%s, type\n\n  %s\n\nwithin %d minutes. Only a code that you have asked for yourself.\n", a.console(), m.Page, a.bright(m.Code), m.Seconds/60)
			answer, err := a.untilLetIn(ctx, c, m)
			if err != nil {
				return err
			}
			path, err := keepToken(a.url, answer.Token)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"name": answer.Name, "ends": answer.Ends, "file": path}, func() {
				tell(a.out, "%s signed in as %s, until %s. The token is in %s.\n", a.paint(teal, "✓"), answer.Name, when(*answer.Ends), path)
			})
		})}
	host, _ := os.Hostname()
	if machine = host; machine == "" {
		machine = "a machine"
	}
	if u, err := user.Current(); err == nil {
		machine = u.Username + "@" + machine
	}
	v.Flags().StringVar(&machine, "machine", machine, "what this machine is called in the console")
	return v
}

// untilLetIn asks whether somebody has let the machine in, until he has or it is over.
func (a *app) untilLetIn(ctx context.Context, c *client.Client, m client.Machine) (client.MachineAnswer, error) {
	for {
		select {
		case <-ctx.Done():
			return client.MachineAnswer{}, ctx.Err()
		case <-a.clock.After(time.Duration(m.Interval) * time.Second):
		}
		answer, err := c.MachineState(ctx, m.Device)
		switch {
		case core.KindOf(err) == core.Busy, core.KindOf(err) == core.NotAnswering: // too soon, or the service is away
		case err != nil:
			return answer, err
		case answer.State == "given":
			return answer, nil
		case answer.State == "refused":
			return answer, core.Fail(core.NotAllowed, "somebody has refused to let this machine in").Do("Ask again if that was a mistake: ferry sign-in.")
		}
	}
}

func (a *app) signOutVerb() *cobra.Command {
	return &cobra.Command{Use: "sign-out", Short: "End this machine's token, and forget it", Args: cobra.NoArgs, Example: "  ferry sign-out",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			kept, err := keptTokens()
			if err != nil {
				return err
			}
			if kept[a.url] == "" {
				return core.Fail(core.NotFound, "this machine is not signed in at %s", a.url)
			}
			c = client.New(a.url, kept[a.url], a.clock)
			defer c.Close()
			all, err := c.People(ctx)
			for _, p := range all.People {
				for _, x := range p.Access {
					if x.Current {
						err = errors.Join(err, c.EndAccess(ctx, x.ID))
					}
				}
			}
			if err != nil && core.KindOf(err) == core.NotAnswering {
				return err // it is still good there
			}
			if _, err := keepToken(a.url, ""); err != nil {
				return err
			}
			return a.show(map[string]string{"signedOut": a.url}, func() { tell(a.out, "%s signed out of %s\n", a.paint(teal, "✓"), a.url) })
		})}
}

func (a *app) confirmVerb() *cobra.Command {
	return &cobra.Command{Use: "confirm [CODE]", Short: "Show your second factor: for five minutes it is sure that it is you", Args: cobra.MaximumNArgs(1), Example: "  ferry confirm",
		Long: "What others must be able to rely on wants it: trusting and revoking keys, withdrawing releases, ending accounts and\nbenches. A second factor is set up in the console, on the page Team.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			code := ""
			if len(args) == 1 {
				code = args[0]
			} else {
				var err error
				if code, err = a.typed("The six digits that it shows now: "); err != nil {
					return err
				}
			}
			if err := c.Confirm(ctx, strings.TrimSpace(code)); err != nil {
				return err
			}
			return a.show(map[string]bool{"confirmed": true}, func() { tell(a.out, "%s for five minutes it is sure that it is you\n", a.paint(teal, "✓")) })
		})}
}

func (a *app) retentionVerb() *cobra.Command {
	var photos, traces, log int
	v := &cobra.Command{Use: "retention", Short: "How long photos, traces of lines and the audit log are kept; settles it (lead)", Args: cobra.NoArgs, Example: "  ferry retention\n  ferry retention --photos 1825 --traces 365\n  ferry retention --log 2555",
		Long: "What is older is removed, from a day after it was settled on. Digests of photos and traces stay wherever they are\nnamed, in signed records too; of entries of the audit log the hashes stay, in their chain and in the tree."}
	v.Flags().IntVar(&photos, "photos", 0, "days; 0 is until somebody removes them")
	v.Flags().IntVar(&traces, "traces", 0, "days for what was said on a line until something went wrong; 0 is for good")
	v.Flags().IntVar(&log, "log", 0, "days for the audit log, 366 at least; 0 is for good")
	v.RunE = a.call(func(ctx context.Context, c *client.Client, _ []string) error {
		var n client.NewRetention
		for name, x := range map[string]struct {
			given *int
			to    **int
		}{"photos": {&photos, &n.Photos}, "traces": {&traces, &n.Traces}, "log": {&log, &n.Log}} {
			if v.Flags().Changed(name) {
				*x.to = x.given
			}
		}
		ask := c.Retention
		if n != (client.NewRetention{}) {
			ask = func(ctx context.Context) (client.Retention, error) { return c.PutRetention(ctx, n) }
		}
		r, err := ask(ctx)
		if err != nil {
			return err
		}
		return a.show(r, func() {
			for _, k := range r.Kept {
				fmt.Fprintln(a.out, wrap(k.Text, 0))
				if k.By != "" {
					a.pair("by", k.By+", "+when(*k.At))
				}
			}
			if n != (client.NewRetention{}) {
				tell(a.out, "For a day nothing of what was settled now is removed: a number that was mistyped can be taken back.\n")
			}
		})
	})
	return v
}

func (a *app) quotaVerb() *cobra.Command {
	given := map[string]*int{}
	v := &cobra.Command{Use: "quota", Short: "How much one bench or person may send in a day, and who has sent the most today; settles it (lead)", Args: cobra.NoArgs, Example: "  ferry quota\n  ferry quota --pieces 65536\n  ferry quota --photos 4096 --events 0",
		Long: "So that nobody fills the database. What is beyond it is refused until the next day (UTC) or until a lead lets more in: a\nbench keeps it, and sends it then. A bench that has sent as many events as it may begins no other run, unless on a unit\nthat is half written; what is under way is taken up to twice as many. The audit log says whom it was refused."}
	given["pieces"] = v.Flags().Int("pieces", 0, "MiB of memory that a bench may send; 0 is without a bound")
	given["events"] = v.Flags().Int("events", 0, "events of runs that a bench may send; 0 is without a bound")
	given["photos"] = v.Flags().Int("photos", 0, "MiB of photos that a person may send; 0 is without a bound")
	given["images"] = v.Flags().Int("images", 0, "MiB of firmware files that a person may send; 0 is without a bound")
	v.RunE = a.call(func(ctx context.Context, c *client.Client, _ []string) error {
		var n client.NewQuotas
		for name, to := range map[string]**int{"pieces": &n.Pieces, "events": &n.Events, "photos": &n.Photos, "images": &n.Images} {
			if v.Flags().Changed(name) {
				*to = given[name]
			}
		}
		ask := c.Quotas
		if n != (client.NewQuotas{}) {
			ask = func(ctx context.Context) (client.Quotas, error) { return c.PutQuotas(ctx, n) }
		}
		q, err := ask(ctx)
		if err != nil {
			return err
		}
		return a.show(q, func() {
			for _, x := range q.Quotas {
				fmt.Fprintln(a.out, wrap(x.Text, 0))
				if x.By != "" {
					a.pair("by", x.By+", "+when(*x.At))
				}
			}
			tell(a.out, "\nSent today (%s, UTC):\n", q.Day)
			if len(q.Sent) == 0 {
				tell(a.out, "  nothing yet\n")
			}
			for _, x := range q.Sent {
				mark := " "
				if x.Reached {
					mark = a.paint(brick, "✗")
				}
				fmt.Fprintf(a.out, "%s %s\n", mark, x.Text)
			}
		})
	})
	return v
}

func (a *app) peopleVerb() *cobra.Command {
	v := &cobra.Command{Use: "people", Short: "The team: who is in it, what they may do, where they are signed in"}
	list := &cobra.Command{Use: "list", Short: "Everybody, with sessions and tokens (for leads, and your own)", Args: cobra.NoArgs, Example: "  ferry people list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.People(ctx)
			if err != nil {
				return err
			}
			return a.show(all, func() { a.people(all.People) })
		})}
	n := client.NewMember{Role: "technician"}
	add := &cobra.Command{Use: "invite NAME", Short: "Add somebody, who gets a one-use link (lead)", Args: cobra.ExactArgs(1), Example: "  ferry people invite \"Edda Rooke\" --role technician",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Name = args[0]
			x, err := c.Invite(ctx, n)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s %s, %s. Give them this link; it signs in once, until %s:\n  %s/sign-in#%s\n", a.paint(teal, "✓"), x.Name, x.Role, when(x.Expires), a.console(), x.Code)
			})
		})}
	add.Flags().StringVar(&n.Role, "role", n.Role, "technician, lead or viewer")
	add.Flags().StringVar(&n.Email, "email", "", "where to reach them")
	m, at, all := client.MemberChange{}, []string{}, false
	change := &cobra.Command{Use: "change NAME", Short: "Give somebody another role or address, or say at which sites a technician works (lead)", Args: cobra.ExactArgs(1), Example: "  ferry people change \"Edda Rooke\" --role lead\n  ferry people change \"Edda Rooke\" --site Ormsay --site \"Skerry Point\"\n  ferry people change \"Edda Rooke\" --everywhere",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if all {
				at = []string{}
			}
			if len(at) > 0 || all {
				m.Sites = &at
			}
			if m == (client.MemberChange{}) {
				return core.Fail(core.NotUnderstood, "nothing is to be changed").Do("Say what: --role, --email, --site, --everywhere.")
			}
			x, err := c.ChangeMember(ctx, args[0], m)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				where := ""
				if len(x.Sites) > 0 {
					where = told("works at %s", strings.Join(x.Sites, ", "))
				} else if all {
					where = "works everywhere"
				}
				fmt.Fprintf(a.out, "%s %s\n", a.paint(teal, "✓"), words.Listed(told("%s is %s", x.Name, x.Role), where))
			})
		})}
	change.Flags().StringArrayVar(&at, "site", nil, "a site at which a technician works; may be given again")
	change.Flags().BoolVar(&all, "everywhere", false, "he works at every site")
	change.MarkFlagsMutuallyExclusive("site", "everywhere")
	change.Flags().StringVar(&m.Role, "role", "", "technician, lead or viewer")
	change.Flags().StringVar(&m.Email, "email", "", "where to reach them")
	why := client.Reason{}
	end := &cobra.Command{Use: "end NAME", Short: "End somebody's account at once: sessions, tokens, links, streams (lead)", Args: cobra.ExactArgs(1), Example: "  ferry people end \"Edda Rooke\" --reason \"has left\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			x, err := c.EndMember(ctx, args[0], why)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s the account of %s is ended. The name stays in history.\n", a.paint(teal, "✓"), x.Name)
			})
		})}
	end.Flags().StringVar(&why.Reason, "reason", "", "why")
	end.MarkFlagRequired("reason")
	link := &cobra.Command{Use: "link NAME", Short: "A new one-use link for somebody (lead)", Args: cobra.ExactArgs(1), Example: "  ferry people link \"Edda Rooke\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			x, err := c.LinkFor(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(map[string]any{"link": a.console() + "/sign-in#" + x.Code, "expires": x.Expires}, func() {
				tell(a.out, "%s/sign-in#%s\ngood once, until %s\n", a.console(), x.Code, when(x.Expires))
			})
		})}
	lost := client.Reason{}
	factor := &cobra.Command{Use: "factor-lost NAME", Short: "Take somebody's second factor away, whose device is lost (lead)", Args: cobra.ExactArgs(1), Example: "  ferry people factor-lost \"Edda Rooke\" --reason \"her phone is in the harbour\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			x, err := c.EndFactor(ctx, args[0], lost)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s %s signs in without a second factor now\n", a.paint(teal, "✓"), x.Name)
			})
		})}
	factor.Flags().StringVar(&lost.Reason, "reason", "", "why")
	factor.MarkFlagRequired("reason")
	v.AddCommand(list, add, change, end, link, factor)
	return v
}

func (a *app) people(all []client.Member) {
	var rows [][]string
	for _, p := range all {
		state := ""
		switch {
		case p.Ended != nil:
			state = a.paint(faint, told("ended %s", when(*p.Ended)))
		case p.Waits:
			state = "invited, not signed in yet"
		}
		role := p.Role
		if len(p.Sites) > 0 {
			role = told("%s at %s", role, strings.Join(p.Sites, ", "))
		}
		rows = append(rows, []string{a.paint(bold, p.Name), role, p.Email, state})
		for _, x := range p.Access {
			rows = append(rows, []string{"  " + a.accessName(x), x.Scope, seenWhen(x), x.ID})
		}
	}
	a.table([]string{"name", "role", "", ""}, rows)
}

func (a *app) accessName(x client.Access) string {
	name := x.Kind
	if x.Name != "" {
		name += " " + x.Name
	}
	if x.Current {
		return told("%s (this one)", name)
	}
	return name
}

// mayWords are the scope of a token, and to what it is bound.
func mayWords(x client.Access) string {
	says := x.Scope
	if len(x.Sites) > 0 {
		says = told("%s at %s", says, strings.Join(x.Sites, ", "))
	}
	if len(x.Benches) > 0 {
		says = told("%s on %s", says, strings.Join(x.Benches, ", "))
	}
	return says
}

func seenWhen(x client.Access) string {
	used, ends := "never used", ""
	if x.Seen != nil {
		used = told("used %s", when(*x.Seen))
	}
	if x.Ends != nil {
		ends = told("ends %s", when(*x.Ends))
	}
	return words.Listed(used, ends)
}

func (a *app) tokenVerb() *cobra.Command {
	v := &cobra.Command{Use: "token", Short: "Tokens of your own, for scripts: with a name, a scope and an end"}
	n := client.NewToken{Scope: client.ScopeWork, Days: 30}
	add := &cobra.Command{Use: "make NAME", Short: "Make one; its text is shown once", Args: cobra.ExactArgs(1), Example: "  ferry token make \"night report\" --scope read --days 90",
		Long: "Made on a machine that has a token itself, it may no more than that one, and ends with it.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Name = args[0]
			x, err := c.MakeToken(ctx, n)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s\n%s may %s, until %s. It is shown once; put it where the script finds it as FERRY_TOKEN.\n", x.Token, x.Name, mayWords(x.Access), when(*x.Ends))
			})
		})}
	add.Flags().StringVar(&n.Scope, "scope", n.Scope, "read, work (what a technician does), catalogue (models, releases, images, bulletins) or whole (all that you may)")
	add.Flags().StringArrayVar(&n.Sites, "site", nil, "of one for work: for the units of this site alone; may be given again")
	add.Flags().StringArrayVar(&n.Benches, "bench", nil, "of one for work: at this bench alone; may be given again")
	add.Flags().IntVar(&n.Days, "days", n.Days, "how long it is good")
	list := &cobra.Command{Use: "list", Short: "Your sessions and tokens", Args: cobra.NoArgs, Example: "  ferry token list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			me, err := c.WhoAmI(ctx)
			if err != nil {
				return err
			}
			all, err := c.People(ctx)
			if err != nil {
				return err
			}
			mine := []client.Access{}
			for _, p := range all.People {
				if p.ID == me.ID {
					mine = append(mine, p.Access...)
				}
			}
			return a.show(map[string]any{"access": mine}, func() {
				var rows [][]string
				for _, x := range mine {
					rows = append(rows, []string{a.accessName(x), mayWords(x), seenWhen(x), x.From, x.ID})
				}
				a.table([]string{"", "may", "", "from", "id"}, rows)
			})
		})}
	end := &cobra.Command{Use: "end ID", Short: "End a session or token: your own, or as a lead anybody's", Args: cobra.ExactArgs(1), Example: "  ferry token end 0193f2a0-…",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.EndAccess(ctx, args[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"ended": args[0]}, func() { tell(a.out, "%s it is ended\n", a.paint(teal, "✓")) })
		})}
	v.AddCommand(add, list, end)
	return v
}
