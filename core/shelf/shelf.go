// Package shelf cuts memory into chunks and puts it together again.
//
// Chunks are 4 KiB on an absolute address grid, whatever the sheet says of
// sectors, and are named by their SHA-256. The chunk names of each 64 KiB make a
// page, which is kept like a chunk; a manifest names pages. So a backup that
// differs from another in one place adds a chunk, a page and a short manifest.
package shelf

import (
	"sort"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
	"zealousferry/core/memory"
)

// Sizes of the grid, in bytes.
const (
	ChunkSize = 4 << 10
	PageSize  = 64 << 10
)

// MaxBytes bounds what one manifest may cover.
const MaxBytes = 1 << 30

// Piece is a chunk or a page on its way to or from a store.
type Piece struct {
	Name core.Digest
	Data []byte
}

// Range is one stretch of memory, by the pages of the grid it touches.
type Range struct {
	Address uint64        `cbor:"a" json:"address"`
	Length  uint64        `cbor:"l" json:"length"`
	Pages   []core.Digest `cbor:"p" json:"pages"`
}

// Manifest names the content of several ranges, sorted by address.
type Manifest struct {
	Ranges []Range `cbor:"r" json:"ranges"`
}

var deterministic = func() cbor.EncMode {
	m, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	return m
}()

// Encode writes the manifest in deterministic CBOR (RFC 8949, section 4.2.1).
func (m *Manifest) Encode() []byte {
	b, err := deterministic.Marshal(m)
	if err != nil {
		panic(err) // there is nothing in it that cannot be encoded
	}
	return b
}

// Name is the digest of the encoded manifest.
func (m *Manifest) Name() core.Digest { return core.DigestOf(m.Encode()) }

// Bytes counts what the manifest covers.
func (m *Manifest) Bytes() (n uint64) {
	for _, r := range m.Ranges {
		n += r.Length
	}
	return n
}

// DecodeManifest reads and checks what Encode wrote.
func DecodeManifest(b []byte) (*Manifest, error) {
	var m Manifest
	if err := cbor.Unmarshal(b, &m); err != nil {
		return nil, core.Fail(core.BadFile, "a backup's manifest cannot be read: %w", err)
	}
	end := uint64(0)
	for i, r := range m.Ranges {
		if r.Length == 0 || r.Length > MaxBytes || r.Address+r.Length < r.Address || i > 0 && r.Address < end {
			return nil, core.Fail(core.BadFile, "a backup's manifest has an impossible range at 0x%X", r.Address)
		}
		if want := len(grid(r.Address, r.Length, PageSize)); want != len(r.Pages) {
			return nil, core.Fail(core.BadFile, "a backup's manifest names %d pages for %d bytes at 0x%X, expected %d", len(r.Pages), r.Length, r.Address, want)
		}
		end = r.Address + r.Length
	}
	if m.Bytes() > MaxBytes {
		return nil, core.Fail(core.BadFile, "a backup's manifest covers %d bytes, more than %d", m.Bytes(), MaxBytes)
	}
	return &m, nil
}

type span struct{ address, length uint64 }

// grid cuts a range at the multiples of size.
func grid(address, length, size uint64) []span {
	var all []span
	for end := address + length; address < end; {
		n := min(size-address%size, end-address)
		all = append(all, span{address, n})
		address += n
	}
	return all
}

// Grid cuts a stretch of memory into its chunks.
func Grid(address, length uint64) []memory.Sector {
	var all []memory.Sector
	for _, s := range grid(address, length, ChunkSize) {
		all = append(all, memory.Sector{Address: s.address, Length: s.length})
	}
	return all
}

// Names returns the chunk names of a stretch of memory, whose address must lie
// on the chunk grid unless it is the start of its range.
func Names(address uint64, data []byte) []core.Digest {
	var names []core.Digest
	for _, s := range grid(address, uint64(len(data)), ChunkSize) {
		names = append(names, core.DigestOf(data[s.address-address:][:s.length]))
	}
	return names
}

// Cut returns the chunks of a stretch of memory.
func Cut(address uint64, data []byte) []Piece {
	var all []Piece
	for _, s := range grid(address, uint64(len(data)), ChunkSize) {
		part := data[s.address-address:][:s.length]
		all = append(all, Piece{core.DigestOf(part), part})
	}
	return all
}

// Stretch is a piece of memory known by its chunk names.
type Stretch struct {
	Address uint64
	Length  uint64
	Chunks  []core.Digest
}

// Bind makes a manifest of stretches, which are joined where they touch on the
// grid, and the pages that it names.
func Bind(stretches []Stretch) (*Manifest, []Piece, error) {
	sort.Slice(stretches, func(i, j int) bool { return stretches[i].Address < stretches[j].Address })
	var joined []Stretch
	for _, s := range stretches {
		if want := len(grid(s.Address, s.Length, ChunkSize)); want != len(s.Chunks) {
			return nil, nil, core.Fail(core.BadFile, "%d bytes at 0x%X have %d chunks, %d were named", s.Length, s.Address, want, len(s.Chunks))
		}
		if n := len(joined); n > 0 && joined[n-1].Address+joined[n-1].Length == s.Address && s.Address%ChunkSize == 0 {
			joined[n-1].Length += s.Length
			joined[n-1].Chunks = append(joined[n-1].Chunks, s.Chunks...)
			continue
		}
		s.Chunks = append([]core.Digest(nil), s.Chunks...)
		joined = append(joined, s)
	}
	m := &Manifest{}
	var pages []Piece
	for _, s := range joined {
		r := Range{Address: s.Address, Length: s.Length}
		chunks := s.Chunks
		for _, p := range grid(s.Address, s.Length, PageSize) {
			n := len(grid(p.address, p.length, ChunkSize))
			var body []byte
			for _, name := range chunks[:n] {
				body = append(body, name[:]...)
			}
			chunks = chunks[n:]
			name := core.DigestOf(body)
			r.Pages = append(r.Pages, name)
			pages = append(pages, Piece{name, body})
		}
		m.Ranges = append(m.Ranges, r)
	}
	return m, pages, nil
}

// Get fetches pieces by their names, in the same order; one that is not there is an error.
// Whoever reads names all that it wants at once, so that a store far away is asked once.
type Get func(names []core.Digest) ([][]byte, error)

// Each fetches pieces one by one.
func Each(one func(core.Digest) ([]byte, error)) Get {
	return func(names []core.Digest) ([][]byte, error) {
		all := make([][]byte, 0, len(names))
		for _, n := range names {
			b, err := one(n)
			if err != nil {
				return nil, err
			}
			all = append(all, b)
		}
		return all, nil
	}
}

// One fetches a single piece.
func (get Get) One(name core.Digest) ([]byte, error) {
	all, err := get([]core.Digest{name})
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Through fetches what is not kept yet, and keeps it.
func (get Get) Through(kept map[core.Digest][]byte) Get {
	return func(names []core.Digest) ([][]byte, error) {
		var lacks []core.Digest
		for _, n := range names {
			if _, ok := kept[n]; !ok {
				lacks = append(lacks, n)
			}
		}
		if len(lacks) > 0 {
			fetched, err := get(lacks)
			if err != nil {
				return nil, err
			}
			for i, n := range lacks {
				kept[n] = fetched[i]
			}
		}
		all := make([][]byte, 0, len(names))
		for _, n := range names {
			all = append(all, kept[n])
		}
		return all, nil
	}
}

// most is how many pieces are fetched at once: a megabyte of chunks.
const most = 256

// Chunks lists every chunk that the manifest names, with its place.
func (m *Manifest) Chunks(get Get) ([]Stretch, error) {
	var all []Stretch
	for _, r := range m.Ranges {
		pages, err := get.checked(r.Pages)
		if err != nil {
			return nil, err
		}
		for i, p := range grid(r.Address, r.Length, PageSize) {
			body := pages[i]
			spans := grid(p.address, p.length, ChunkSize)
			if len(body) != len(spans)*32 {
				return nil, core.Fail(core.BadFile, "page %s names %d chunks, expected %d", r.Pages[i].Short(), len(body)/32, len(spans))
			}
			for j, s := range spans {
				all = append(all, Stretch{s.address, s.length, []core.Digest{core.Digest(body[j*32 : j*32+32])}})
			}
		}
	}
	return all, nil
}

// Read fills p with the content at the address; bytes that the manifest does not
// cover are an error of kind no-way-back.
func (m *Manifest) Read(get Get, address uint64, p []byte) error {
	end := address + uint64(len(p))
	var spans, pages []span // the chunks that are wanted, and the pages that name them
	var chunks, names []core.Digest
	for _, r := range m.Ranges {
		for i, page := range grid(r.Address, r.Length, PageSize) {
			if page.address < end && page.address+page.length > address {
				pages, names = append(pages, page), append(names, r.Pages[i])
			}
		}
	}
	bodies, err := get.checked(names)
	if err != nil {
		return err
	}
	for i, page := range pages {
		for j, s := range grid(page.address, page.length, ChunkSize) {
			if s.address >= end || s.address+s.length <= address {
				continue
			}
			if len(bodies[i]) < j*32+32 {
				return core.Fail(core.BadFile, "page %s is too short", names[i].Short())
			}
			spans, chunks = append(spans, s), append(chunks, core.Digest(bodies[i][j*32:j*32+32]))
		}
	}
	covered := uint64(0)
	for len(chunks) > 0 {
		n := min(len(chunks), most)
		all, err := get.checked(chunks[:n])
		if err != nil {
			return err
		}
		for i, data := range all {
			s := spans[i]
			if uint64(len(data)) != s.length {
				return core.Fail(core.BadFile, "a chunk at 0x%X has %d bytes, expected %d", s.address, len(data), s.length)
			}
			from, to := max(s.address, address), min(s.address+s.length, end)
			covered += uint64(copy(p[from-address:to-address], data[from-s.address:]))
		}
		spans, chunks = spans[n:], chunks[n:]
	}
	if covered != uint64(len(p)) {
		return core.Fail(core.NoWayBack, "the backup covers %d of %d bytes at 0x%X", covered, len(p), address)
	}
	return nil
}

// one fetches a piece and holds it against its name.
func (get Get) one(name core.Digest) ([]byte, error) {
	all, err := get.checked([]core.Digest{name})
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// checked fetches pieces and holds each against its name.
func (get Get) checked(names []core.Digest) ([][]byte, error) {
	if len(names) == 0 {
		return nil, nil
	}
	all, err := get(names)
	if err != nil {
		return nil, err
	}
	for i, data := range all {
		if core.DigestOf(data) != names[i] {
			return nil, core.Fail(core.BadFile, "the shelf holds other bytes under the name %s", names[i].Short())
		}
	}
	return all, nil
}
