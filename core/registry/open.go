package registry

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/archive"
	"zealousferry/core/image/raw"
	"zealousferry/core/model"
)

// Source is a file that somebody gave us.
type Source struct {
	At   io.ReaderAt
	Size int64
	Name string // of the file, if it has one
}

// Bytes is a source in memory.
func Bytes(data []byte, name string) Source {
	return Source{bytes.NewReader(data), int64(len(data)), name}
}

// Choice says what a person wants of the file. Empty fields are found out.
type Choice struct {
	Format string // by its name
	Member string // which file of an archive
	image.Options
}

// Opened is what was found in a file.
type Opened struct {
	Image  *image.Image
	Format image.Format
	Packed string // zip, gzip or ""
	Member string // the file in the archive
}

// Open reads a firmware file of whatever format, also from within an archive,
// and says so when its name misleads.
func Open(src Source, c Choice) (*Opened, error) {
	head := make([]byte, min(src.Size, 512))
	if _, err := src.At.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, core.BadAt(core.Offset(0), "%w", err)
	}
	kind := archive.Kind(head)
	if kind == "" || c.Format == (raw.Format{}).Name() {
		f, warning, err := choose(head, tailOf(src), src.Name, c.Format)
		if err != nil {
			return nil, err
		}
		o := c.Options
		o.Size = src.Size
		im, err := f.Decode(io.NewSectionReader(src.At, 0, src.Size), o)
		return ended(&Opened{Format: f, Image: im}, warning, err)
	}
	members, err := archive.Members(kind, src.At, src.Size, src.Name)
	if err != nil {
		return nil, err
	}
	m, err := pick(members, c.Member)
	if err != nil {
		return nil, err
	}
	r, err := m.Open()
	if err != nil {
		return nil, err
	}
	in := bufio.NewReaderSize(r, 64<<10)
	head, err = in.Peek(512)
	if err != nil && err != io.EOF {
		return nil, core.AsError(err, core.BadFile)
	}
	if k := archive.Kind(head); k != "" {
		return nil, core.Fail(core.BadFile, "%s is an archive (%s) in an archive (%s)", m.Name, k, kind).Do("Unpack the outer one and give the inner one.")
	}
	o := c.Options
	o.Size = max(m.Size, 0)
	var tail []byte
	var whole io.Reader = in
	if f := sniff(head, nil); f == nil && c.Format == "" {
		// Its end may tell more, and how long it really is: it is unfolded once
		// without being kept, and again to be read.
		head = bytes.Clone(head)
		if o.Size, tail, err = measure(in); err != nil {
			return nil, err
		}
		if whole, err = m.Open(); err != nil {
			return nil, err
		}
	}
	f, warning, err := choose(head, tail, m.Name, c.Format)
	if err != nil {
		return nil, err
	}
	im, err := f.Decode(whole, o)
	return ended(&Opened{Format: f, Image: im, Packed: kind, Member: m.Name}, warning, err)
}

// measure reads a stream to its end and keeps its last bytes.
func measure(r io.Reader) (size int64, tail []byte, err error) {
	buf := make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		if size += int64(n); size > image.MaxPayload+64 {
			return 0, nil, core.Fail(core.BadFile, "it unfolds to more than %d MiB; a firmware file is not that large", image.MaxPayload>>20)
		}
		tail = append(tail, buf[max(0, n-64):n]...)
		tail = tail[max(0, len(tail)-64):]
		if err == io.EOF {
			return size, tail, nil
		}
		if err != nil {
			return 0, nil, core.AsError(err, core.BadFile)
		}
	}
}

func ended(o *Opened, warning core.Said, err error) (*Opened, error) {
	if err != nil {
		return nil, err
	}
	if warning.Text != "" {
		o.Image.Warnings = append(o.Image.Warnings, warning)
	}
	return o, nil
}

func tailOf(src Source) []byte {
	tail := make([]byte, min(src.Size, 64))
	src.At.ReadAt(tail, src.Size-int64(len(tail))) // what cannot be read tells nothing
	return tail
}

func sniff(head, tail []byte) image.Format {
	for _, f := range Formats {
		if f.Sniff(head, tail) {
			return f
		}
	}
	return nil
}

// choose finds the format of a file: the one that is asked for, or what its
// content says. A name that says otherwise gives a warning; a text that is none
// of the known formats is read as what its name says, so that the error names
// the line.
func choose(head, tail []byte, name, wanted string) (image.Format, core.Said, error) {
	if wanted != "" {
		f, err := FormatNamed(wanted)
		return f, core.Said{}, err
	}
	found := sniff(head, tail)
	named := byExtension(name)
	if found == nil {
		if named != nil && isText(head) && len(head) > 0 && named.Name() != "raw" {
			return named, core.Said{}, nil
		}
		found = raw.Format{}
	}
	if named != nil && named.Name() != found.Name() {
		return found, core.Say("the name ends in %s, as of %s; the content is %s", path.Ext(name), named.Title(), found.Title()), nil
	}
	return found, core.Said{}, nil
}

func byExtension(name string) image.Format {
	ext := strings.ToLower(path.Ext(name))
	for _, f := range Formats {
		for _, e := range f.Extensions() {
			if e == ext && ext != ".txt" { // any text may be called so
				return f
			}
		}
	}
	return nil
}

func isText(head []byte) bool {
	for _, c := range head {
		if c != '\n' && c != '\r' && c != '\t' && (c < ' ' || c > '~') {
			return false
		}
	}
	return true
}

// pick finds the one firmware file among the members of an archive.
func pick(members []archive.Member, wanted string) (archive.Member, error) {
	if wanted != "" {
		for _, m := range members {
			if m.Name == wanted {
				return m, nil
			}
		}
		return archive.Member{}, core.Fail(core.NotFound, "the archive has no file %q; it has %s", wanted, names(members))
	}
	if len(members) == 1 {
		return members[0], nil
	}
	var likely []archive.Member
	for _, m := range members[:min(len(members), 1000)] {
		f := byExtension(m.Name)
		if r, err := m.Open(); err == nil && f == nil {
			head := make([]byte, 512)
			n, _ := io.ReadFull(r, head)
			f = sniff(head[:n], nil)
		}
		if f != nil {
			likely = append(likely, m)
		}
	}
	if len(likely) == 1 {
		return likely[0], nil
	}
	if len(likely) == 0 {
		likely = members
	}
	return archive.Member{}, core.Fail(core.BadFile, "the archive holds %d files that may be meant: %s", len(likely), names(likely)).Do("Choose one of them, by its name.")
}

func names(members []archive.Member) string {
	var all []string
	for _, m := range members {
		if len(all) == 20 {
			all = append(all, fmt.Sprintf("and %d more", len(members)-20))
			break
		}
		all = append(all, m.Name)
	}
	return strings.Join(all, ", ")
}

// FormatNamed finds a format by its name.
func FormatNamed(name string) (image.Format, error) {
	var all []string
	for _, f := range Formats {
		if f.Name() == name {
			return f, nil
		}
		all = append(all, f.Name())
	}
	return nil, core.Fail(core.BadFile, "format %q is not known; the formats are %s", name, strings.Join(all, ", "))
}

// Decode reads a file that is no archive, as the shelf holds them, the way that a
// part of a release says. A format that is left out is found.
func Decode(data []byte, p model.Part) (*image.Image, string, error) {
	src := Bytes(data, "")
	format := p.Format
	// A part that was kept under a name which its format bears no longer is found by what
	// stands in the file, and held against what it is known to hold.
	renamed := !p.Content.IsZero() && format != "" && !slices.ContainsFunc(Formats, func(f image.Format) bool { return f.Name() == format })
	if renamed {
		format = ""
	}
	f, _, err := choose(data[:min(len(data), 512)], tailOf(src), "", format)
	if err != nil {
		return nil, "", err
	}
	im, err := f.Decode(bytes.NewReader(data), image.Options{At: p.Address, Size: src.Size, Counts: p.Counts})
	if err == nil && renamed && im.Content() != p.Content {
		return nil, "", core.Fail(core.BadFile, "part %s was kept as %s, which is no format now, and read as %s it holds something else", p.Name, p.Format, f.Title()).Do("Add the release anew.")
	}
	return im, f.Name(), err
}

// Unpack gives a file of an archive, in one piece of at most MaxPayload bytes.
func Unpack(src Source, member string) ([]byte, error) {
	head := make([]byte, min(src.Size, 16))
	src.At.ReadAt(head, 0)
	members, err := archive.Members(archive.Kind(head), src.At, src.Size, src.Name)
	if err != nil {
		return nil, err
	}
	if member == "" || len(members) == 1 {
		member = members[0].Name
	}
	m, err := pick(members, member)
	if err != nil {
		return nil, err
	}
	r, err := m.Open()
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, image.MaxPayload+1))
	if err == nil && len(data) > image.MaxPayload {
		err = core.Fail(core.BadFile, "%s unfolds to more than %d MiB", m.Name, image.MaxPayload>>20)
	}
	return data, err
}
