// Package formattest is what every file format must pass, as testing/fstest is
// for file systems.
package formattest

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
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

// ReadsTogether holds an image whose records are read many together against the same
// read one by one: files that come back to where they were, with other bytes or with
// the same. A file that is written has last lines behind its data, end is the least of
// them.
func ReadsTogether(t *testing.T, f image.Format, last int, end string, form image.Form, read func(io.Reader, image.Options, image.Form) (*image.Image, error)) {
	t.Helper()
	alone := form
	alone.Data = func(*image.Record) (uint64, []byte, bool) { return 0, nil, false }
	r := rand.New(rand.NewPCG(31, 1))
	failed, warned := 0, 0
	for range 400 {
		var text []byte
		for range 1 + r.IntN(4) {
			data := make([]byte, 1+r.IntN(600))
			for i := range data {
				data[i] = byte(r.IntN(1 + r.IntN(2)))
			}
			var one bytes.Buffer
			f.Encode(&one, &image.Image{Segments: []image.Segment{{Address: uint64(0xFE00 + r.IntN(0x400)), Data: data}}}, image.Options{})
			lines := bytes.SplitAfter(one.Bytes(), []byte("\n"))
			text = append(text, bytes.Join(lines[:len(lines)-1-last], nil)...)
			if r.IntN(4) == 0 {
				text = append(text, '\n')
			}
		}
		text = append(text, end...)
		o := image.Options{Size: int64(len(text)), Counts: []image.Counts{"", image.First, image.Last}[r.IntN(3)]}
		together, err := read(bytes.NewReader(text), o, form)
		want, wrong := read(bytes.NewReader(text), o, alone)
		if fmt.Sprint(err) != fmt.Sprint(wrong) || !reflect.DeepEqual(together, want) {
			t.Fatalf("read together: %v, %v\none by one: %v, %v\n%s", together, err, want, wrong, text)
		}
		if err != nil {
			failed++
		} else if len(want.Warnings) > 0 {
			warned++
		}
	}
	if failed < 20 || warned < 20 {
		t.Errorf("%d files were refused and %d had warnings: this says little", failed, warned)
	}
}
