package shelf

import (
	"path"
	"sort"
	"strings"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
)

// Bounds of a tree of files.
const (
	MaxFiles    = 4096
	MaxPath     = 200
	MaxTreeFile = 256 << 20 // bytes of one file
)

// File is one file of a tree, by content.
type File struct {
	Path     string      `cbor:"p" json:"path"` // with slashes, from the tree's root
	Length   uint64      `cbor:"l" json:"length"`
	Digest   core.Digest `cbor:"d" json:"digest"`   // SHA-256 of its bytes
	Manifest core.Digest `cbor:"m" json:"manifest"` // of its chunks; zero for an empty file
}

// Tree names the content of a file tree, sorted by path. It is kept like a chunk.
type Tree struct {
	Files []File `cbor:"f" json:"files"`
}

// Encode writes the tree in deterministic CBOR (RFC 8949, section 4.2.1).
func (t *Tree) Encode() []byte {
	b, err := deterministic.Marshal(t)
	if err != nil {
		panic(err) // there is nothing in it that cannot be encoded
	}
	return b
}

// Bytes counts what all files hold.
func (t *Tree) Bytes() (n uint64) {
	for _, f := range t.Files {
		n += f.Length
	}
	return n
}

// Find looks a file up by its path.
func (t *Tree) Find(name string) (File, bool) {
	i := sort.Search(len(t.Files), func(i int) bool { return t.Files[i].Path >= name })
	if i < len(t.Files) && t.Files[i].Path == name {
		return t.Files[i], true
	}
	return File{}, false
}

// CheckPath refuses what is no plain path within a tree: absolute ones, dots, control
// characters.
func CheckPath(p string) error {
	bad := p == "" || len(p) > MaxPath || path.Clean("/"+p) != "/"+p || strings.ContainsAny(p, "\\:")
	for _, c := range p {
		bad = bad || c < ' ' || c == 0x7F
	}
	if bad {
		return core.Fail(core.BadFile, "%q is not a path within the tree; expected names of at most %d bytes in all, parted by slashes, without dots of their own", p, MaxPath)
	}
	return nil
}

// DecodeTree reads and checks what Encode wrote.
func DecodeTree(b []byte) (*Tree, error) {
	var t Tree
	if err := cbor.Unmarshal(b, &t); err != nil {
		return nil, core.Fail(core.BadFile, "a backup's list of files cannot be read: %w", err)
	}
	if len(t.Files) > MaxFiles {
		return nil, core.Fail(core.BadFile, "a tree has at most %d files, this has %d", MaxFiles, len(t.Files))
	}
	for i, f := range t.Files {
		if err := CheckPath(f.Path); err != nil {
			return nil, err
		}
		if i > 0 && t.Files[i-1].Path >= f.Path {
			return nil, core.Fail(core.BadFile, "file %q is out of order in a backup's list", f.Path)
		}
		if f.Length > MaxTreeFile {
			return nil, core.Fail(core.BadFile, "file %q has %d bytes; at most %d are kept", f.Path, f.Length, MaxTreeFile)
		}
	}
	return &t, nil
}

// KeepFile cuts a file into pieces and gives its entry in a tree.
func KeepFile(name string, data []byte) (File, []Piece, error) {
	f := File{Path: name, Length: uint64(len(data)), Digest: core.DigestOf(data)}
	if len(data) == 0 {
		return f, nil, nil
	}
	m, pages, err := Bind([]Stretch{{Length: uint64(len(data)), Chunks: Names(0, data)}})
	if err != nil {
		return f, nil, err
	}
	raw := m.Encode()
	f.Manifest = core.DigestOf(raw)
	return f, append(append(Cut(0, data), pages...), Piece{f.Manifest, raw}), nil
}

// ReadFile puts a file together again.
func ReadFile(get Get, f File) ([]byte, error) {
	data := make([]byte, f.Length)
	if f.Length > 0 {
		raw, err := get.one(f.Manifest)
		if err != nil {
			return nil, err
		}
		m, err := DecodeManifest(raw)
		if err != nil {
			return nil, err
		}
		if err := m.Read(get, 0, data); err != nil {
			return nil, err
		}
	}
	if core.DigestOf(data) != f.Digest {
		return nil, core.Fail(core.BadFile, "the shelf holds other bytes of file %s than its backup names", f.Path)
	}
	return data, nil
}

// PiecesOf names every piece that a file wants.
func PiecesOf(get Get, f File) ([]core.Digest, error) {
	if f.Length == 0 {
		return nil, nil
	}
	raw, err := get.one(f.Manifest)
	if err != nil {
		return nil, err
	}
	m, err := DecodeManifest(raw)
	if err != nil {
		return nil, err
	}
	names, err := m.Pieces(get)
	return append(names, f.Manifest), err
}

// Pieces names every page and chunk of a manifest.
func (m *Manifest) Pieces(get Get) ([]core.Digest, error) {
	var names []core.Digest
	for _, r := range m.Ranges {
		names = append(names, r.Pages...)
	}
	stretches, err := m.Chunks(get)
	for _, s := range stretches {
		names = append(names, s.Chunks...)
	}
	return names, err
}
