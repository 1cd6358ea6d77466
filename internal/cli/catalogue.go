package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
)

func (a *app) modelVerb() *cobra.Command {
	v := &cobra.Command{Use: "model", Short: "Models: their sheets, revisions and what fits them"}
	words := ""
	list := &cobra.Command{Use: "list", Short: "Models", Args: cobra.NoArgs, Example: "  ferry model list\n  ferry model list --find printer",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			m, err := c.Models(ctx, words)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				var rows [][]string
				for _, x := range m.Models {
					rows = append(rows, []string{a.paint(bold, x.Model), x.Name, x.Kind, kib(x.Bytes), fmt.Sprint(x.Releases), dash(x.Newest), fmt.Sprint(x.Units)})
				}
				a.table([]string{"model", "name", "kind", "memory", "releases", "newest", "units"}, rows)
			})
		})}
	list.Flags().StringVar(&words, "find", "", "words in name or title")
	show := &cobra.Command{Use: "show MODEL", Short: "A model: memory, flaws, targets, and what fits which revision", Args: cobra.ExactArgs(1), Example: "  ferry model show quill-80", ValidArgsFunction: a.complete(modelNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.ModelPage(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(m, func() { a.showModel(m) })
		})}
	version, reason := "", ""
	target := &cobra.Command{Use: "target MODEL REVISION [VERSION]", Short: "Choose the release that the team uses for a revision (lead)", Args: cobra.RangeArgs(2, 3),
		Example: "  ferry model target quill-80 D 4.2.1 --reason \"proven at Gannet Quay\"\n  ferry model target quill-80 D --reason \"open again\"", ValidArgsFunction: a.complete(modelNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 3 {
				version = args[2]
			}
			t, err := c.PutTarget(ctx, client.NewTarget{Model: args[0], Revision: args[1], Version: version, Reason: reason})
			if err != nil {
				return err
			}
			return a.show(t, func() {
				if t.Version == "" {
					fmt.Fprintf(a.out, "%s %s %s: the choice is open again.\n", a.paint(teal, "✓"), t.Model, t.Revision)
					return
				}
				fmt.Fprintf(a.out, "%s %s %s: our choice is %s.\n", a.paint(teal, "✓"), t.Model, t.Revision, t.Version)
			})
		})}
	target.Flags().StringVar(&reason, "reason", "", "why")
	target.MarkFlagRequired("reason")
	add := &cobra.Command{Use: "add SHEET", Short: "Put a model sheet in force (lead)", Args: cobra.ExactArgs(1), Example: "  ferry model add quill-80.yaml",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return core.Fail(core.NotFound, "%w", err)
			}
			m, err := c.PutModel(ctx, raw)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				fmt.Fprintf(a.out, "%s %s is in force.\n", a.paint(teal, "✓"), m.Model)
				a.contradictions(m.Contradictions)
				for _, x := range m.Alike {
					a.pair("beware", a.paint(brick, wrap(x, 13)))
				}
			})
		})}
	check := &cobra.Command{Use: "check SHEET", Short: "Check a model sheet, without a service", Args: cobra.ExactArgs(1), Example: "  ferry model check quill-80.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return core.Fail(core.NotFound, "%w", err)
			}
			s, err := registry.Sheet(raw)
			if err != nil {
				return err
			}
			disagree := []string{}
			for _, x := range procedure.Contradictions(s) {
				disagree = append(disagree, x.String())
			}
			extent, bytes := fmt.Sprintf("%d regions", len(s.Main().Memory.Regions)), s.Main().Memory.Bytes()
			if len(s.Sections) > 1 {
				extent, bytes = fmt.Sprintf("%d parts", len(s.Sections)), 0
				for i := range s.Sections {
					bytes += s.Sections[i].Memory.Bytes()
				}
			}
			return a.show(map[string]any{"model": s.Model, "sheet": s.Digest, "contradictions": disagree}, func() {
				fmt.Fprintf(a.out, "%s %s: %s, %s; %d facts, %d conclusions, %d flaws, %d procedures\n", a.paint(teal, "✓"), s.Model, extent, kib(bytes), len(s.Facts), len(s.Tells), len(s.Flaws), len(s.Procedures))
				a.contradictions(disagree)
			})
		}}
	targets := &cobra.Command{Use: "targets", Short: "Which release the team uses for which model and revision", Args: cobra.NoArgs, Example: "  ferry model targets",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.Targets(ctx)
			if err != nil {
				return err
			}
			return a.show(t, func() {
				var rows [][]string
				for _, x := range t.Targets {
					rows = append(rows, []string{x.Model, x.Revision, a.paint(bold, x.Version), x.By, when(x.At), column(x.Reason, 50)})
				}
				a.table([]string{"model", "revision", "release", "by", "since", "why"}, rows)
			})
		})}
	v.AddCommand(list, show, add, check, target, targets)
	return v
}

// contradictions are what a lead must settle before such a unit is serviced.
func (a *app) contradictions(all []string) {
	for _, x := range all {
		a.pair("disagree", a.paint(brick, wrap(x, 13)))
	}
	if len(all) > 0 {
		a.pair("next", a.paint(bold, "Settle it in the sheet; until then a run of such a unit is refused."))
	}
}

func modelNames(ctx context.Context, c *client.Client) (all []string) {
	m, err := c.Models(ctx, "")
	if err != nil {
		return nil
	}
	for _, x := range m.Models {
		all = append(all, x.Model+"\t"+x.Name)
	}
	return all
}

// releaseNames lists MODEL@VERSION.
func releaseNames(ctx context.Context, c *client.Client) (all []string) {
	r, err := c.Releases(ctx, "", "", 0, 200)
	if err != nil {
		return nil
	}
	for _, x := range r.Releases {
		all = append(all, x.Model+"@"+x.Version+"\t"+x.Cures.In("en"))
	}
	return all
}

func (a *app) showModel(m client.ModelPage) {
	fmt.Fprintf(a.out, "%s  %s, %s; %d units\n", a.paint(bold, m.Name), m.Kind, kib(m.Bytes), m.Units)
	for _, s := range m.Sisters {
		fmt.Fprintf(a.out, "  %s\n", wrap(s, 2))
	}
	fmt.Fprintln(a.out)
	a.matrix(m.Matrix)
	for _, f := range m.Flaws {
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "!"), wrap(f, 2))
	}
	if len(m.Sections) > 1 {
		var parts [][]string
		for i, s := range m.Sections {
			holds, at := kib(s.Bytes), "the unit's own link"
			if s.Files > 0 {
				holds = fmt.Sprintf("up to %d files, %s", s.Files, holds)
			}
			if s.Link != "" {
				at = "a link of its own, " + s.Link
			}
			parts = append(parts, []string{fmt.Sprintf("  %d", i+1), s.Title, s.Name, s.Loader, holds, at})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"  ", "part", "section", "loader", "holds", "at"}, parts)
	}
	if len(m.Holds) > 0 {
		var slots [][]string
		for _, s := range m.Holds {
			note := ""
			if s.Empty {
				note = "may be empty"
			}
			slots = append(slots, []string{"  " + s.Title, s.Slot, strings.Join(s.Models, ", "), note})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"  place for a unit", "slot", "of model", ""}, slots)
	}
	var rows [][]string
	for _, r := range m.Regions {
		note := ""
		if r.ReadOnly {
			note = "never written"
		}
		if r.Own {
			note = strings.TrimSpace(note + " the unit's own")
		}
		rows = append(rows, []string{"  " + r.Name, r.Use, fmt.Sprintf("0x%X", r.Address), fmt.Sprintf("0x%X", r.Address+r.Length-1), kib(r.Length), fmt.Sprintf("%d B", r.Sector), note})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"  region", "use", "from", "to", "size", "sector", ""}, rows)
}

func (a *app) releaseVerb() *cobra.Command {
	v := &cobra.Command{Use: "release", Short: "Releases: add, explain, sign, pack, withdraw"}
	v.AddCommand(a.releaseList(), a.releaseShow(), a.releaseAdd(), a.releaseWithdraw(), a.releaseAccept(), a.releaseSign(), a.releasePack(), a.releaseVerify(), a.releaseImport())
	return v
}

// named makes MODEL@VERSION of one argument or two.
func named(args []string) string { return strings.Join(args, "@") }

func (a *app) releaseList() *cobra.Command {
	which, page := "", 0
	list := &cobra.Command{Use: "list [WORDS...]", Short: "Releases, the newest first", Example: "  ferry release list --model quill-80\n  ferry release list stall warm-up\n  ferry release list QF-4210",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Releases(ctx, strings.Join(args, " "), which, page, 50)
			if err != nil {
				return err
			}
			return a.show(r, func() {
				var rows [][]string
				for _, x := range r.Releases {
					state := string(x.Channel)
					if x.Withdrawn != nil {
						state = a.paint(brick, "withdrawn")
					}
					var fits []string
					for _, rule := range x.AllRules() {
						fits = append(fits, rule.Fact+" "+rule.Plain())
					}
					rows = append(rows, []string{x.Model, a.paint(bold, x.Version), x.Number, state, column(strings.Join(fits, "; "), 40), column(x.Cures.In("en"), 34)})
				}
				a.table([]string{"model", "release", "number", "state", "fits", "cures"}, rows)
				fmt.Fprintf(a.out, "%d of %d releases\n", len(r.Releases), r.Total)
			})
		})}
	list.Flags().StringVar(&which, "model", "", "of this model only")
	list.Flags().IntVar(&page, "page", 0, "page, from 0")
	list.RegisterFlagCompletionFunc("model", a.complete(modelNames))
	return list
}

func (a *app) releaseShow() *cobra.Command {
	return &cobra.Command{Use: "show MODEL@VERSION", Short: "A release: what it cures, fits, needs; who vouches for it; where it runs", Args: cobra.RangeArgs(1, 2), Example: "  ferry release show quill-80@4.2.1", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.ReleasePage(ctx, named(args))
			if err != nil {
				return err
			}
			return a.show(r, func() { a.showRelease(r) })
		})}
}

func (a *app) showRelease(r client.ReleasePage) {
	state := string(r.Channel)
	if r.Withdrawn != nil {
		state = a.paint(brick+bold, "WITHDRAWN: "+r.Withdrawn.Reason)
	}
	fmt.Fprintf(a.out, "%s %s  %s  %s\n", r.ModelName, a.paint(bold, r.Version), r.Number, state)
	line := func(name, text string) {
		if text != "" {
			a.pair(name, wrap(text, 13))
		}
	}
	line("cures", r.Cures.In("en"))
	line("changes", r.Changes.In("en"))
	line("fits", strings.Join(r.RuleTexts, "; "))
	line("from", r.ReachedFrom)
	line("supersedes", strings.Join(r.Supersedes, ", "))
	line("then came", strings.Join(r.SupersededBy, ", "))
	if r.Floor != "" {
		line("floor", "after it nothing older than "+r.Floor)
	}
	trusted := a.paint(teal, "✓ ")
	if r.Trust.State == "not-vouched" {
		trusted = a.paint(brick, "✗ ")
	}
	line("trust", trusted+r.Trust.Text)
	line("origin", strings.Join(r.OriginTexts, "; "))
	for _, t := range r.Targets {
		line("our choice", fmt.Sprintf("for %s since %s: %s", t.Revision, when(t.At), t.Reason))
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, p := range r.Places {
		published := ""
		if p.Agrees == "published" {
			published = a.paint(teal, "✓ as its maker publishes")
		}
		at := fmt.Sprintf("0x%X–0x%X", p.From, p.To-1)
		if p.Format == registry.TreeFormat {
			at = "files"
		}
		rows = append(rows, []string{"  " + a.paint(bold, p.Name), at, strings.Join(p.Regions, ", "), kib(p.Bytes), p.File, short(p.Image.String()), published})
	}
	a.table([]string{"  part", "at", "region", "size", "file", "SHA-256", ""}, rows)
	f := client.Fit{Needs: r.Needs}
	a.needs(f)
	fmt.Fprintf(a.out, "\n%d %s it\n", r.UnitsTotal, map[bool]string{true: "unit runs", false: "units run"}[r.UnitsTotal == 1])
	a.carriers(r.Units)
}

func (a *app) carriers(units []client.Unit) {
	var rows [][]string
	for i, u := range units {
		if i == 20 {
			rows = append(rows, []string{fmt.Sprintf("  and %d more", len(units)-i)})
			break
		}
		rows = append(rows, []string{"  " + a.paint(bold, u.Serial), dash(u.Revision), u.Site, ago(u.Seen)})
	}
	if len(rows) > 0 {
		a.table([]string{"  unit", "rev", "site", "seen"}, rows)
	}
}

func (a *app) releaseAdd() *cobra.Command {
	var parts, fits, supersedes []string
	n := client.NewRelease{}
	counts, because := map[string]string{}, ""
	channel := "stable"
	add := &cobra.Command{Use: "add SHEET | MODEL VERSION --part NAME=FILE[@ADDRESS]", Short: "Add a release from its sheet or from image files (lead)", Args: cobra.RangeArgs(1, 2),
		Example: "  ferry release add quill-80-4.2.1.yaml --accept \"built by us\"\n  ferry release add quill-80 4.2.1 --part program=quill.hex --fits revision=D --fits region=inner-sound,outer-isles\n  ferry release add quill-80 4.2.3 --part program=quill.bin@0x8000 --fits revision=C",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 1 {
				sheet, err := readReleaseSheet(args[0])
				if err != nil {
					return err
				}
				if err := a.sendSheet(ctx, c, args[0], sheet, &n); err != nil {
					return err
				}
				return a.added(ctx, c, n)
			}
			if len(parts) == 0 {
				return fmt.Errorf("name its parts: --part NAME=FILE, or NAME=FILE@ADDRESS for raw binary")
			}
			n.Model, n.Version, n.Supersedes, n.Channel, n.Fits = args[0], args[1], supersedes, model.Channel(channel), map[string][]string{}
			for _, f := range fits {
				name, values, ok := strings.Cut(f, "=")
				if !ok {
					return fmt.Errorf("--fits %q: write FACT=VALUE[,VALUE]", f)
				}
				n.Fits[name] = strings.Split(values, ",")
			}
			for _, p := range parts {
				part, err := a.sendPart(ctx, c, p, counts)
				if err != nil {
					return err
				}
				if part.Counts != "" {
					part.Because = because
				}
				n.Parts = append(n.Parts, part)
			}
			return a.added(ctx, c, n)
		})}
	add.Flags().StringArrayVar(&parts, "part", nil, "NAME=FILE, or NAME=FILE@ADDRESS for raw binary; in the order of writing")
	add.Flags().StringArrayVar(&fits, "fits", nil, "FACT=VALUE[,VALUE]: which units it is for")
	add.Flags().StringVar(&channel, "channel", channel, "stable or candidate")
	add.Flags().StringVar(&n.Number, "number", "", "its part number")
	add.Flags().StringVar(&n.Cures, "cures", "", "why it exists: the complaint that it cures")
	add.Flags().StringVar(&n.Changes, "changes", "", "what will look different afterwards")
	add.Flags().StringVar(&n.Floor, "floor", "", "once it runs, nothing older than this version may follow")
	add.Flags().StringSliceVar(&supersedes, "supersedes", nil, "versions or part numbers that it replaces")
	add.Flags().StringToStringVar(&counts, "counts", nil, "PART=first or PART=last: which record counts where two of the file give different bytes to one address")
	add.Flags().StringVar(&because, "because", "", "why that record counts; kept in the release's origin by your name")
	add.Flags().StringVar(&n.Accept, "accept", "", "vouch for its images by your name, and say why; otherwise it must be signed before it is offered")
	return add
}

func (a *app) added(ctx context.Context, c *client.Client, n client.NewRelease) error {
	r, err := c.AddRelease(ctx, n)
	if err != nil {
		return err
	}
	return a.show(r, func() {
		fmt.Fprintf(a.out, "%s %s %s is in the catalogue. %s\n", a.paint(teal, "✓"), r.Model, r.Version, r.Trust.Text)
		if r.Trust.State == "not-vouched" {
			fmt.Fprintf(a.out, "next   %s\n", a.paint(bold, fmt.Sprintf("ferry release sign %s@%s --key FILE", r.Model, r.Version)))
		}
	})
}

func readReleaseSheet(file string) (*model.ReleaseSheet, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, core.Fail(core.NotFound, "%w", err)
	}
	return model.ReadRelease(raw)
}

// sendSheet sends the images of a release sheet and fills in the release.
func (a *app) sendSheet(ctx context.Context, c *client.Client, file string, s *model.ReleaseSheet, n *client.NewRelease) error {
	accept := n.Accept
	*n = client.NewRelease{Model: s.Model, Version: s.Version, Number: s.Number, Channel: s.Channel, Cures: s.Cures.In("en"), Changes: s.Changes.In("en"), Supersedes: s.Supersedes, Floor: s.Floor,
		Fits: s.Fits, Rules: s.Rules, Wants: s.Wants, Origin: s.Origin, Accept: accept}
	for _, p := range s.Parts {
		data, name, err := partFile(file, p)
		if err != nil {
			return err
		}
		im, err := c.PutImage(ctx, name, p.Part(), data)
		if err != nil {
			return err
		}
		a.already(im)
		n.Parts = append(n.Parts, client.NewPart{Name: p.Name, Section: p.Section, Runs: p.Runs, Image: im.Digest, Format: p.Format, Address: p.Address, Counts: p.Counts, Because: p.Because})
	}
	return nil
}

// partFile reads the file of a part, out of an archive where it is in one.
func partFile(sheet string, p model.PartFile) ([]byte, string, error) {
	name := filepath.Join(filepath.Dir(sheet), p.File)
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, "", core.Fail(core.NotFound, "part %s: %w", p.Name, err)
	}
	if p.Format == registry.TreeFormat {
		return data, filepath.Base(p.File), nil
	}
	o, err := registry.Open(registry.Bytes(data, p.File), registry.Choice{Format: p.Format, Member: p.Member, Options: image.Options{At: p.Address, Counts: p.Counts}})
	if err != nil {
		return nil, "", err
	}
	if o.Packed != "" {
		data, err = registry.Unpack(registry.Bytes(data, p.File), o.Member)
		return data, o.Member, err
	}
	return data, filepath.Base(p.File), nil
}

// sendPart reads NAME=FILE[@ADDRESS] and sends the file.
func (a *app) sendPart(ctx context.Context, c *client.Client, text string, counts map[string]string) (client.NewPart, error) {
	name, file, ok := strings.Cut(text, "=")
	if !ok {
		return client.NewPart{}, fmt.Errorf("--part %q: write NAME=FILE or NAME=FILE@ADDRESS", text)
	}
	address, format := uint64(0), ""
	if i := strings.LastIndex(file, "@"); i > 0 {
		n, err := strconv.ParseUint(file[i+1:], 0, 64)
		if err != nil {
			return client.NewPart{}, fmt.Errorf("--part %q: %q is not an address", text, file[i+1:])
		}
		address, file, format = n, file[:i], "raw"
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return client.NewPart{}, core.Fail(core.NotFound, "%w", err)
	}
	as := model.Part{Format: format, Address: address, Counts: image.Counts(counts[name])}
	im, err := c.PutImage(ctx, filepath.Base(file), as, raw)
	a.already(im)
	return client.NewPart{Name: name, Image: im.Digest, Format: im.Format, Address: address, Counts: as.Counts}, err
}

// already says that a release has the same image.
func (a *app) already(im client.Image) {
	for _, k := range im.Known {
		fmt.Fprintf(a.err, "  beware  the same image as %s\n", k.Words())
	}
}

func (a *app) releaseWithdraw() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "withdraw MODEL@VERSION", Short: "Take a release back, and see which units carry it (lead)", Args: cobra.RangeArgs(1, 2), Example: "  ferry release withdraw quill-80@4.0.3 --reason \"loses the head position\"", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			w, err := c.Withdraw(ctx, named(args), reason)
			if err != nil {
				return err
			}
			return a.show(w, func() {
				fmt.Fprintf(a.out, "%s %s %s is withdrawn. No bench will begin to write it.\n", a.paint(teal, "✓"), w.Model, w.Version)
				if w.Runs > 0 {
					fmt.Fprintf(a.out, "  %d open %s it; what has not begun to erase will stop.\n", w.Runs, plural(w.Runs, "run")+" with")
				}
				fmt.Fprintf(a.out, "%d units run it\n", w.Total)
				a.carriers(w.Units)
			})
		})}
	v.Flags().StringVar(&reason, "reason", "", "why (everybody reads it)")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) releaseAccept() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "accept MODEL@VERSION", Short: "Vouch by your name for images that no trusted key signed (lead)", Args: cobra.RangeArgs(1, 2), Example: "  ferry release accept quill-80@4.2.3 --reason \"compared with the maker's page by telephone\"", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Accept(ctx, named(args), reason)
			if err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprintf(a.out, "%s %s %s. %s\n", a.paint(teal, "✓"), r.Model, r.Version, r.Trust.Text) })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) gearVerb() *cobra.Command {
	v := &cobra.Command{Use: "gear", Short: "Adapters, cables, software and entitlements that the team has"}
	list := &cobra.Command{Use: "list", Short: "What there is, with owner and expiry", Args: cobra.NoArgs, Example: "  ferry gear list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			g, err := c.Gear(ctx)
			if err != nil {
				return err
			}
			return a.show(g, func() {
				var rows [][]string
				for _, x := range g.Gear {
					until, left := "", ""
					if x.Expires != nil {
						until = x.Expires.UTC().Format("2 Jan 2006")
						if x.Expires.Before(a.clock.Now()) {
							until = a.paint(brick, until+" over")
						}
					}
					if x.Left != nil {
						left = fmt.Sprint(*x.Left)
					}
					rows = append(rows, []string{x.Kind, a.paint(bold, x.Name), x.Version, x.Owner, until, left, x.Cost, column(x.Note, 24), x.ID})
				}
				a.table([]string{"kind", "name", "version", "with", "until", "left", "cost", "note", "id"}, rows)
			})
		})}
	var n client.NewGear
	until, left := "", -1
	add := &cobra.Command{Use: "add KIND NAME", Short: "Add a thing, or change the one with --id", Args: cobra.ExactArgs(2),
		Example:   "  ferry gear add entitlement \"Porter service access\" --with \"the team\" --until 2027-03-31 --cost \"240 a year\"\n  ferry gear add adapter \"one-wire lead\" --with van",
		ValidArgs: []string{"accessory", "cable", "adapter", "software", "entitlement"},
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Kind, n.Name = args[0], args[1]
			if until != "" {
				d, err := parseDay(until)
				if err != nil {
					return err
				}
				n.Expires = &d
			}
			if left >= 0 {
				n.Left = &left
			}
			g, err := c.PutGear(ctx, n)
			if err != nil {
				return err
			}
			return a.show(g, func() { fmt.Fprintf(a.out, "%s %s %s, with %s.\n", a.paint(teal, "✓"), g.Kind, g.Name, g.Owner) })
		})}
	add.Flags().StringVar(&n.ID, "id", "", "change this one")
	add.Flags().StringVar(&n.Version, "version", "", "its version")
	add.Flags().StringVar(&n.Owner, "with", "the team", "who has it")
	add.Flags().StringVar(&until, "until", "", "last day, e.g. 2027-03-31")
	add.Flags().IntVar(&left, "left", -1, "how often it can still be used")
	add.Flags().StringVar(&n.Cost, "cost", "", "what it costs")
	add.Flags().StringVar(&n.Note, "note", "", "anything else")
	drop := &cobra.Command{Use: "drop ID", Short: "Take a thing off the list", Args: cobra.ExactArgs(1), Example: "  ferry gear drop 0193f2a0-…",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DropGear(ctx, args[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"dropped": args[0]}, func() { fmt.Fprintf(a.out, "%s off the list.\n", a.paint(teal, "✓")) })
		})}
	v.AddCommand(list, add, drop)
	return v
}
