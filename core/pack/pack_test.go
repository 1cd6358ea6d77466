package pack

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/trust"
)

var noon = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

func content() Content {
	data := []byte(":0200000041427B\n:00000001FF\n")
	r := model.Release{ID: "0193", Model: "heron", Version: "4.2.1", Channel: model.Stable, At: noon, Parts: []model.Part{{Name: "app", Image: core.DigestOf(data), Format: "intel-hex"}}}
	document, _ := json.Marshal(r)
	return Content{Series: "tern-and-tide", Number: 12, Date: noon, Releases: [][]byte{document}, Images: map[core.Digest]File{core.DigestOf(data): {Image: core.DigestOf(data), Name: "heron.hex"}},
		Open: func(core.Digest) ([]byte, error) { return data, nil }}
}

func write(t testing.TB, key *trust.Key) []byte {
	t.Helper()
	var out bytes.Buffer
	if _, err := Write(&out, content(), key); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// change unpacks a pack, changes its files, and packs it again.
func change(t *testing.T, data []byte, how func(files map[string][]byte)) []byte {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for _, f := range z.File {
		r, _ := f.Open()
		files[f.Name], _ = io.ReadAll(r)
	}
	how(files)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for name, b := range files {
		f, _ := w.Create(name)
		f.Write(b)
	}
	w.Close()
	return out.Bytes()
}

func TestRoundTripAndSigner(t *testing.T) {
	key, _ := trust.NewKey()
	p, err := Read(write(t, &key))
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Releases) != 1 || p.Releases[0].Version != "4.2.1" || p.Manifest.Number != 12 || len(p.Images) != 1 || p.Manifest.Images[0].Name != "heron.hex" {
		t.Errorf("%+v", p.Manifest)
	}
	list := []trust.Trusted{{ID: key.Public().ID(), Name: "Workshop", Public: key.Public(), From: noon.AddDate(-1, 0, 0)}}
	if by, why, err := p.Signed(list, noon.AddDate(0, 0, 1)); err != nil || by == nil || by.Name != "Workshop" {
		t.Errorf("%v %s %v", by, why, err)
	}
	revoked := noon
	for name, x := range map[string]struct {
		keys []trust.Trusted
		now  time.Time
		why  string
	}{
		"nobody trusts it": {nil, noon, "which nobody here has decided to trust"},
		"revoked":          {[]trust.Trusted{{ID: key.Public().ID(), Name: "Workshop", Public: key.Public(), Revoked: &revoked, Reason: "stolen"}}, noon, "was revoked"},
		"from the future":  {list, noon.AddDate(0, 0, -1), "dated in the future"},
	} {
		if by, why, err := p.Signed(x.keys, x.now); err != nil || by != nil || !strings.Contains(why.Text, x.why) {
			t.Errorf("%s: %v %q %v", name, by, why, err)
		}
	}
	plain, _ := Read(write(t, nil))
	if by, why, err := plain.Signed(list, noon); err != nil || by != nil || why.Text != "The pack is not signed." {
		t.Errorf("unsigned: %v %q %v", by, why, err)
	}
}

func TestAPackThatWasChangedIsRefused(t *testing.T) {
	key, _ := trust.NewKey()
	good := write(t, &key)
	list := []trust.Trusted{{ID: key.Public().ID(), Name: "Workshop", Public: key.Public()}}
	first := func(files map[string][]byte, prefix string) string {
		for name := range files {
			if strings.HasPrefix(name, prefix) {
				return name
			}
		}
		panic(prefix)
	}
	for name, x := range map[string]struct {
		how  func(map[string][]byte)
		want string
	}{
		"an image": {func(f map[string][]byte) { f[first(f, imagesDir)][3] ^= 1 }, "has other bytes"},
		"a release": {func(f map[string][]byte) {
			n := first(f, releasesDir)
			f[n] = bytes.Replace(f[n], []byte("stable"), []byte("candid"), 1)
		}, "is not the one that the manifest names"},
		"no image":    {func(f map[string][]byte) { delete(f, first(f, imagesDir)) }, "the pack lacks images/"},
		"no manifest": {func(f map[string][]byte) { delete(f, manifestName) }, "the pack lacks manifest.json"},
		"one more":    {func(f map[string][]byte) { f["run.sh"] = []byte("boo") }, "run.sh, which its manifest does not name"},
		"another format": {func(f map[string][]byte) {
			f[manifestName] = bytes.Replace(f[manifestName], []byte(`"pack": 1`), []byte(`"pack": 2`), 1)
		}, "expected format 1, came 2"},
		"the number": {func(f map[string][]byte) {
			f[manifestName] = bytes.Replace(f[manifestName], []byte(`"number": 12`), []byte(`"number": 99`), 1)
		}, "one of them was changed"},
		"no signature": {func(f map[string][]byte) { f[signatureName] = []byte("a.b") }, "cannot be read"},
	} {
		p, err := Read(change(t, good, x.how))
		if err == nil {
			_, _, err = p.Signed(list, noon)
		}
		if core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
		}
	}
}

func FuzzRead(f *testing.F) {
	key, _ := trust.NewKey()
	f.Add(write(f, &key))
	f.Add(write(f, nil))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Read(data)
		if err != nil {
			if core.KindOf(err) == "" {
				t.Fatalf("an error without a kind: %v", err)
			}
			return
		}
		p.Signed(nil, noon)
	})
}
