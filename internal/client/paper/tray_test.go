package paper

import (
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/oned"
	"github.com/makiuchi-d/gozxing/qrcode"

	"zealousferry/core"
	"zealousferry/core/tray"
	"zealousferry/internal/client"
)

var made = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

func aTray(units int) client.Tray {
	t := client.Tray{TrayRow: client.TrayRow{ID: "01a2", Model: "dunlin", ModelName: "Dunlin", Version: "1215", Reason: "recall of May", By: "Ída Sæther – shed 1", At: made, Count: map[string]int{tray.IsDone: units, tray.Failed: 1}}}
	for n := range units {
		t.Places = append(t.Places, client.TrayPlace{N: n + 1, Serial: fmt.Sprintf("DN-%05d", 20417+n), State: tray.IsDone, From: "1180", Changed: &made})
	}
	t.Places = append(t.Places, client.TrayPlace{N: units + 1, Serial: "DN-20999", State: tray.Failed, Says: core.Said{Text: "Partly written. Ørsta – Ähren."}})
	t.Open = []int{units + 1}
	return t
}

// drawn renders a page of a PDF as a printer would, and gives the text of all.
func drawn(t *testing.T, pdf []byte, page, dpi int) (*gozxing.BinaryBitmap, string) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "x.pdf")
	if err := os.WriteFile(file, pdf, 0o600); err != nil {
		t.Fatal(err)
	}
	text, err := exec.Command("pdftotext", "-layout", file, "-").Output()
	if err != nil {
		t.Fatalf("pdftotext: %v (scripts/need test installs it)", err)
	}
	n := fmt.Sprint(page)
	if out, err := exec.Command("pdftoppm", "-r", fmt.Sprint(dpi), "-png", "-f", n, "-l", n, "-singlefile", file, filepath.Join(dir, "page")).CombinedOutput(); err != nil {
		t.Fatalf("pdftoppm: %v %s", err, out)
	}
	f, err := os.Open(filepath.Join(dir, "page.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	im, err := png.Decode(f)
	if err != nil {
		t.Fatal(err)
	}
	bitmap, err := gozxing.NewBinaryBitmapFromImage(im)
	if err != nil {
		t.Fatal(err)
	}
	return bitmap, string(text)
}

// TestALabelIsRead: what a printer of 300 dpi would put on a label is read again by a reader
// of its own.
func TestALabelIsRead(t *testing.T) {
	pdf, err := Labels(aTray(3), OnRoll, made)
	if err != nil {
		t.Fatal(err)
	}
	bitmap, text := drawn(t, pdf, 2, 300)
	for _, x := range []struct {
		reader gozxing.Reader
		want   string
	}{{oned.NewCode128Reader(), "DN-20418"}, {qrcode.NewQRCodeReader(), "DN-20418\ndunlin\n1215\n2026-11-29"}} {
		if got, err := x.reader.Decode(bitmap, map[gozxing.DecodeHintType]any{gozxing.DecodeHintType_TRY_HARDER: true}); err != nil || got.GetText() != x.want {
			t.Errorf("%T reads %v %v, expected %q", x.reader, got, err, x.want)
		}
	}
	if strings.Count(text, "\f") != 3 || strings.Contains(text, "DN-20999") {
		t.Errorf("three units run it, and one failed:\n%s", text)
	}
}

func TestLabelsOnSheets(t *testing.T) {
	pdf, err := Labels(aTray(25), OnSheet, made)
	if err != nil {
		t.Fatal(err)
	}
	if _, text := drawn(t, pdf, 1, 40); strings.Count(text, "\f") != 2 || !strings.Contains(text, "DN-20441") {
		t.Errorf("25 labels are on two sheets of 24:\n%s", text)
	}
	if _, err := Labels(aTray(0), OnSheet, made); core.KindOf(err) != core.NotFound {
		t.Errorf("nothing to label: %v", err)
	}
}

func TestTheSheetOfATray(t *testing.T) {
	pdf, err := Tray(aTray(40), made)
	if err != nil {
		t.Fatal(err)
	}
	_, text := drawn(t, pdf, 1, 40)
	for _, want := range []string{"recall of May", "DN-20456", "Ørsta – Ähren", "Not done: who answers for them", "40 done and proven", "Ída Sæther – shed 1"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not on the sheet:\n%s", want, text)
		}
	}
}
