package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// setting are the flags by which a run is told what settings are to be.
type setting struct {
	set  map[string]string
	like string
	wins bool
}

func (s *setting) flags(v *cobra.Command) {
	v.Flags().StringToStringVar(&s.set, "set", nil, "a setting that is to be so, as NAME=VALUE (a secret one is better typed when the run asks)")
	v.Flags().StringVar(&s.like, "like", "", "a unit of the model whose settings it is to have")
	v.Flags().BoolVar(&s.wins, "profile-wins", false, "what the profiles have counts before what the unit has; without it they fill what is asked")
}

func (s *setting) into(n *client.NewRun) {
	n.Set, n.Like, n.ProfileWins = s.set, s.like, s.wins
}

func (a *app) settingsVerb() *cobra.Command {
	v := &cobra.Command{Use: "settings", Short: "What units are set to: see it, put it in, and the profiles that fill it"}
	show := &cobra.Command{Use: "show UNIT", Short: "What a unit is set to, as it was read last", Args: cobra.ExactArgs(1), Example: "  ferry settings show TS-0207-118",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.UnitSettings(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(s, func() {
				if len(s.Settings) == 0 {
					fmt.Fprintln(a.out, told("Nobody has read what %s is set to. A run that writes it, or sets it up, reads that first.", s.Unit))
					return
				}
				var rows [][]string
				for _, x := range s.Settings {
					note := x.Network
					if note != "" {
						note = told("network %s", note)
					}
					if x.Public {
						note = a.paint(brick, "public default")
					}
					rows = append(rows, []string{x.Page, x.Title, a.paint(faint, x.Name), x.Value, note})
				}
				a.table([]string{"page", "setting", "name", "value", ""}, rows)
				tell(a.out, "\nRead %s, by run %s.\n", when(s.Settings[0].At), s.Settings[0].Run)
			})
		})}
	v.AddCommand(show, a.settingsPut(), a.settingsReset(), a.settingsReveal(), a.settingsProfile())
	return v
}

func (a *app) settingsPut() *cobra.Command {
	var o opening
	var s setting
	v := &cobra.Command{Use: "put LINK|UNIT", Short: "Put settings in, and nothing else", Args: cobra.ExactArgs(1),
		Long: "Reads what the unit is set to and keeps it, says what becomes of each setting, asks what nobody\n" +
			"can know, saves page by page and reads all of it again. What everybody knows must be changed.",
		Example:           "  ferry settings put TS-0207-118 --reason \"new network at the pier\"\n  ferry settings put TS-0207-118 --set cap=60 --reason \"too bright for the anglers\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := o.run(run.SetUp, args[0])
			s.into(&n)
			return a.open(ctx, c, n, o)
		})}
	o.flags(v)
	s.flags(v)
	return v
}

func (a *app) settingsReset() *cobra.Command {
	var o opening
	v := &cobra.Command{Use: "reset LINK|UNIT", Short: "Put the settings back to their defaults, as the sheet has them", Args: cobra.ExactArgs(1),
		Long:              "Reads what the unit is set to and keeps it, shows what becomes of each setting and asks whether it is to be so, then\nsaves page by page and reads all of it again. What the sheet has no default for stays as it is.",
		Example:           "  ferry settings reset TS-0207-118 --reason \"nobody knows what was tried\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := o.run(run.SetUp, args[0])
			n.Reset = true
			return a.open(ctx, c, n, o)
		})}
	o.flags(v)
	return v
}

func (a *app) settingsReveal() *cobra.Command {
	var s client.ShowSetting
	v := &cobra.Command{Use: "reveal UNIT NAME", Short: "See the value of a secret setting; that is noted", Args: cobra.ExactArgs(2),
		Long:    "Whoever comes first after it was set sees it once. After that a lead does, with a reason.",
		Example: "  ferry settings reveal TS-0207-118 password",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			s.Name = args[1]
			x, err := c.ShowSetting(ctx, args[0], s)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				fmt.Fprintf(a.out, "%s: %s\n", x.Title, a.bright(x.Value))
				tell(a.err, "It is noted in the unit's history that you have seen it.\n")
			})
		})}
	v.Flags().StringVar(&s.Section, "section", "", "where several sections have a setting of that name")
	v.Flags().StringVar(&s.Reason, "reason", "", "why you want to see it again (lead)")
	return v
}

func (a *app) settingsProfile() *cobra.Command {
	var set map[string]string
	model := false
	v := &cobra.Command{Use: "profile SITE|MODEL", Short: "What the units of a site have, or those of a model come with", Args: cobra.ExactArgs(1),
		Long:    "A profile fills what a run would otherwise ask: what is new, what everybody knows, what the unit\ncannot have. Secret values are sealed, and never shown again. An empty value takes one out.",
		Example: "  ferry settings profile \"Skerry Point\"\n  ferry settings profile \"Skerry Point\" --set network-name=skerry-pier --set time-zone=UTC+1\n  ferry settings profile turnstone-16 --model --set fade_s=8",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			kind := "site"
			if model {
				kind = "model"
			}
			var p client.Profile
			var err error
			if len(set) > 0 {
				p, err = c.PutProfile(ctx, client.NewProfile{Kind: kind, Of: args[0], Values: set})
			} else {
				p, err = c.Profile(ctx, kind, args[0])
			}
			if err != nil {
				return err
			}
			return a.show(p, func() {
				has := map[string]bool{}
				var rows [][]string
				for _, x := range p.Values {
					has[x.Name] = true
					rows = append(rows, []string{x.Name, x.Value, x.By, when(x.At)})
				}
				for _, x := range p.Asks {
					if !has[x.Name] {
						rows = append(rows, []string{x.Name, a.paint(faint, told("nothing yet; %s of %s", x.Title, x.Models)), "", ""})
					}
				}
				a.table([]string{"name", "value", "by", "when"}, rows)
			})
		})}
	v.Flags().StringToStringVar(&set, "set", nil, "what it is to have, as NAME=VALUE")
	v.Flags().BoolVar(&model, "model", false, "the template of a model, not a site's profile")
	return v
}

// setup shows what becomes of the settings of a run.
func (a *app) setup(s *client.Setup) {
	if s == nil {
		return
	}
	fmt.Fprintf(a.out, "\n%s  %s\n", a.bright("Settings"), s.Head.Text)
	var rows [][]string
	same := 0
	for _, l := range s.Lines {
		if l.How == settings.Carried && l.Left != run.LeftOther && l.Other == "" && !l.Public && !l.Secret {
			same++
			continue
		}
		left := map[string]string{run.LeftNotYet: a.paint(faint, "not yet"), run.LeftAlike: a.paint(teal, "= alike"), run.LeftGone: a.paint(teal, "taken out"), run.LeftOther: a.paint(brick, "≠ "+l.Now)}[l.Left]
		how := words.SettingWays.In(string(l.How))
		if l.From != "" {
			how = words.Listed(how, l.From)
		}
		found := l.Found
		if l.Public {
			found = words.Listed(found, a.paint(brick, "public default"))
		}
		want := dash(l.Want)
		if l.How == settings.Gone {
			want = ""
		}
		if l.Other != "" {
			want += a.paint(faint, " ("+l.Whose+": "+l.Other+")")
		}
		rows = append(rows, []string{l.Title, dash(found), how, want, left})
	}
	if same > 0 {
		rows = append(rows, []string{told("%d more", same), a.paint(faint, "as they were"), words.SettingWays.In(string(settings.Carried)), a.paint(faint, "the same"), ""})
	}
	a.table([]string{"setting", "as found", "how", "wanted", "as left"}, rows)
	for _, p := range s.Pages {
		fmt.Fprintf(a.out, "  %s  %s\n", strings.TrimSpace(told("page %s", p.Title)), p.Says.Text)
	}
	fmt.Fprintln(a.out, "  "+s.Count.Text)
}
