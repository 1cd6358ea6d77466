package registry

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
)

// sample is an image that every format can carry in some way.
func sample(r *rand.Rand, segments int) *image.Image {
	b := image.Builder{}
	at := uint64(0x8000)
	for range segments {
		data := make([]byte, 1+r.IntN(5000))
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		b.Add(at, data, 0)
		at += uint64(len(data)) + 1 + uint64(r.IntN(70000))
	}
	im, err := b.Image()
	if err != nil {
		panic(err)
	}
	start := uint64(0x8000)
	im.Start = &start
	return im
}

// TestEveryFormatKeepsWhatItCarries writes random images in each format and reads
// them again, and checks the words on what is lost.
func TestEveryFormatKeepsWhatItCarries(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, f := range Formats {
		for range 20 {
			im := sample(r, 1+r.IntN(4))
			im.Notes = []image.Note{{Name: image.NoteHeader, Value: "Quill 80"}, {Name: image.NoteFamily, Value: "0x0000CAFE"}, {Name: image.NoteVendor, Value: "0x1234"}}
			var out bytes.Buffer
			lost, err := image.Convert(&out, im, f, image.Options{})
			if f.Name() == "elf" {
				if core.KindOf(err) != core.BadFile {
					t.Fatalf("elf is read only: %v", err)
				}
				break
			}
			if err != nil {
				t.Fatalf("%s: %v", f.Name(), err)
			}
			from, to := im.Extent()
			o, err := Open(Bytes(out.Bytes(), ""), Choice{Options: image.Options{At: from}})
			if err != nil || o.Format.Name() != f.Name() {
				t.Fatalf("%s read again: %v %v", f.Name(), err, o)
			}
			text := core.Texts(lost, "\n")
			if f.Carries(image.CarriesGaps) {
				if o.Image.Content() != im.Content() {
					t.Fatalf("%s came back as something else", f.Name())
				}
			} else {
				flat := make([]byte, to-from)
				for i := range flat {
					flat[i] = 0xFF
				}
				im.Overlay(from, flat)
				if !bytes.Equal(o.Image.Segments[0].Data, flat) || !strings.Contains(text, "the address") || len(im.Segments) > 1 && !strings.Contains(text, "the gaps") {
					t.Fatalf("%s flat: lost %q", f.Name(), text)
				}
			}
			if f.Carries(image.CarriesStart) != (o.Image.Start != nil) || f.Carries(image.CarriesStart) == strings.Contains(text, "the entry point") {
				t.Errorf("%s: start %v, lost %q", f.Name(), o.Image.Start, text)
			}
			for _, n := range im.Notes {
				got, ok := o.Image.Note(n.Name)
				if f.Carries(n.Name) != (ok && got == n.Value) || f.Carries(n.Name) == strings.Contains(text, "the "+n.Name) {
					t.Errorf("%s: %s is %q, lost %q", f.Name(), n.Name, got, text)
				}
			}
		}
	}
}

// peers are what objcopy calls our formats.
var peers = map[string]string{"intel-hex": "ihex", "s-record": "srec", "raw": "binary"}

func objcopy(t *testing.T, args ...string) {
	t.Helper()
	if out, err := exec.Command("objcopy", args...).CombinedOutput(); err != nil {
		t.Fatalf("objcopy %v: %v\n%s", args, err, out)
	}
}

func read(t *testing.T, file string, c Choice) *Opened {
	t.Helper()
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	o, err := Open(Bytes(raw, file), c)
	if err != nil {
		t.Fatalf("%s: %v", filepath.Base(file), err)
	}
	return o
}

func write(t *testing.T, file, format string, im *image.Image) {
	t.Helper()
	f, err := FormatNamed(format)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := f.Encode(&out, im, image.Options{}); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestObjcopyReadsWhatWeWriteAndTheOtherWay goes both ways with a general-purpose peer.
func TestObjcopyReadsWhatWeWriteAndTheOtherWay(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	for i := range 6 {
		im := sample(r, 1+i/2)
		from, _ := im.Extent()
		for format, theirs := range peers {
			if format == "raw" {
				continue
			}
			for other, theirOther := range peers {
				write(t, file("ours"), format, im)
				objcopy(t, "-I", theirs, "-O", theirOther, "--gap-fill", "0xFF", file("ours"), file("theirs"))
				got := read(t, file("theirs"), Choice{Format: other, Options: image.Options{At: from}}).Image
				if other == "raw" {
					write(t, file("flat"), "raw", im)
					if want := read(t, file("flat"), Choice{Format: "raw", Options: image.Options{At: from}}).Image; got.Content() != want.Content() {
						t.Errorf("%s to raw differs from objcopy's", format)
					}
				} else if got.Bytes() < im.Bytes() || got.Start == nil || *got.Start != *im.Start {
					t.Errorf("%s to %s by objcopy: %d bytes of %d, start %v", format, other, got.Bytes(), im.Bytes(), got.Start)
				}
			}
		}
	}
}

// TestElfByPhysicalAddress has the linker make files whose physical addresses
// differ from the virtual ones.
func TestElfByPhysicalAddress(t *testing.T) {
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	r := rand.New(rand.NewPCG(9, 9))
	code, settings := make([]byte, 5000), make([]byte, 300)
	for i := range code {
		code[i] = byte(r.Uint32())
	}
	copy(settings, "SET1")
	os.WriteFile(file("code"), code, 0o600)
	os.WriteFile(file("settings"), settings, 0o600)
	script := `PHDRS { one PT_LOAD; two PT_LOAD; three PT_LOAD; }
SECTIONS {
  . = 0x8000; .code : { *code(.data) } :one
  .settings 0x20000000 : AT(0xA000) { *settings(.data) } :two
  .later 0x30000000 (NOLOAD) : { . = . + 64; } :three
}`
	os.WriteFile(file("script"), []byte(script), 0o600)
	format, err := exec.Command("ld", "--print-output-format").Output()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("ld", "--oformat", strings.TrimSpace(string(format)), "-b", "binary", "-e", "0x8010", "-T", file("script"), "-o", file("out.elf"), file("code"), file("settings")).CombinedOutput(); err != nil {
		t.Fatalf("ld: %v\n%s", err, out)
	}
	o := read(t, file("out.elf"), Choice{})
	im := o.Image
	if o.Format.Name() != "elf" || len(im.Segments) != 2 || im.Segments[0].Address != 0x8000 || im.Segments[1].Address != 0xA000 || *im.Start != 0x8010 {
		t.Fatalf("%s %+v", o.Format.Name(), image.Describe(im))
	}
	objcopy(t, "-O", "binary", "--gap-fill", "0xFF", file("out.elf"), file("theirs.bin"))
	write(t, file("ours.bin"), "raw", im)
	ours, _ := os.ReadFile(file("ours.bin"))
	theirs, _ := os.ReadFile(file("theirs.bin"))
	if !bytes.Equal(ours, theirs) || len(ours) == 0 {
		t.Errorf("raw differs from objcopy's: %d and %d bytes", len(ours), len(theirs))
	}
	whole, _ := os.ReadFile(file("out.elf"))
	for name, x := range map[string]struct {
		data []byte
		want string
	}{
		"cut in a segment": {whole[:0x1100], "ELF"},
		"only the magic":   {whole[:8], "offset 0: "},
	} {
		if _, err := Open(Bytes(x.data, "x.elf"), Choice{}); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func zipOf(t testing.TB, files map[string][]byte) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range []string{"readme.txt", "program.hex", "other.s19", "inner.zip", "only.bin"} {
		if data, ok := files[name]; ok {
			w, err := z.Create(name)
			if err != nil {
				t.Fatal(err)
			}
			w.Write(data)
		}
	}
	z.Close()
	return out.Bytes()
}

func gz(data []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Write(data)
	w.Close()
	return out.Bytes()
}

var (
	hexFile  = []byte("\r\n:0200000041427B\n:00000001FF\n")
	srecFile = []byte("S1070010414243" + "44DE\nS9030000FC\n")
)

func TestFilesInArchives(t *testing.T) {
	text := []byte("Read this first.\n")
	plain, _ := Open(Bytes(hexFile, ""), Choice{})
	for name, x := range map[string]struct {
		file, member string
		data         []byte
	}{
		"one file":           {"a.zip", "", zipOf(t, map[string][]byte{"program.hex": hexFile})},
		"beside a text":      {"a.zip", "", zipOf(t, map[string][]byte{"program.hex": hexFile, "readme.txt": text})},
		"chosen":             {"a.zip", "program.hex", zipOf(t, map[string][]byte{"program.hex": hexFile, "other.s19": srecFile})},
		"gzip":               {"program.hex.gz", "", gz(hexFile)},
		"gzip by its bytes":  {"program", "", gz(hexFile)},
		"named as something": {"program.bin", "", gz(hexFile)},
	} {
		o, err := Open(Bytes(x.data, x.file), Choice{Member: x.member})
		if err != nil || o.Image.Content() != plain.Image.Content() || o.Format.Name() != "intel-hex" || o.Packed == "" {
			t.Errorf("%s: %v %+v", name, err, o)
		}
	}
	bomb := zipOf(t, map[string][]byte{"only.bin": bytes.Repeat([]byte{0}, 1<<20)})
	at := bytes.LastIndex(bomb, []byte("PK\x01\x02"))
	copy(bomb[at+24:], []byte{0, 0, 0, 0xA0}) // the directory now says 2.5 GiB
	broken := zipOf(t, map[string][]byte{"program.hex": hexFile})
	broken[bytes.Index(broken, []byte("program.hex"))+len("program.hex")+3] ^= 0x55
	for name, x := range map[string]struct {
		data []byte
		want string
	}{
		"two that may be meant":    {zipOf(t, map[string][]byte{"program.hex": hexFile, "other.s19": srecFile}), "2 files that may be meant: program.hex, other.s19"},
		"a zip in a zip":           {zipOf(t, map[string][]byte{"inner.zip": zipOf(t, map[string][]byte{"program.hex": hexFile})}), "inner.zip is an archive (zip) in an archive (zip)"},
		"a gzip in a gzip":         {gz(gz(hexFile)), "is an archive (gzip) in an archive (gzip)"},
		"unfolds too far":          {bomb, "would unfold to more than"},
		"empty":                    {zipOf(t, nil), "holds no file"},
		"cut off":                  {zipOf(t, map[string][]byte{"program.hex": hexFile})[:60], "the zip has no end record"},
		"damaged":                  {broken, "archive"},
		"a gzip cut off":           {gz(hexFile)[:20], "damaged or cut off"},
		"a directory at its place": {append([]byte("PK\x03\x04 nothing"), zipOf(t, map[string][]byte{"program.hex": hexFile})...), "the zip's directory should end here"},
	} {
		if _, err := Open(Bytes(x.data, "a.zip"), Choice{}); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
		}
	}
}

func TestANameThatMisleadsIsSaid(t *testing.T) {
	for name, want := range map[string]string{"a.hex": "", "a.HEX": "", "a": "", "a.s19": "the name ends in .s19, as of S-record; the content is Intel HEX", "a.bin": "the content is Intel HEX"} {
		o, err := Open(Bytes(hexFile, name), Choice{})
		if err != nil || want == "" && len(o.Image.Warnings) > 0 || want != "" && !strings.Contains(core.Texts(o.Image.Warnings, ""), want) {
			t.Errorf("%s: %v %v", name, err, o.Image.Warnings)
		}
	}
	// A text under the name of a format is not bytes: the error names the line.
	for name, x := range map[string]string{"a.hex": "0200000041427B\n", "a.s19": "\nrecords\n", "b.hex": ":\n"} {
		if _, err := Open(Bytes([]byte(x), name), Choice{}); core.KindOf(err) != core.BadFile || core.AsError(err, "").At == nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	// Bytes under such a name are bytes, and it is said.
	o, err := Open(Bytes([]byte{0, 1, 2, 3}, "a.hex"), Choice{})
	if err != nil || o.Format.Name() != "raw" || len(o.Image.Warnings) != 1 {
		t.Errorf("%v %+v", err, o)
	}
}

// FuzzOpen gives anything under any name: no crash, and every error has a kind.
func FuzzOpen(f *testing.F) {
	f.Add(hexFile, "a.hex")
	f.Add(srecFile, "a.s19")
	f.Add(zipOf(f, map[string][]byte{"program.hex": hexFile}), "a.zip")
	f.Add(gz(srecFile), "a.gz")
	f.Add([]byte("\x7fELF\x01\x01\x01"), "a.elf")
	f.Fuzz(func(t *testing.T, data []byte, name string) {
		o, err := Open(Bytes(data, name), Choice{})
		if err != nil {
			if core.KindOf(err) == "" {
				t.Fatalf("an error without a kind: %v", err)
			}
			return
		}
		image.Describe(o.Image)
		image.Diff(o.Image, o.Image, 256)
	})
}

// A part that was kept under a name that its format bore before is read by what stands in
// it, if that is what it is known to hold.
func TestAPartKeptUnderAnOlderNameOfItsFormat(t *testing.T) {
	file := []byte("@1000\n31 32 33 34\nq\n")
	im, name, err := Decode(file, model.Part{Name: "program"})
	if err != nil || name != "address-text" {
		t.Fatalf("%s %v", name, err)
	}
	if again, name, err := Decode(file, model.Part{Name: "program", Format: "older-name", Content: im.Content()}); err != nil || name != "address-text" || again.Content() != im.Content() {
		t.Errorf("%s %v", name, err)
	}
	for what, p := range map[string]model.Part{
		"other content":            {Name: "program", Format: "older-name", Content: core.DigestOf([]byte("x"))},
		"a new part, unknown name": {Name: "program", Format: "older-name"},
	} {
		if _, _, err := Decode(file, p); err == nil {
			t.Errorf("%s was read", what)
		}
	}
}
