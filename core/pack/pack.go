// Package pack writes and reads release packs: a zip that holds releases and
// their images, a manifest in JSON that names every file in it by SHA-256, and a
// detached signature of the manifest. The manifest has a number and a date, so
// that an old pack cannot pose as the newest. docs/release-pack.md describes it.
package pack

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"sort"
	"time"

	"zealousferry/core"
	"zealousferry/core/image/archive"
	"zealousferry/core/model"
	"zealousferry/core/trust"
)

// Names in the zip.
const (
	manifestName  = "manifest.json"
	signatureName = "manifest.jws"
	releasesDir   = "releases/"
	imagesDir     = "images/"
)

// Bounds.
const (
	maxManifest = 1 << 20
	maxDocument = 1 << 20
	maxImage    = 64 << 20
	maxReleases = 200
)

// Manifest says what is in a pack.
type Manifest struct {
	Format   int       `json:"pack"`
	Series   string    `json:"series"` // numbers are counted within a series
	Number   uint64    `json:"number"`
	Date     time.Time `json:"date"`
	Releases []Listed  `json:"releases"`
	Images   []File    `json:"images"`
}

// Listed is a release in a manifest.
type Listed struct {
	Model    string      `json:"model"`
	Version  string      `json:"version"`
	Document core.Digest `json:"document"` // of the release's JSON
}

// File is an image in a manifest.
type File struct {
	Image core.Digest `json:"image"` // SHA-256 of the file
	Name  string      `json:"name"`
	Bytes int64       `json:"bytes"`
}

// Pack is what was read.
type Pack struct {
	Manifest  Manifest
	Raw       []byte // the manifest, byte for byte, as it was signed
	Signature string // detached JWS; empty where there is none
	Releases  []*model.Release
	Documents [][]byte // of the releases, byte for byte
	Images    map[core.Digest][]byte
}

// Content is what goes into a pack.
type Content struct {
	Series   string
	Number   uint64
	Date     time.Time
	Releases [][]byte // documents
	Images   map[core.Digest]File
	Open     func(core.Digest) ([]byte, error)
}

// Write makes a pack; without a key it is not signed.
func Write(w io.Writer, c Content, key *trust.Key) (Manifest, error) {
	m := Manifest{Format: 1, Series: c.Series, Number: c.Number, Date: c.Date.UTC()}
	z := zip.NewWriter(w)
	put := func(name string, data []byte) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: m.Date})
		if err == nil {
			_, err = f.Write(data)
		}
		return err
	}
	for _, document := range c.Releases {
		var r model.Release
		if err := json.Unmarshal(document, &r); err != nil {
			return m, core.Fail(core.BadFile, "a release cannot be read: %w", err)
		}
		d := core.DigestOf(document)
		m.Releases = append(m.Releases, Listed{r.Model, r.Version, d})
		if err := put(releasesDir+d.String()+".json", document); err != nil {
			return m, err
		}
	}
	for d, f := range c.Images {
		m.Images = append(m.Images, File{d, f.Name, f.Bytes})
	}
	sort.Slice(m.Images, func(i, j int) bool { return m.Images[i].Image.String() < m.Images[j].Image.String() })
	for i, f := range m.Images {
		data, err := c.Open(f.Image)
		if err != nil {
			return m, err
		}
		m.Images[i].Bytes = int64(len(data))
		if err := put(imagesDir+f.Image.String(), data); err != nil {
			return m, err
		}
	}
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	if err := put(manifestName, raw); err != nil {
		return m, err
	}
	if key != nil {
		jws, err := key.SignDetached(trust.PurposePack, raw)
		if err != nil {
			return m, err
		}
		if err := put(signatureName, []byte(jws)); err != nil {
			return m, err
		}
	}
	return m, z.Close()
}

// Read reads a pack and checks that it holds what its manifest names, no more and
// no less. Whether its signature is to be believed is asked by Signed.
func Read(data []byte) (*Pack, error) {
	members, err := archive.Members("zip", bytes.NewReader(data), int64(len(data)), "")
	if err != nil {
		return nil, err
	}
	files := map[string]archive.Member{}
	for _, m := range members {
		if _, twice := files[m.Name]; twice {
			return nil, core.Fail(core.BadFile, "the pack holds %s twice", m.Name)
		}
		files[m.Name] = m
	}
	take := func(name string, most int64) ([]byte, error) {
		m, ok := files[name]
		if !ok {
			return nil, core.Fail(core.BadFile, "the pack lacks %s", name)
		}
		delete(files, name)
		if m.Size > most {
			return nil, core.Fail(core.BadFile, "%s in the pack has %d bytes; at most %d are read", name, m.Size, most)
		}
		r, err := m.Open()
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(r)
		if err != nil {
			return nil, core.AsError(err, core.BadFile)
		}
		return b, nil
	}
	p := &Pack{Images: map[core.Digest][]byte{}}
	if p.Raw, err = take(manifestName, maxManifest); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(p.Raw, &p.Manifest); err != nil || p.Manifest.Format != 1 {
		return nil, core.Fail(core.BadFile, "the pack's manifest cannot be read; expected format 1, came %d", p.Manifest.Format)
	}
	if n := len(p.Manifest.Releases); n == 0 || n > maxReleases {
		return nil, core.Fail(core.BadFile, "a pack holds 1 to %d releases, this names %d", maxReleases, n)
	}
	if _, ok := files[signatureName]; ok {
		jws, err := take(signatureName, 4096)
		if err != nil {
			return nil, err
		}
		p.Signature = string(jws)
	}
	for _, f := range p.Manifest.Images {
		b, err := take(imagesDir+f.Image.String(), maxImage)
		if err != nil {
			return nil, err
		}
		if core.DigestOf(b) != f.Image {
			return nil, core.Fail(core.BadFile, "image %s (%s) in the pack has other bytes: SHA-256 %s", f.Name, f.Image.Short(), core.DigestOf(b).Short())
		}
		p.Images[f.Image] = b
	}
	for _, l := range p.Manifest.Releases {
		document, err := take(releasesDir+l.Document.String()+".json", maxDocument)
		if err != nil {
			return nil, err
		}
		var r model.Release
		if core.DigestOf(document) != l.Document || json.Unmarshal(document, &r) != nil || r.Model != l.Model || r.Version != l.Version || r.ID == "" {
			return nil, core.Fail(core.BadFile, "release %s %s in the pack is not the one that the manifest names", l.Model, l.Version)
		}
		if r.Withdrawn != nil {
			return nil, core.Fail(core.BadFile, "release %s %s in the pack says that it is withdrawn; packs carry releases, not what became of them", l.Model, l.Version)
		}
		for _, part := range r.Parts {
			if _, ok := p.Images[part.Image]; !ok {
				return nil, core.Fail(core.BadFile, "release %s %s needs image %s, which the pack lacks", l.Model, l.Version, part.Image.Short())
			}
		}
		p.Releases, p.Documents = append(p.Releases, &r), append(p.Documents, document)
	}
	for name := range files {
		return nil, core.Fail(core.BadFile, "the pack holds %s, which its manifest does not name", name)
	}
	return p, nil
}

// Signed tells which trusted key signed the pack. Without a signature, with one by
// a key that is not in the list, or by one that does not count at the pack's date,
// by is nil and why says it; a signature that is false is an error.
func (p *Pack) Signed(keys []trust.Trusted, now time.Time) (by *trust.Trusted, why core.Said, err error) {
	if p.Signature == "" {
		return nil, core.Say("The pack is not signed."), nil
	}
	id, err := trust.KeyID(p.Signature)
	if err != nil {
		return nil, core.Said{}, err
	}
	for i, k := range keys {
		if k.ID != id {
			continue
		}
		if err := k.Public.VerifyDetached(trust.PurposePack, p.Raw, p.Signature); err != nil {
			return nil, core.Said{}, err
		}
		at := p.Manifest.Date
		if at.After(now) {
			return nil, core.Say("The pack is dated in the future, %s.", at.UTC().Format(time.RFC3339)), nil
		}
		if why := k.Bars(at); why.Text != "" {
			return nil, why, nil
		}
		return &keys[i], core.Said{}, nil
	}
	return nil, core.Say("The pack is signed by key %s, which nobody here has decided to trust.", id), nil
}

// Names tells whether a manifest names a release by the digest of its document.
func Names(manifest []byte, document core.Digest) error {
	var m Manifest
	if err := json.Unmarshal(manifest, &m); err != nil {
		return core.Fail(core.BadFile, "the manifest of the pack cannot be read: %w", err)
	}
	for _, l := range m.Releases {
		if l.Document == document {
			return nil
		}
	}
	return core.Fail(core.NotAllowed, "the pack %d of series %s that was signed does not name it", m.Number, m.Series)
}
