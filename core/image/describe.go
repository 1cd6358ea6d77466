package image

import (
	"bytes"
	"encoding/hex"
	"io"
	"regexp"
	"slices"
	"strings"

	"zealousferry/core"
)

// Report says what an image holds. Addresses and lengths are in bytes.
type Report struct {
	Payload  uint64      `json:"payload"` // bytes of all segments
	Content  core.Digest `json:"content"` // of addresses and bytes, whatever the format
	Segments []Piece     `json:"segments" nullable:"false"`
	Gaps     []Stretch   `json:"gaps" nullable:"false"`
	Start    *uint64     `json:"start"`
	Notes    []Note      `json:"notes" nullable:"false"`
	Versions []Text      `json:"versions" nullable:"false"` // what reads like a version
	Warnings []core.Said `json:"warnings" nullable:"false"`
}

// Piece is a segment by its digest.
type Piece struct {
	Address uint64      `json:"address"`
	Length  uint64      `json:"length"`
	SHA256  core.Digest `json:"sha256"`
}

// Stretch is a range of addresses.
type Stretch struct {
	Address uint64 `json:"address"`
	Length  uint64 `json:"length"`
}

// Text is words found in an image.
type Text struct {
	Address uint64 `json:"address"`
	Text    string `json:"text"`
}

// Describe makes the report of an image.
func Describe(im *Image) Report {
	r := Report{Payload: im.Bytes(), Content: im.Content(), Start: im.Start, Segments: []Piece{}, Gaps: []Stretch{}, Versions: []Text{},
		Notes: append([]Note{}, im.Notes...), Warnings: append([]core.Said{}, im.Warnings...)}
	for i, s := range im.Segments {
		r.Segments = append(r.Segments, Piece{s.Address, uint64(len(s.Data)), core.DigestOf(s.Data)})
		if i > 0 {
			before := im.Segments[i-1].End()
			r.Gaps = append(r.Gaps, Stretch{before, s.Address - before})
		}
		r.Versions = append(r.Versions, versions(s, 20-len(r.Versions))...)
	}
	if b, blank := blank(im); blank {
		r.Warnings = append(r.Warnings, core.Say("every byte is 0x%02X: this is empty memory, not a program", b))
	}
	if im.Start != nil && !im.covers(*im.Start) {
		r.Warnings = append(r.Warnings, core.Say("the entry point 0x%X lies outside of what the file holds", *im.Start))
	}
	return r
}

func (im *Image) covers(address uint64) bool {
	return slices.ContainsFunc(im.Segments, func(s Segment) bool { return s.Address <= address&^1 && address < s.End() })
}

func blank(im *Image) (byte, bool) {
	first := im.Segments[0].Data[0]
	if first != 0 && first != 0xFF {
		return 0, false
	}
	same := bytes.Repeat([]byte{first}, 4096)
	for _, s := range im.Segments {
		for d := s.Data; len(d) > 0; d = d[min(len(d), len(same)):] {
			if n := min(len(d), len(same)); !bytes.Equal(d[:n], same[:n]) {
				return 0, false
			}
		}
	}
	return first, true
}

var versionLike = regexp.MustCompile(`(?i)(?:^|[^0-9.])(v?[0-9]{1,4}\.[0-9]{1,4}(?:\.[0-9]{1,6})?(?:[-+][0-9A-Za-z.-]{1,20})?|20[0-9]{2}-[01][0-9]-[0-3][0-9])(?:[^0-9.]|$)`)

// versions finds printable texts of at most 80 characters that hold something
// like a version.
func versions(s Segment, most int) (all []Text) {
	seen := map[string]bool{}
	for i := 0; i < len(s.Data) && len(all) < most; {
		if s.Data[i] < 0x20 || s.Data[i] > 0x7E {
			i++
			continue
		}
		j := i
		for j < len(s.Data) && s.Data[j] >= 0x20 && s.Data[j] <= 0x7E {
			j++
		}
		if word := s.Data[i:j]; len(word) >= 5 {
			if m := versionLike.FindSubmatchIndex(word[:min(len(word), 4096)]); m != nil {
				from := max(0, m[2]-40)
				text := string(word[from:min(len(word), from+80)])
				if !seen[text] && meant(text, string(word[m[2]:m[3]])) {
					seen[text] = true
					all = append(all, Text{s.Address + uint64(i+from), text})
				}
			}
		}
		i = j
	}
	return all
}

// meant tells whether somebody wrote the text: a bare number in the middle of
// program code is chance, three numbers or words around it are not.
func meant(text, version string) bool {
	if text == version {
		return strings.Count(version, ".") >= 2 || len(version) >= 10
	}
	letters, longest, odd := 0, 0, 0
	for _, c := range text {
		switch {
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			letters++
			longest = max(longest, letters)
			continue
		case c >= '0' && c <= '9' || strings.ContainsRune(" .-_:/=()", c):
		default:
			odd++
		}
		letters = 0
	}
	return longest >= 4 && 8*odd <= len(text)
}

// Difference is how two images differ.
type Difference struct {
	Same    uint64  `json:"same"`    // bytes that both give alike
	Differs uint64  `json:"differs"` // bytes that both give, but not alike
	OnlyA   uint64  `json:"onlyA"`
	OnlyB   uint64  `json:"onlyB"`
	Sector  uint64  `json:"sector"` // bytes of a cell
	Cells   []Cell  `json:"cells" nullable:"false"`
	Ranges  []Range `json:"ranges" nullable:"false"` // the first 1000
	More    int     `json:"more"`                    // ranges beyond those
}

// Cell is a sector in which at least one image has bytes.
type Cell struct {
	Address uint64 `json:"address"`
	State   string `json:"state" enum:"same,differs,only-a,only-b"`
	Bytes   uint64 `json:"bytes"` // that are not the same
}

// Range is bytes side by side that differ in one way.
type Range struct {
	Address uint64 `json:"address"`
	Length  uint64 `json:"length"`
	State   string `json:"state" enum:"differs,only-a,only-b"`
	A       string `json:"a"` // the first 16 bytes in hex
	B       string `json:"b"`
}

// Ways in which a byte of two images can stand.
const (
	Same    = "same"
	Differs = "differs"
	OnlyA   = "only-a"
	OnlyB   = "only-b"
)

const (
	maxCells  = 1 << 16
	maxRanges = 1000
)

// Diff compares two images byte by byte, in cells of sector bytes. Where there
// would be more than 65 536 cells, they are made larger.
func Diff(a, b *Image, sector uint64) Difference {
	d := Difference{Cells: []Cell{}, Ranges: []Range{}}
	edges := edges(a, b)
	covered := uint64(0)
	for i := 1; i < len(edges); i++ {
		covered += edges[i] - edges[i-1]
	}
	sector = max(sector, 1)
	for (a.Bytes()+b.Bytes())/sector+uint64(len(edges)) > maxCells {
		sector *= 2
	}
	d.Sector = sector
	for i := 1; i < len(edges); i++ {
		from, to := edges[i-1], edges[i]
		x, y := a.slice(from, to), b.slice(from, to)
		switch {
		case x == nil && y == nil:
		case y == nil:
			d.add(from, to, OnlyA, x, nil)
		case x == nil:
			d.add(from, to, OnlyB, nil, y)
		default:
			for k := 0; k < len(x); {
				n, same := k, x[k] == y[k]
				for n < len(x) && (x[n] == y[n]) == same {
					if same && n+64 <= len(x) && bytes.Equal(x[n:n+64], y[n:n+64]) {
						n += 64
						continue
					}
					n++
				}
				state := Differs
				if same {
					state = Same
				}
				d.add(from+uint64(k), from+uint64(n), state, x[k:n], y[k:n])
				k = n
			}
		}
	}
	return d
}

// edges are the addresses at which either image begins or ends a segment.
func edges(images ...*Image) (all []uint64) {
	for _, im := range images {
		for _, s := range im.Segments {
			all = append(all, s.Address, s.End())
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// slice gives the bytes of [from, to), which no edge divides; nil where there are none.
func (im *Image) slice(from, to uint64) []byte {
	i, found := slices.BinarySearchFunc(im.Segments, from, func(s Segment, at uint64) int {
		switch {
		case s.End() <= at:
			return -1
		case s.Address > at:
			return 1
		}
		return 0
	})
	if !found {
		return nil
	}
	s := im.Segments[i]
	return s.Data[from-s.Address : to-s.Address]
}

func (d *Difference) add(from, to uint64, state string, x, y []byte) {
	n := to - from
	switch state {
	case Same:
		d.Same += n
	case Differs:
		d.Differs += n
	case OnlyA:
		d.OnlyA += n
	case OnlyB:
		d.OnlyB += n
	}
	if state != Same {
		if len(d.Ranges) < maxRanges {
			d.Ranges = append(d.Ranges, Range{from, n, state, hex.EncodeToString(x[:min(len(x), 16)]), hex.EncodeToString(y[:min(len(y), 16)])})
		} else {
			d.More++
		}
	}
	for at := from / d.Sector * d.Sector; at < to; at += d.Sector {
		here := min(to, at+d.Sector) - max(from, at)
		k := len(d.Cells) - 1
		if k < 0 || d.Cells[k].Address != at {
			d.Cells = append(d.Cells, Cell{Address: at, State: state})
			k++
		} else if d.Cells[k].State != state {
			d.Cells[k].State = Differs
		}
		if state != Same {
			d.Cells[k].Bytes += here
		}
	}
}

// Lost says what a file of the format cannot carry of an image; an
// empty list means that nothing is lost.
func Lost(im *Image, f Format, o Options) (all []core.Said) {
	from, _ := im.Extent()
	if from != 0 && !f.Carries(CarriesAddress) {
		all = append(all, core.Say("the address: %s does not say that its first byte belongs at 0x%X", f.Title(), from))
	}
	if n := len(im.Segments); n > 1 && !f.Carries(CarriesGaps) {
		gaps := uint64(0)
		for i := 1; i < n; i++ {
			gaps += im.Segments[i].Address - im.Segments[i-1].End()
		}
		all = append(all, core.Say("the gaps: %s fills %d bytes between %d segments with 0x%02X", f.Title(), gaps, n, o.FillByte()))
	}
	if im.Start != nil && !f.Carries(CarriesStart) {
		all = append(all, core.Say("the entry point: %s has no place for 0x%X", f.Title(), *im.Start))
	}
	for _, n := range im.Notes {
		if !f.Carries(n.Name) {
			all = append(all, core.Say("the %s: %s has no place for %q", n.Name, f.Title(), n.Value))
		}
	}
	return all
}

// Convert writes the image in a format and says what it could not carry.
func Convert(w io.Writer, im *Image, f Format, o Options) (lost []core.Said, err error) {
	return Lost(im, f, o), f.Encode(w, im, o)
}
