package registry

import (
	"archive/zip"
	"bytes"
	"io"
	"maps"
	"slices"
	"sort"
	"strings"

	"zealousferry/core"
	"zealousferry/core/image/archive"
	"zealousferry/core/shelf"
)

// TreeFormat is the name of the format of a part that is a tree of files, in an
// archive.
const TreeFormat = "files"

// TreeFile is a file of a tree.
type TreeFile struct {
	Path string
	Data []byte
}

// Tree reads the files of an archive (zip, or tar with or without gzip), sorted by
// path. What does not belong into a tree is an error that names it.
func Tree(src Source) ([]TreeFile, error) {
	head := make([]byte, min(src.Size, 512))
	if _, err := src.At.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, core.BadAt(core.Offset(0), "%w", err)
	}
	kind := archive.Kind(head)
	if kind == "" {
		return nil, core.Fail(core.BadFile, "a tree of files comes as an archive (zip); this is none")
	}
	members, err := archive.Members(kind, src.At, src.Size, src.Name)
	if err != nil {
		return nil, err
	}
	if len(members) > shelf.MaxFiles {
		return nil, core.Fail(core.BadFile, "the archive has %d files; a tree has at most %d", len(members), shelf.MaxFiles)
	}
	var all []TreeFile
	left := int64(shelf.MaxTreeFile)
	for _, m := range members {
		if strings.HasSuffix(m.Name, "/") {
			continue
		}
		if err := shelf.CheckPath(m.Name); err != nil {
			return nil, err
		}
		r, err := m.Open()
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(io.LimitReader(r, left+1))
		if err != nil {
			return nil, core.AsError(err, core.BadFile)
		}
		if left -= int64(len(data)); left < 0 {
			return nil, core.Fail(core.BadFile, "the archive unfolds to more than %d MiB", shelf.MaxTreeFile>>20)
		}
		all = append(all, TreeFile{m.Name, data})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Path < all[j].Path })
	for i := 1; i < len(all); i++ {
		if all[i].Path == all[i-1].Path {
			return nil, core.Fail(core.BadFile, "the archive has file %s twice", all[i].Path)
		}
	}
	if len(all) == 0 {
		return nil, core.Fail(core.BadFile, "the archive has no files")
	}
	return all, nil
}

// TreeContent names the content of a tree: paths and bytes, whatever the archive.
func TreeContent(files []TreeFile) core.Digest {
	t := shelf.Tree{}
	for _, f := range files {
		t.Files = append(t.Files, shelf.File{Path: f.Path, Length: uint64(len(f.Data)), Digest: core.DigestOf(f.Data)})
	}
	return core.DigestOf(t.Encode())
}

// PackTree packs files into an archive that Tree reads, always the same way.
func PackTree(files map[string][]byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(files[name])
		}
		if err != nil {
			panic(err) // a buffer takes everything
		}
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}
