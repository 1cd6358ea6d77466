package runs

import (
	"archive/zip"
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/internal/service/frame"
)

// mostBundled bounds the files of a bundle.
const mostBundled = 256 << 20

// bundle is a zip of files for people, with a page that says what is what.
type bundle struct {
	out   bytes.Buffer
	zip   *zip.Writer
	at    time.Time
	text  strings.Builder
	there map[string]bool
	bytes int
	less  core.Step // what to do where it is too much
	err   error
}

func newBundle(at time.Time, less core.Step) *bundle {
	b := &bundle{at: at.UTC(), there: map[string]bool{}, less: less}
	b.zip = zip.NewWriter(&b.out)
	return b
}

// line adds to the page.
func (b *bundle) line(says string, with ...any) { fmt.Fprintf(&b.text, says+"\r\n", with...) }

// put adds a file, once.
func (b *bundle) put(name string, data []byte) {
	if b.err != nil || b.there[name] {
		return
	}
	if b.bytes += len(data); b.bytes > mostBundled {
		b.err = core.Fail(core.NoSpace, "the files have more than %d MiB", mostBundled>>20).Go(b.less)
		return
	}
	b.there[name] = true
	w, err := b.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: b.at})
	if err == nil {
		_, err = w.Write(data)
	}
	b.err = err
}

// close writes the page, and gives the zip.
func (b *bundle) close() (*frame.File, error) {
	b.put("READ FIRST.txt", []byte(b.text.String()))
	if b.err == nil {
		b.err = b.zip.Close()
	}
	return &frame.File{ContentType: "application/zip", Body: b.out.Bytes()}, b.err
}

var notPlain = regexp.MustCompile(`[^A-Za-z0-9._ -]+`)

// plainName is a name that every file system takes.
func plainName(s string) string {
	return strings.Trim(notPlain.ReplaceAllString(s, "_"), ". ")
}
