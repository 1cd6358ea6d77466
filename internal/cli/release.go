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
	"zealousferry/core/registry"
	"zealousferry/internal/client"
)

// releaseNames lists MODEL@VERSION.
func releaseNames(ctx context.Context, c *client.Client) (all []string) {
	r, err := c.Releases(ctx, "", "", "", 200)
	if err != nil {
		return nil
	}
	for _, x := range r.Releases {
		all = append(all, x.Model+"@"+x.Version+"\t"+x.Cures.In("en"))
	}
	return all
}

func (a *app) releaseVerb() *cobra.Command {
	v := &cobra.Command{Use: "release", Short: "Releases: add, explain, sign, pack, withdraw"}
	v.AddCommand(a.releaseList(), a.releaseShow(), a.releaseRehearse(), a.releaseAdd(), a.releaseWithdraw(), a.releaseTakeOut(), a.releaseAccept(), a.releaseSign(), a.releasePack(), a.releaseVerify(), a.releaseImport())
	return v
}

// named makes MODEL@VERSION of one argument or two.
func named(args []string) string { return strings.Join(args, "@") }

func (a *app) releaseList() *cobra.Command {
	which, after := "", ""
	list := &cobra.Command{Use: "list [WORDS...]", Short: "Releases, the newest first", Example: "  ferry release list --model quill-80\n  ferry release list stall warm-up\n  ferry release list QF-4210",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Releases(ctx, strings.Join(args, " "), which, after, 50)
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
				a.extentOf(len(r.Releases), r.Paged, after, "%s release", "%s releases", "more than %s releases")
			})
		})}
	list.Flags().StringVar(&which, "model", "", "of this model only")
	afterFlag(list, &after)
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
		state = a.paint(brick+bold, told("WITHDRAWN: %s", r.Withdrawn.Reason))
	}
	fmt.Fprintf(a.out, "%s %s  %s  %s\n", r.ModelName, a.paint(bold, r.Version), r.Number, state)
	line := func(name, text string) {
		if text != "" {
			a.pair(name, wrap(text, 13))
		}
	}
	line("cures", r.Cures.In("en"))
	line("changes", r.Changes.In("en"))
	line("fits", core.Texts(r.RuleTexts, "; "))
	line("from", r.ReachedFrom)
	line("supersedes", strings.Join(r.Supersedes, ", "))
	line("then came", strings.Join(r.SupersededBy, ", "))
	if r.Floor != "" {
		line("floor", told("after it nothing older than %s", r.Floor))
	}
	trusted := a.paint(teal, "✓ ")
	if r.Trust.State == "not-vouched" {
		trusted = a.paint(brick, "✗ ")
	}
	line("trust", trusted+r.Trust.Text)
	line("origin", core.Texts(r.OriginTexts, "; "))
	for _, t := range r.Targets {
		line("our choice", told("for %s since %s: %s", t.Revision, when(t.At), t.Reason))
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
	fmt.Fprintf(a.out, "\n%s\n", toldOf(r.UnitsTotal, "%s unit runs it", "%s units run it"))
	a.carriers(r.Units)
}

func (a *app) carriers(units []client.Unit) {
	var rows [][]string
	for i, u := range units {
		if i == 20 {
			rows = append(rows, []string{told("  and %d more", len(units)-i)})
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
				return mistyped("name its parts: --part NAME=FILE, or NAME=FILE@ADDRESS for raw binary")
			}
			n.Model, n.Version, n.Supersedes, n.Channel, n.Fits = args[0], args[1], supersedes, model.Channel(channel), map[string][]string{}
			for _, f := range fits {
				name, values, ok := strings.Cut(f, "=")
				if !ok {
					return mistyped("--fits %q: write FACT=VALUE[,VALUE]", f)
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
		tell(a.out, "%s %s %s is in the catalogue. %s\n", a.paint(teal, "✓"), r.Model, r.Version, r.Trust.Text)
		if r.Trust.State == "not-vouched" {
			a.next("", fmt.Sprintf("ferry release sign %s@%s --key FILE", r.Model, r.Version))
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
		Fits: s.Fits, Rules: s.Rules, Wants: s.Wants, Origin: s.Origin, Settings: s.Settings, Accept: accept}
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
		return client.NewPart{}, mistyped("--part %q: write NAME=FILE or NAME=FILE@ADDRESS", text)
	}
	address, format := uint64(0), ""
	if i := strings.LastIndex(file, "@"); i > 0 {
		n, err := strconv.ParseUint(file[i+1:], 0, 64)
		if err != nil {
			return client.NewPart{}, mistyped("--part %q: %q is not an address", text, file[i+1:])
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
		tell(a.err, "  beware  the same image as %s\n", k.Words())
	}
}

func (a *app) releaseTakeOut() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "take-out MODEL@VERSION", Short: "Take a release out that was entered wrongly and that nobody has used; its version is free again (lead)", Args: cobra.RangeArgs(1, 2), Example: "  ferry release take-out quill-80@4.3.0 --reason \"the wrong file\"", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			x, err := c.TakeOut(ctx, named(args), reason)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s %s is out of the catalogue; that it was there stays known: %s\n", a.paint(teal, "✓"), x.Version, x.Reason)
			})
		})}
	v.Flags().StringVar(&reason, "reason", "", "why")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) releaseWithdraw() *cobra.Command {
	reason, yes := "", false
	v := &cobra.Command{Use: "withdraw MODEL@VERSION", Short: "Take a release back, and see which units carry it (lead)", Args: cobra.RangeArgs(1, 2), Example: "  ferry release withdraw quill-80@4.0.3 --reason \"loses the head position\"", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.ReleasePage(ctx, named(args))
			if err != nil {
				return err
			}
			if r.Withdrawn == nil && !yes {
				fmt.Fprintf(a.err, "  %s %s: %s\n", r.ModelName, a.bright(r.Version), toldOf(r.UnitsTotal, "%s unit runs it", "%s units run it"))
				for _, t := range r.Targets {
					tell(a.err, "  it is the team's choice for revision %s; another one is to be chosen\n", t.Revision)
				}
				if err := a.confirm("Take it back for everybody?"); err != nil {
					return err
				}
			}
			w, err := c.Withdraw(ctx, named(args), reason)
			if err != nil {
				return err
			}
			return a.show(w, func() {
				tell(a.out, "%s %s %s is withdrawn. No bench will begin to write it.\n", a.paint(teal, "✓"), w.Model, w.Version)
				if w.Runs > 0 {
					tell(a.out, "  %d open %s with it; what has not begun to erase will stop.\n", w.Runs, plural(w.Runs, "run"))
				}
				fmt.Fprintln(a.out, toldOf(w.Total, "%s unit runs it", "%s units run it"))
				a.carriers(w.Units)
				a.next("\n", "ferry today   (what to do about each of them)")
			})
		})}
	v.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask, for scripts")
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
