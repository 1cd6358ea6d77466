package trials

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"image/jpeg"
	"image/png"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// byEye is a unit that tells no serial: it waits for a file.
func byEye(s *sim.Spec) { s.Kind, s.Says = "xmodem", "" }

// A model, a label or a serial that cannot be is refused, and nothing is entered.
func TestWhatIsTypedIsChecked(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, byEye)
	if _, err := w.Lead.PutModel(ctx, bytes.Replace(coretest.SmallSheetOf("xmodem"), []byte("model: small"), []byte("model: eye\nserial: { pattern: \"S-[0-9]{4}\", looks: { en: \"S and four digits\" } }"), 1)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to know the model", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/b", Model: "eye"})
		return err == nil
	})
	known := func() int {
		u, err := w.Technician.Units(ctx, "", "", 200)
		if err != nil {
			t.Fatal(err)
		}
		return u.Total
	}
	before := known()
	if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Model: "no-such-model"}); core.KindOf(err) != core.NotFound || !strings.Contains(err.Error(), "no-such-model") {
		t.Errorf("a model that does not exist: %v", err)
	}
	for label, want := range map[string]string{"%%%": "is no serial", "T-0002": "S and four digits", "S 00 02 17": "S and four digits"} {
		if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/b", Label: label, Model: "eye"}); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), want) {
			t.Errorf("label %q: %v", label, err)
		}
	}
	if n := known(); n != before {
		t.Errorf("%d units were entered by that", n-before)
	}
	first, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/b", Label: "S-0002", Model: "eye"})
	if err != nil {
		t.Fatal(err)
	}
	again, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/b", Label: " s - 0002 ", Model: "eye"})
	if err != nil || again.Unit != first.Unit || again.Serial != "S-0002" {
		t.Errorf("typed another way: %+v %v", again, err)
	}
	if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "S-0009"}); core.KindOf(err) != core.WrongUnit || !strings.Contains(err.Error(), "S-0001") {
		t.Errorf("a label that contradicts the wire: %v", err)
	}
	if id, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "s-0001"}); err != nil || id.Serial != "S-0001" {
		t.Errorf("a label that agrees with the wire: %+v %v", id, err)
	}
}

// Of a photo the picture is kept and nothing else; a lead removes it for good, which the audit log
// keeps.
func TestOfAPhotoThePictureIsKept(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	place, plain := []byte("Exif\x00\x00II*\x00\x08\x00\x00\x00\x00\x0054.3213N 10.1348E"), pictureOf(70)
	var shot bytes.Buffer
	im, err := png.Decode(bytes.NewReader(plain))
	if err != nil || jpeg.Encode(&shot, im, nil) != nil {
		t.Fatal(err)
	}
	with := append([]byte{0xFF, 0xD8, 0xFF, 0xE1, 0, byte(len(place) + 2)}, place...)
	kept, err := w.Technician.PutEvidence(ctx, "image/jpeg", append(with, shot.Bytes()[2:]...))
	if err != nil {
		t.Fatal(err)
	}
	got, err := w.Viewer.Evidence(ctx, kept.Digest.String())
	if err != nil || bytes.Contains(got, []byte("10.1348E")) || !bytes.Equal(got, shot.Bytes()) {
		t.Fatalf("%d bytes are kept, %v", len(got), err)
	}
	if _, err := w.Technician.PutEvidence(ctx, "image/jpeg", with); core.KindOf(err) != core.BadFile {
		t.Errorf("a photo that is cut off: %v", err)
	}
	l := commandLine(t, w, "lead")
	commandLine(t, w, "technician").must(20, "unit", "photo", kept.Digest.String(), "--remove", "--reason", "why not")
	told(t, l.must(0, "unit", "photo", kept.Digest.String(), "--remove", "--reason", "a face is on it"), "removed")
	if _, err := w.Viewer.Evidence(ctx, kept.Digest.String()); core.KindOf(err) != core.NotFound {
		t.Errorf("after it was removed: %v", err)
	}
	told(t, l.must(0, "audit", "log"), "photo removed", "a face is on it")

	// Changed in the database, it is not shown as what was kept.
	again, err := w.Technician.PutEvidence(ctx, "image/png", plain)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE evidence SET body = 'x' WHERE body IS NOT NULL`); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Viewer.Evidence(ctx, again.Digest.String()); core.KindOf(err) != core.VerifyDiffers {
		t.Errorf("changed: %v", err)
	}
}

// A photo is a photo, and a label that was photographed is not overruled by word alone.
func TestALabelIsOverruledOnlyWithAPhoto(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	id, err := w.Technician.Identify(ctx, "b/a", "")
	if err != nil {
		t.Fatal(err)
	}
	text, err := w.Technician.PutEvidence(ctx, "text/plain", []byte("it says C"))
	if err != nil {
		t.Fatal(err)
	}
	photo, err := w.Technician.PutEvidence(ctx, "image/png", onePixel(t))
	if err != nil {
		t.Fatal(err)
	}
	label := func(value string, photo string) error {
		return w.Technician.Note(ctx, id.Unit, client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: value, Source: "label", Photo: photo}}})
	}
	if err := label("C", text.Digest.String()); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "no picture") {
		t.Errorf("a text in place of a photo: %v", err)
	}
	if err := label("C", photo.Digest.String()); err != nil {
		t.Fatal(err)
	}
	if err := label("D", ""); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "photo") {
		t.Errorf("another label by word alone: %v", err)
	}
	if err := label("C", ""); err != nil {
		t.Errorf("the same label by word: %v", err)
	}
	if err := label("D", photo.Digest.String()); err != nil {
		t.Errorf("another label with a photo: %v", err)
	}
}

// onePixel is the smallest picture there is.
func onePixel(t *testing.T) []byte {
	t.Helper()
	raw, err := base64.StdEncoding.DecodeString("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==")
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// Numbers, voltages and versions are checked, and what is wrong is said in a person's
// words.
func TestGearAndAdaptersAreChecked(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	minus := -3
	for name, err := range map[string]error{
		"a negative count": second(w.Technician.PutGear(ctx, client.NewGear{Kind: "entitlement", Name: "access", Owner: "kay", Left: &minus})),
		"a version":        second(w.Technician.PutGear(ctx, client.NewGear{Kind: "software", Name: "tool", Owner: "kay", Version: "banana"})),
		"volts":            second(w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "A-1", Name: "lead", Volts: "banana"})),
		"volts too high":   second(w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "A-1", Name: "lead", Volts: "900 V"})),
		"a firmware":       second(w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "A-1", Name: "lead", Firmware: "banana"})),
		"a short reason":   second(w.Lead.Withdraw(ctx, "small@2.0.0", "x")),
	} {
		if core.KindOf(err) != core.NotUnderstood {
			t.Errorf("%s: %v", name, err)
		} else if strings.Contains(err.Error(), "body") || strings.Contains(err.Error(), "validation failed") {
			t.Errorf("%s is not said in a person's words: %v", name, err)
		}
	}
	if _, err := w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "A-1", Name: "lead", Volts: "3.3 V", Firmware: "2.0.0"}); err != nil {
		t.Error(err)
	}
}

func second[T any](_ T, err error) error { return err }

// A release that no unit of its model could take is refused before its version is used
// up: bytes over the boot loader, a text or an archive taken for bytes.
func TestAReleaseThatNoUnitCouldTakeIsNoRelease(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	f, err := z.Create("notes.txt")
	if err == nil {
		_, err = f.Write([]byte("read me first\n"))
	}
	if err != nil || z.Close() != nil {
		t.Fatal(err)
	}
	add := func(data []byte, format string, at uint64) error {
		im, err := w.Lead.PutImage(ctx, "x.bin", model.Part{Format: format, Address: at}, data)
		if err != nil {
			return err
		}
		_, err = w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "3.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: im.Format, Address: at}}})
		return err
	}
	program := coretest.SmallProgram("3.0.0")
	for name, x := range map[string]struct {
		err  error
		want string
	}{
		"over the loader":      {add(program, "raw", 0), "loader"},
		"behind the memory":    {add(program, "raw", 0x100000), "memory"},
		"a text":               {add([]byte("Dear colleague, please flash this.\n"), "", 0x1000), "text"},
		"a text as bytes":      {add([]byte("Dear colleague, please flash this.\n"), "raw", 0x1000), "text"},
		"an archive as bytes":  {add(packed.Bytes(), "raw", 0x1000), "archive"},
		"an archive of a text": {add(packed.Bytes(), "", 0x1000), ""},
	} {
		if k := core.KindOf(x.err); k != core.BadFile && k != core.DoesNotFit || !strings.Contains(x.err.Error(), x.want) {
			t.Errorf("%s: %v", name, x.err)
		}
	}
	if err := add(program, "raw", 0x1000); err != nil {
		t.Errorf("the version was used up: %v", err)
	}
}

// A file that cannot be written is said as it is.
func TestACardIntoNoFolder(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "technician")
	c := exec.Command(l.path, "card", "S-0001", "--pdf", filepath.Join(t.TempDir(), "no", "such", "card.pdf"))
	c.Env = l.env
	raw, _ := c.CombinedOutput()
	out, code := string(raw), c.ProcessState.ExitCode()
	if code != 21 || !strings.Contains(out, "NOT FOUND") || !strings.Contains(out, "folder") {
		t.Errorf("exit %d: %s", code, out)
	}
}

// The card of a unit that must not be written says that first, whatever its procedure
// has been proven on.
func TestTheCardOfAUnitThatMustNotBeWritten(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	sheet := strings.Replace(string(coretest.Small), "loader:\n", "flaws: [{ when: [{ fact: revision, one-of: [D] }], says: { en: \"It is a copy.\" }, bars: true }]\nloader:\n", 1) +
		strings.Replace(underSeat, "    items:\n", "    proven: [{ when: [{ fact: revision, one-of: [D] }] }]\n    items:\n", 1)
	if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	c, err := w.Technician.Card(ctx, "S-0001", client.CardAbout{})
	if err != nil || c.Standing != "barred" || c.StandingSays != "It is a copy." {
		t.Errorf("%+v %v", c.Standing, err)
	}
}
