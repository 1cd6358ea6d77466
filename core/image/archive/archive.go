// Package archive unfolds zip and gzip files that carry a firmware file, within
// bounds: nothing is unfolded further than MaxFile, and no archive in an archive.
package archive

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"io"
	"path"
	"strings"

	"zealousferry/core"
)

// Bounds.
const (
	MaxFile      = 1 << 30 // bytes of one unfolded file
	MaxDirectory = 1 << 20 // bytes of a zip's directory, some 10 000 names
)

// Kind tells by the first bytes whether a file is an archive: zip, gzip or "".
func Kind(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return "zip"
	case bytes.HasPrefix(head, []byte{0x1F, 0x8B, 8}):
		return "gzip"
	}
	return ""
}

// Member is a file in an archive.
type Member struct {
	Name string
	Size int64 // unfolded, as the archive says; -1 where it does not
	open func() (io.ReadCloser, error)
}

// Open unfolds the member. Reading more than the archive promised, or than
// MaxFile, is an error of kind bad-file.
func (m Member) Open() (io.Reader, error) {
	r, err := m.open()
	if err != nil {
		return nil, broken(err)
	}
	limit := int64(MaxFile)
	if m.Size >= 0 {
		limit = min(limit, m.Size)
	}
	return &bounded{r: r, name: m.Name, left: limit, limit: limit}, nil
}

type bounded struct {
	r           io.Reader
	name        string
	left, limit int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left == 0 {
		var one [1]byte
		for {
			n, err := b.r.Read(one[:])
			if n > 0 {
				return 0, core.Fail(core.BadFile, "%s unfolds to more than the %d bytes that it may have", b.name, b.limit)
			}
			if err == io.EOF {
				return 0, io.EOF
			}
			if err != nil {
				return 0, broken(err)
			}
		}
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	if err != nil && err != io.EOF {
		err = broken(err)
	}
	return n, err
}

func broken(err error) error {
	if errors.Is(err, zip.ErrChecksum) || errors.Is(err, gzip.ErrChecksum) {
		return core.Fail(core.BadFile, "the archive's own checksum does not agree with its content").Do("Fetch the file again from where it came; nothing of it was used.")
	}
	if core.KindOf(err) != "" {
		return err
	}
	return core.Fail(core.BadFile, "the archive is damaged or cut off: %w", err).Do("Fetch the file again from where it came; nothing of it was used.")
}

// Members lists the files of an archive of the kind.
func Members(kind string, r io.ReaderAt, size int64, name string) ([]Member, error) {
	if kind == "gzip" {
		inner := strings.TrimSuffix(path.Base(name), ".gz")
		return []Member{{Name: inner, Size: -1, open: func() (io.ReadCloser, error) { return gzip.NewReader(io.NewSectionReader(r, 0, size)) }}}, nil
	}
	if err := checkDirectory(r, size); err != nil {
		return nil, err
	}
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, broken(err)
	}
	var all []Member
	total := uint64(0)
	for _, f := range z.File {
		if f.FileInfo().IsDir() {
			continue
		}
		if total += f.UncompressedSize64; f.UncompressedSize64 > MaxFile || total > 4*MaxFile {
			return nil, core.Fail(core.BadFile, "the zip would unfold to more than %d MiB (%s says %d bytes); at most %d MiB a file are unfolded", total>>20, f.Name, f.UncompressedSize64, int64(MaxFile)>>20)
		}
		if f.Flags&1 != 0 {
			return nil, core.Fail(core.BadFile, "%s in the zip is locked with a password", f.Name).Do("Unpack it yourself and give the file.")
		}
		all = append(all, Member{f.Name, int64(f.UncompressedSize64), f.Open})
	}
	if len(all) == 0 {
		return nil, core.Fail(core.BadFile, "the zip holds no file")
	}
	return all, nil
}

// checkDirectory bounds the directory before it is read: it must end where its
// end record begins (APPNOTE.TXT 4.3.16) and be of reasonable length.
func checkDirectory(r io.ReaderAt, size int64) error {
	tail := make([]byte, min(size, 22+1<<16))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return broken(err)
	}
	for i := len(tail) - 22; i >= 0; i-- {
		if !bytes.HasPrefix(tail[i:], []byte("PK\x05\x06")) || i+22+int(binary.LittleEndian.Uint16(tail[i+20:])) > len(tail) {
			continue
		}
		length, offset := binary.LittleEndian.Uint32(tail[i+12:]), binary.LittleEndian.Uint32(tail[i+16:])
		end := size - int64(len(tail)) + int64(i)
		switch {
		case length > MaxDirectory:
			return core.Fail(core.BadFile, "the zip's directory has %d bytes; at most %d are read", length, MaxDirectory)
		case int64(offset)+int64(length) != end:
			return core.BadAt(core.Offset(end), "the zip's directory should end here, its end record says at %d", int64(offset)+int64(length))
		}
		return nil
	}
	return core.BadAt(core.Offset(size), "the zip has no end record; it is cut off").Do("Fetch the file again from where it came; nothing of it was used.")
}
