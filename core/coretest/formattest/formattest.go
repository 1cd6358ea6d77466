// Package formattest is what every file format must pass, as testing/fstest is
// for file systems.
package formattest

import (
	"bytes"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/image"
)

// Fuzz gives a format anything: no crash; every error has kind bad-file and a
// place; what was read can be written and read again.
func Fuzz(f *testing.F, format image.Format, seeds ...[]byte) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		im, err := format.Decode(bytes.NewReader(data), image.Options{Size: int64(len(data))})
		if err != nil {
			if core.KindOf(err) != core.BadFile || core.AsError(err, "").At == nil {
				t.Fatalf("an error without a kind or a place: %v", err)
			}
			return
		}
		var out bytes.Buffer
		if err := format.Encode(&out, im, image.Options{}); err != nil {
			if core.KindOf(err) != core.BadFile {
				t.Fatal(err)
			}
			return
		}
		from, _ := im.Extent()
		again, err := format.Decode(bytes.NewReader(out.Bytes()), image.Options{At: from, Size: int64(out.Len())})
		if err != nil || format.Carries(image.CarriesGaps) && again.Content() != im.Content() {
			t.Fatalf("what was read cannot be written and read again: %v", err)
		}
	})
}

// Refuses checks that each file, which stands first, is refused with the words that
// stand second, and with a place.
func Refuses(t *testing.T, format image.Format, files map[string][2]string) {
	t.Helper()
	for name, x := range files {
		_, err := format.Decode(strings.NewReader(x[0]), image.Options{Size: int64(len(x[0]))})
		if err == nil || !strings.Contains(err.Error(), x[1]) || core.KindOf(err) != core.BadFile || core.AsError(err, "").At == nil {
			t.Errorf("%s: got %v, want %q", name, err, x[1])
		}
	}
}
