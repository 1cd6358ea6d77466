package cli

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/pack"
	"zealousferry/core/registry"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
)

func parseDay(s string) (time.Time, error) {
	d, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return d, mistyped("%q is not a day; write it like 2027-03-31", s)
	}
	return d.Add(24*time.Hour - time.Second), nil
}

func (a *app) keyVerb() *cobra.Command {
	v := &cobra.Command{Use: "key", Short: "Signing keys: make one, and decide whose signatures count"}
	file := ""
	newKey := &cobra.Command{Use: "make NAME --file FILE", Short: "Make a signing key, in a file locked by a passphrase", Args: cobra.ExactArgs(1),
		Long:    "The private half stays in the file, locked by a passphrase (asked for, or FERRY_PASSPHRASE).\nIt never goes to the service.",
		Example: "  ferry key make \"Workshop\" --file workshop.key",
		RunE: func(_ *cobra.Command, args []string) error {
			phrase, err := a.passphrase("Passphrase for the new key: ")
			if err != nil {
				return err
			}
			k, err := trust.NewKey()
			if err != nil {
				return err
			}
			data, err := k.Seal(args[0], phrase)
			if err != nil {
				return err
			}
			f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return core.Fail(core.NotAllowed, "%w", err).Do("Choose another file; a key is never written over.")
			}
			_, err = f.Write(append(data, '\n'))
			if e := f.Close(); err == nil {
				err = e
			}
			if err != nil {
				return err
			}
			public := base64.StdEncoding.EncodeToString(k.Public())
			return a.show(map[string]string{"id": k.Public().ID(), "name": args[0], "public": public}, func() {
				tell(a.out, "%s key %s in %s\n", a.paint(teal, "✓"), k.Public().ID(), file)
				a.next("", fmt.Sprintf("ferry key trust %q %s", args[0], public))
			})
		}}
	newKey.Flags().StringVar(&file, "file", "", "where to write it")
	newKey.MarkFlagRequired("file")
	from, until := "", ""
	trustKey := &cobra.Command{Use: "trust NAME PUBLIC|FILE", Short: "Decide that a key's signatures count (lead)", Args: cobra.ExactArgs(2),
		Example: "  ferry key trust \"Workshop\" workshop.key\n  ferry key trust \"Marsk Boards\" bUx0…= --until 2027-12-31",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := client.NewKey{Name: args[0]}
			var err error
			if n.Public, err = publicKey(args[1]); err != nil {
				return err
			}
			if from != "" {
				d, err := time.Parse(time.DateOnly, from)
				if err != nil {
					return mistyped("--from %q is not a day; write it like 2027-03-31", from)
				}
				n.From = &d
			}
			if until != "" {
				d, err := parseDay(until)
				if err != nil {
					return err
				}
				n.Until = &d
			}
			k, err := c.AddKey(ctx, n)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				if k.State == "waits" {
					tell(a.out, "%s key %s (%s) waits for a second lead, who puts it in the list too.\n", a.paint(amber, "!"), k.ID, k.Name)
					return
				}
				tell(a.out, "%s what key %s (%s) signs counts here.\n", a.paint(teal, "✓"), k.ID, k.Name)
			})
		})}
	trustKey.Flags().StringVar(&from, "from", "", "first day (today)")
	trustKey.Flags().StringVar(&until, "until", "", "last day")
	list := &cobra.Command{Use: "list", Short: "Keys whose signatures count, and those that no longer do", Args: cobra.NoArgs, Example: "  ferry key list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			k, err := c.Keys(ctx)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				var rows [][]string
				for _, x := range k.Keys {
					state := a.paint(teal, "✓ counts")
					if x.State == "waits" {
						state = a.paint(brick, "✗ waits for a second lead")
					} else if x.State != "trusted" {
						state = a.paint(brick, "✗ "+strings.ReplaceAll(x.State, "-", " "))
					}
					until := ""
					if x.Until != nil {
						until = x.Until.UTC().Format("2 Jan 2006")
					}
					by := x.By
					if x.Second != "" {
						by += ", " + x.Second
					}
					rows = append(rows, []string{x.ID, a.paint(bold, x.Name), state, x.From.UTC().Format("2 Jan 2006"), until, by, x.Reason})
				}
				a.table([]string{"key", "name", "", "from", "until", "trusted by", "reason"}, rows)
			})
		})}
	reason := ""
	revoke := &cobra.Command{Use: "revoke KEY", Short: "End the trust in a key; what it signed needs somebody else's word (lead)", Args: cobra.ExactArgs(1), Example: "  ferry key revoke 9f2c41d07be35a18 --reason \"laptop stolen\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RevokeKey(ctx, args[0], reason); err != nil {
				return err
			}
			return a.show(map[string]string{"revoked": args[0]}, func() {
				tell(a.out, "%s nothing that key %s has signed counts any more.\n", a.paint(teal, "✓"), args[0])
			})
		})}
	revoke.Flags().StringVar(&reason, "reason", "", "why")
	revoke.MarkFlagRequired("reason")
	v.AddCommand(newKey, trustKey, list, revoke)
	return v
}

// publicKey reads a public key in base64, or out of a key file.
func publicKey(s string) ([]byte, error) {
	if raw, err := os.ReadFile(s); err == nil {
		_, public, err := trust.ReadKeyFile(raw)
		return public, err
	}
	raw, err := base64.StdEncoding.DecodeString(s)
	if err != nil || len(raw) != 32 {
		return nil, core.Fail(core.BadFile, "%q is neither a key file nor a public key of 32 bytes in base64", s)
	}
	return raw, nil
}

// passphrase comes from FERRY_PASSPHRASE, or is asked for.
func (a *app) passphrase(ask string) (string, error) {
	if p := os.Getenv("FERRY_PASSPHRASE"); p != "" {
		return p, nil
	}
	return a.askSecret(ask)
}

func (a *app) openKey(file string) (trust.Key, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return trust.Key{}, core.Fail(core.NotFound, "%w", err)
	}
	name, _, err := trust.ReadKeyFile(raw)
	if err != nil {
		return trust.Key{}, err
	}
	phrase, err := a.passphrase(told("Passphrase of key %s: ", name))
	if err != nil {
		return trust.Key{}, err
	}
	return trust.Unseal(raw, phrase)
}

func (a *app) releaseSign() *cobra.Command {
	key := ""
	v := &cobra.Command{Use: "sign MODEL@VERSION --key FILE", Short: "Sign a release in the catalogue; the key stays here", Args: cobra.RangeArgs(1, 2),
		Long:    "Fetches the release's document, signs it here, and sends the signature. The private key and its\npassphrase never leave this machine.",
		Example: "  ferry release sign quill-80@4.2.1 --key workshop.key", ValidArgsFunction: a.complete(releaseNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			document, err := c.Document(ctx, named(args))
			if err != nil {
				return err
			}
			k, err := a.openKey(key)
			if err != nil {
				return err
			}
			jws, err := k.SignDetached(trust.PurposeRelease, document)
			if err != nil {
				return err
			}
			r, err := c.Sign(ctx, named(args), jws)
			if err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprintf(a.out, "%s %s %s. %s\n", a.paint(teal, "✓"), r.Model, r.Version, r.Trust.Text) })
		})}
	v.Flags().StringVar(&key, "key", "", "the key file")
	v.MarkFlagRequired("key")
	return v
}

func (a *app) releasePack() *cobra.Command {
	key, series, number := "", "", uint64(0)
	v := &cobra.Command{Use: "pack OUT WHAT...", Short: "Write a release pack, of release sheets or of MODEL@VERSION from the service", Args: cobra.MinimumNArgs(2),
		Example: "  ferry release pack quill-2026-11.zip quill-80@4.2.1 quill-80@4.2.2 --series quill --number 12 --key workshop.key\n  ferry release pack dunlin.zip dunlin-r3.yaml --series dunlin --number 4 --key workshop.key",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			content := pack.Content{Series: series, Number: number, Date: a.clock.Now().Truncate(time.Second), Images: map[core.Digest]pack.File{}}
			data := map[core.Digest][]byte{}
			for _, what := range args[1:] {
				var document []byte
				var err error
				if strings.Contains(what, "@") {
					document, err = fetchRelease(ctx, c, what, content.Images, data)
				} else {
					document, err = a.buildRelease(what, content.Images, data)
				}
				if err != nil {
					return err
				}
				content.Releases = append(content.Releases, document)
			}
			content.Open = func(d core.Digest) ([]byte, error) { return data[d], nil }
			var k *trust.Key
			if key != "" {
				opened, err := a.openKey(key)
				if err != nil {
					return err
				}
				k = &opened
			}
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if err != nil {
				return core.Fail(core.NotAllowed, "%w", err).Do("Choose another name.")
			}
			m, err := pack.Write(f, content, k)
			if e := f.Close(); err == nil {
				err = e
			}
			if err != nil {
				os.Remove(args[0])
				return err
			}
			return a.show(m, func() {
				signed := "not signed"
				if k != nil {
					signed = told("signed by key %s", k.Public().ID())
				}
				tell(a.out, "%s %s: pack %d of series %s, %d %s, %d %s, %s.\n", a.paint(teal, "✓"), args[0], m.Number, m.Series, len(m.Releases), plural(len(m.Releases), "release"), len(m.Images), plural(len(m.Images), "image"), signed)
			})
		})}
	v.Flags().StringVar(&key, "key", "", "sign it with this key file")
	v.Flags().StringVar(&series, "series", "", "packs are numbered within a series")
	v.Flags().Uint64Var(&number, "number", 0, "its number; higher than those before")
	v.MarkFlagRequired("series")
	v.MarkFlagRequired("number")
	return v
}

// fetchRelease takes a release and its images out of the service.
func fetchRelease(ctx context.Context, c *client.Client, name string, files map[core.Digest]pack.File, data map[core.Digest][]byte) ([]byte, error) {
	r, err := c.ReleasePage(ctx, name)
	if err != nil {
		return nil, err
	}
	if r.Withdrawn != nil {
		return nil, core.Fail(core.NotAllowed, "release %s %s was withdrawn: %s", r.Model, r.Release.Version, r.Withdrawn.Reason)
	}
	document, err := c.Document(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, p := range r.Places {
		if data[p.Image] != nil {
			continue
		}
		if data[p.Image], err = c.ImageFile(ctx, p.Image); err != nil {
			return nil, err
		}
		if core.DigestOf(data[p.Image]) != p.Image {
			return nil, core.Fail(core.BadFile, "the service sent other bytes for image %s", p.Image.Short())
		}
		files[p.Image] = pack.File{Image: p.Image, Name: p.File}
	}
	return document, nil
}

// buildRelease makes a release of a release sheet, without a service.
func (a *app) buildRelease(file string, files map[core.Digest]pack.File, data map[core.Digest][]byte) ([]byte, error) {
	s, err := readReleaseSheet(file)
	if err != nil {
		return nil, err
	}
	r := model.Release{ID: uuid.Must(uuid.NewV7()).String(), Model: s.Model, Version: s.Version, Number: s.Number, Channel: s.Channel, Cures: s.Cures, Changes: s.Changes, Supersedes: s.Supersedes, Floor: s.Floor,
		Fits: s.Fits, Rules: s.Rules, Wants: s.Wants, Origin: s.Origin, Settings: s.Settings, At: a.clock.Now().UTC()}
	for _, p := range s.Parts {
		b, name, err := partFile(file, p)
		if err != nil {
			return nil, err
		}
		part, err := registry.PartOf(p.Part(), b)
		if err != nil {
			return nil, err
		}
		if part.Counts != "" && r.Origin != nil {
			if r.Origin.Overlaps == nil {
				r.Origin.Overlaps = map[string]model.Overlap{}
			}
			r.Origin.Overlaps[p.Name] = model.Overlap{Reason: p.Because, By: r.Origin.From}
		}
		r.Parts = append(r.Parts, part)
		data[part.Image], files[part.Image] = b, pack.File{Image: part.Image, Name: name}
	}
	return json.Marshal(r)
}

func (a *app) releaseVerify() *cobra.Command {
	var public []string
	v := &cobra.Command{Use: "verify PACK", Short: "Check a release pack: is it whole, who signed it, does that count", Args: cobra.ExactArgs(1),
		Long:    "Checks the pack here. Which keys count is asked from the service; with --public no service is asked.",
		Example: "  ferry release verify quill-2026-11.zip\n  ferry release verify quill-2026-11.zip --public workshop.key",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := readBounded(args[0])
			if err != nil {
				return err
			}
			p, err := pack.Read(raw)
			if err != nil {
				return err
			}
			var keys []trust.Trusted
			for _, s := range public {
				k, err := publicKey(s)
				if err != nil {
					return err
				}
				keys = append(keys, trust.Trusted{ID: trust.Public(k).ID(), Name: s, Public: k})
			}
			if len(public) == 0 {
				list, err := c.Keys(ctx)
				if err != nil {
					return err
				}
				for _, k := range list.Keys {
					keys = append(keys, trust.Trusted{ID: k.ID, Name: k.Name, Public: k.Public, From: k.From, Until: k.Until, Revoked: k.Revoked, Reason: k.Reason})
				}
			}
			by, why, err := p.Signed(keys, a.clock.Now())
			if err != nil {
				return err
			}
			told := map[string]any{"manifest": p.Manifest, "counts": by != nil, "why": why}
			if by != nil {
				told["by"] = by.Name
			} else {
				a.exit = ExitCode(core.NotAllowed)
			}
			return a.show(told, func() {
				tell(a.out, "Pack %d of series %s, of %s: whole.\n", p.Manifest.Number, p.Manifest.Series, when(p.Manifest.Date))
				for _, r := range p.Releases {
					fmt.Fprintf(a.out, "  %s %s  %s\n", r.Model, a.paint(bold, r.Version), r.Cures.In("en"))
				}
				if by != nil {
					tell(a.out, "%s signed by %s, which counts.\n", a.paint(teal, "✓"), by.Name)
				} else {
					fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "✗"), why.Text)
				}
			})
		})}
	v.Flags().StringArrayVar(&public, "public", nil, "a public key or key file that counts; may be given again")
	return v
}

func readBounded(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, core.Fail(core.NotFound, "%w", err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, client.MaxImage+1))
	if err == nil && len(raw) > client.MaxImage {
		err = core.Fail(core.BadFile, "%s has more than %d MiB", name, client.MaxImage>>20)
	}
	return raw, err
}

func (a *app) releaseImport() *cobra.Command {
	accept, older := "", false
	v := &cobra.Command{Use: "import PACK", Short: "Take the releases of a pack into the catalogue (lead)", Args: cobra.ExactArgs(1), Example: "  ferry release import quill-2026-11.zip\n  ferry release import found.zip --accept \"checked by telephone with the maker\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := readBounded(args[0])
			if err != nil {
				return err
			}
			i, err := c.ImportPack(ctx, raw, accept, older)
			if err != nil {
				return err
			}
			return a.show(i, func() {
				by := "accepted by you"
				if i.By != "" {
					by = told("signed by %s", i.By)
				}
				tell(a.out, "%s pack %d of series %s, %s: %d of %d releases are new.\n", a.paint(teal, "✓"), i.Number, i.Series, by, i.New, len(i.Releases))
				for _, r := range i.Releases {
					fmt.Fprintf(a.out, "  %s %s  %s\n", r.Model, a.paint(bold, r.Version), r.Cures.In("en"))
				}
			})
		})}
	v.Flags().StringVar(&accept, "accept", "", "vouch by your name for a pack that no trusted key signed, and say why")
	v.Flags().BoolVar(&older, "older", false, "take it although its signer has sent a newer one")
	return v
}
