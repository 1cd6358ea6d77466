package bench

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/shelf"
)

func piece(s string) shelf.Piece {
	return shelf.Piece{Name: core.DigestOf([]byte(s)), Data: []byte(s)}
}

func TestThePackKeepsAndCutsOffWhatIsTorn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "pack")
	p, err := openPack(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.put([]shelf.Piece{piece("one"), piece(""), piece("one")}); err != nil {
		t.Fatal(err)
	}
	whole := p.size
	if err := p.put([]shelf.Piece{piece("one"), piece(strings.Repeat("two ", 1000))}); err != nil {
		t.Fatal(err)
	}
	p.close()
	for cut := whole; cut < whole+60; cut += 7 {
		raw, _ := os.ReadFile(path)
		torn := filepath.Join(t.TempDir(), "torn")
		os.WriteFile(torn, raw[:min(cut, int64(len(raw)-1))], 0o600)
		q, err := openPack(torn)
		if err != nil {
			t.Fatal(err)
		}
		if b, ok, err := q.get(piece("one").Name); err != nil || !ok || string(b) != "one" {
			t.Errorf("cut at %d: %q %v %v", cut, b, ok, err)
		}
		if q.has(piece(strings.Repeat("two ", 1000)).Name) {
			t.Errorf("cut at %d: a torn piece counts as kept", cut)
		}
		if err := q.put([]shelf.Piece{piece("three")}); err != nil {
			t.Error(err)
		}
		q.close()
		if q, _ = openPack(torn); !q.has(piece("three").Name) {
			t.Errorf("cut at %d: what was kept after the cut is gone", cut)
		}
		q.close()
	}
	raw, _ := os.ReadFile(path)
	raw[len(raw)-1] ^= 1
	os.WriteFile(path, raw, 0o600)
	if p, err = openPack(path); err != nil || p.has(piece(strings.Repeat("two ", 1000)).Name) {
		t.Errorf("a spoilt piece counts as kept: %v", err)
	}
	p.close()
}

func FuzzPack(f *testing.F) {
	f.Add(bytes.Repeat([]byte{0}, 50))
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "pack")
		os.WriteFile(path, data, 0o600)
		p, err := openPack(path)
		if err != nil {
			t.Fatal(err)
		}
		for name := range p.where {
			p.get(name)
		}
		p.close()
	})
}

func TestTheListOfLinks(t *testing.T) {
	for name, x := range map[string]struct{ file, want string }{
		"good":         {"links:\n - {name: a, kind: serial, settings: {path: /dev/x}}\n - {name: b, kind: rfc2217, settings: {address: h:1}}\n", ""},
		"twice":        {"links:\n - {name: a, kind: serial}\n - {name: a, kind: serial}\n", "link 2: name \"a\""},
		"a bad name":   {"links:\n - {name: A B, kind: serial}\n", "expected lower-case letters"},
		"unknown kind": {"links:\n - {name: a, kind: smoke}\n", "there is no kind of link \"smoke\""},
		"not YAML":     {"links: [", "links.yaml"},
	} {
		path := filepath.Join(t.TempDir(), "links.yaml")
		os.WriteFile(path, []byte(x.file), 0o600)
		ports, err := ReadPorts(path)
		if x.want == "" {
			if err != nil || len(ports) != 2 || ports[1].Settings["address"] != "h:1" {
				t.Errorf("%s: %+v %v", name, ports, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, want %q", name, err, x.want)
		}
	}
	if none, err := ReadPorts("/nowhere/links.yaml"); err != nil || len(none) != 0 { // a bench begins without links
		t.Errorf("no list: %+v %v", none, err)
	}
}

func TestAFolderHasOneBench(t *testing.T) {
	dir := t.TempDir()
	o := Options{Clock: core.System{}, Log: slog.New(slog.DiscardHandler)}
	if _, err := Open(dir, nil, o); core.KindOf(err) != core.NotFound {
		t.Errorf("never enrolled: %v", err)
	}
	os.WriteFile(filepath.Join(dir, "bench.json"), []byte(`{"service":"http://127.0.0.1:1","key":"`+strings.Repeat("A", 43)+`="}`), 0o600)
	b, err := Open(dir, nil, o)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, nil, o); core.KindOf(err) != core.Busy {
		t.Errorf("a second process: %v", err)
	}
	b.Close()
	again, err := Open(dir, nil, o)
	if err != nil {
		t.Fatalf("after the first has ended: %v", err)
	}
	again.Close()
}

func TestAJournalOnThisDisk(t *testing.T) {
	d := Folder(t.TempDir())
	f, err := d.Open("r-1")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Reserve(1 << 20); err != nil {
		t.Fatal(err)
	}
	if n, _ := f.Size(); n != 0 {
		t.Errorf("reserving made it %d bytes long", n)
	}
	f.WriteAt([]byte("abc"), 0)
	if err := f.Sync(); err != nil {
		t.Error(err)
	}
	if n, _ := f.Size(); n != 3 {
		t.Errorf("%d bytes", n)
	}
	if names, err := d.List(); err != nil || len(names) != 1 || names[0] != "r-1" {
		t.Errorf("%v %v", names, err)
	}
	if err := f.Reserve(1 << 60); err == nil {
		t.Error("a disk of an exbibyte")
	}
}
