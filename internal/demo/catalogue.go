package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/pack"
	"zealousferry/core/registry"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
)

// The keys of the demo: the maker's, which signs packs, and the workshop's.
const (
	makerKey    = "Marsk Boards"
	workshopKey = "Workshop"
)

// catalogue sends the model sheets, and what is not there yet: keys, releases in
// packs that the maker has signed, the team's choices and its gear.
func catalogue(ctx context.Context, c *client.Client, dir, phrase string, say func(string, ...any)) error {
	models := make([]string, 0, len(world.Sheets))
	for name, sheet := range world.Sheets {
		if _, err := c.PutModel(ctx, sheet); err != nil {
			return err
		}
		models = append(models, name)
	}
	sort.Strings(models)
	maker, err := signingKey(ctx, c, filepath.Join(dir, "maker.key"), makerKey, phrase)
	if err != nil {
		return err
	}
	workshop, err := signingKey(ctx, c, filepath.Join(dir, "workshop.key"), workshopKey, phrase)
	if err != nil {
		return err
	}
	for _, name := range models {
		if err := releases(ctx, c, name, maker, workshop, say); err != nil {
			return err
		}
	}
	known, err := c.Adapters(ctx)
	if err != nil {
		return err
	}
	for _, x := range world.Adapters {
		if slices.ContainsFunc(known.Adapters, func(a client.Adapter) bool { return a.Serial == x.Serial }) {
			continue // somebody may have changed its settings since
		}
		if _, err := c.PutAdapter(ctx, client.NewAdapter{Serial: x.Serial, Name: x.Name, Volts: x.Volts, Inverted: x.Inverted, Latency: x.Latency}); err != nil {
			return err
		}
	}
	told, err := c.Bulletins(ctx, "", true)
	if err != nil {
		return err
	}
	for _, b := range world.Bulletins {
		if len(told.Bulletins) > 0 {
			break // they were entered at the first start
		}
		if _, err := c.AddBulletin(ctx, b); err != nil {
			return err
		}
	}
	return choices(ctx, c)
}

// signingKey makes a key at the first start, and has the team trust it.
func signingKey(ctx context.Context, c *client.Client, file, name, phrase string) (trust.Key, error) {
	raw, err := os.ReadFile(file)
	if err == nil {
		return trust.Unseal(raw, phrase)
	}
	key, err := trust.NewKey()
	if err != nil {
		return key, err
	}
	if raw, err = key.Seal(name, phrase); err != nil {
		return key, err
	}
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		return key, err
	}
	from := time.Now().AddDate(-2, 0, 0)
	_, err = c.AddKey(ctx, client.NewKey{Name: name, Public: key.Public(), From: &from})
	return key, err
}

// releases sends those of a model that are not there: what the maker built in a
// pack, what the workshop built signed by itself, and some that nobody signed.
func releases(ctx context.Context, c *client.Client, name string, maker, workshop trust.Key, say func(string, ...any)) error {
	have, err := c.Releases(ctx, "", name, "", 200)
	if err != nil || have.Total > 0 {
		return err
	}
	content := pack.Content{Series: name, Number: 1, Date: time.Now().UTC().Truncate(time.Second), Images: map[core.Digest]pack.File{}}
	data := map[core.Digest][]byte{}
	content.Open = func(d core.Digest) ([]byte, error) { return data[d], nil }
	var alone []world.Release
	for n, r := range world.Releases() {
		if r.Model != name {
			continue
		}
		if !strings.HasPrefix(r.Origin.From, makerKey) {
			alone = append(alone, r)
			continue
		}
		document, err := document(r, time.Now().UTC().Add(time.Duration(n)*time.Millisecond), content.Images, data)
		if err != nil {
			return err
		}
		content.Releases = append(content.Releases, document)
	}
	say("%d releases of %s in a pack …", len(content.Releases), name)
	var out bytes.Buffer
	if _, err := pack.Write(&out, content, &maker); err != nil {
		return err
	}
	if _, err := c.ImportPack(ctx, out.Bytes(), "", false); err != nil {
		return err
	}
	for _, r := range alone {
		if err := add(ctx, c, r, workshop); err != nil {
			return err
		}
	}
	for _, r := range world.Releases() {
		if r.Model == name && r.Withdrawn != "" {
			if _, err := c.Withdraw(ctx, r.Model+"@"+r.Version, r.Withdrawn); err != nil {
				return err
			}
		}
	}
	return nil
}

// document makes a release as its maker has it.
func document(r world.Release, at time.Time, files map[core.Digest]pack.File, data map[core.Digest][]byte) ([]byte, error) {
	origin := *r.Origin
	origin.Published = map[string]core.Digest{}
	m := model.Release{ID: uuid.Must(uuid.NewV7()).String(), Model: r.Model, Version: r.Version, Number: r.Number, Channel: r.Channel, Supersedes: r.Supersedes, Floor: r.Floor, Fits: r.Fits, Rules: r.Rules, Wants: r.Wants, Settings: r.Settings,
		Cures: words(r.Cures), Changes: words(r.Changes), Origin: &origin, At: at}
	for n, p := range r.Parts {
		name, format, b := r.File(n)
		part, err := registry.PartOf(model.Part{Name: p.Name, Section: p.Section, Runs: p.Runs, Format: format, Address: p.Address}, b)
		if err != nil {
			return nil, err
		}
		m.Parts = append(m.Parts, part)
		origin.Published[p.Name] = part.Image
		data[part.Image], files[part.Image] = b, pack.File{Image: part.Image, Name: name}
	}
	return json.Marshal(m)
}

func words(s string) model.Words {
	if s == "" {
		return nil
	}
	return model.Words{"en": s}
}

// add sends a release that came without a pack.
func add(ctx context.Context, c *client.Client, r world.Release, workshop trust.Key) error {
	n := client.NewRelease{Model: r.Model, Version: r.Version, Number: r.Number, Channel: r.Channel, Cures: r.Cures, Changes: r.Changes, Supersedes: r.Supersedes, Floor: r.Floor, Fits: r.Fits, Rules: r.Rules, Wants: r.Wants, Origin: r.Origin, Settings: r.Settings}
	for i, p := range r.Parts {
		name, format, b := r.File(i)
		im, err := c.PutImage(ctx, name, model.Part{Format: format, Address: p.Address}, b)
		if err != nil {
			return err
		}
		n.Parts = append(n.Parts, client.NewPart{Name: p.Name, Section: p.Section, Runs: p.Runs, Image: im.Digest, Format: format, Address: p.Address})
	}
	one, err := c.AddRelease(ctx, n)
	if err != nil || r.Unsigned {
		return err
	}
	document, err := c.Document(ctx, one.ID)
	if err != nil {
		return err
	}
	jws, err := workshop.SignDetached(trust.PurposeRelease, document)
	if err != nil {
		return err
	}
	_, err = c.Sign(ctx, one.ID, jws)
	return err
}

// choices enters which release the team uses, and what it has.
func choices(ctx context.Context, c *client.Client) error {
	have, err := c.Gear(ctx)
	if err != nil || len(have.Gear) > 0 {
		return err
	}
	for _, g := range world.Things {
		n := client.NewGear{Kind: g.Kind, Name: g.Name, Version: g.Version, Owner: g.Owner, Cost: g.Cost, Note: g.Note}
		if g.Days > 0 {
			d := time.Now().UTC().AddDate(0, 0, g.Days).Truncate(24 * time.Hour)
			n.Expires = &d
		}
		if g.Left > 0 {
			n.Left = &g.Left
		}
		if _, err := c.PutGear(ctx, n); err != nil {
			return fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	for _, s := range world.Sites {
		if _, err := c.PutSite(ctx, client.NewSite{Name: s.Name, Customer: s.Customer, Contact: s.Contact, Note: s.Note}); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		if _, err := c.PutProfile(ctx, client.NewProfile{Kind: "site", Of: s.Name, Values: s.Profile}); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	for _, name := range []string{"porter-tug", "porter-hoist", "porter-charger", "porter-brake", "porter-cabin"} {
		if err := c.PutModelSecret(ctx, name, client.NewModelSecret{Name: "diagnosis", Value: world.PorterKey}); err != nil {
			return err
		}
	}
	if err := c.PutModelSecret(ctx, "fulmar", client.NewModelSecret{Name: "boot-key", Value: world.FulmarKey}); err != nil {
		return err
	}
	if _, err = c.PutTarget(ctx, client.NewTarget{Model: "quill-80", Revision: "C", Version: "4.1.6", Reason: "three weeks without a stall at Ormsay"}); err != nil {
		return err
	}
	return asked(ctx, c)
}

// asked enters a unit that nobody has seen yet, and jobs that customers have asked for.
func asked(ctx context.Context, c *client.Client) error {
	if _, err := c.EnterUnit(ctx, client.NewUnit{Model: "quill-80", Serial: "Q80-4417-300", Site: "Ormsay, ticket hut", Customer: "Ormsay ferries", Note: "key at the kiosk"}); err != nil {
		return err
	}
	for _, u := range world.Units {
		if u.Serial == "Q80-4417-206" || u.Serial == "DN-20417" {
			if _, err := c.EnterUnit(ctx, client.NewUnit{Model: u.Model, Serial: u.Serial, Site: u.Site}); err != nil {
				return err
			}
		}
	}
	in := func(days int) string { return time.Now().UTC().AddDate(0, 0, days).Format(time.DateOnly) }
	for _, j := range []client.NewJob{
		{Reason: "tickets come out blank after rain", Asked: "Ormsay ferries", Test: "Print a ticket at the counter.", Planned: in(3), Person: "Sunniva Dale", Units: []string{"Q80-4417-300"}},
		{Reason: "stalls after a paper change", Asked: "Gannet Quay, hall B", Planned: in(0), Person: "Sunniva Dale", Units: []string{"Q80-4417-206"}},
	} {
		if _, err := c.AddJob(ctx, j); err != nil {
			return err
		}
	}
	return nil
}
