package gangway

import (
	"context"
	"encoding/binary"
	"unicode/utf8"

	"zealousferry/core"
	"zealousferry/core/loader"
)

// Bounds of a unit's file tree, section 6.
const (
	mostFiles = 4096
	mostPath  = 200
	entryHead = 4 + 32 + 1
)

// Files is FILES LIST, piece by piece.
func (s *session) Files(ctx context.Context) ([]loader.FileInfo, error) {
	var all []loader.FileInfo
	for {
		var piece []byte
		r := s.request(opFilesList, binary.LittleEndian.AppendUint32(nil, uint32(len(all))))
		r.answer = s.rec.ReadMax
		if err := s.exchange(ctx, once(r), func(_ *request, body []byte) error { piece = body; return nil }); err != nil {
			return nil, err
		}
		if len(piece) == 0 {
			return all, nil
		}
		for len(piece) > 0 {
			f, rest, err := entry(piece)
			if err != nil {
				return nil, err
			}
			if n := len(all); n > 0 && all[n-1].Path >= f.Path {
				return nil, core.Fail(core.RefusedByUnit, "the unit lists file %q behind %q; expected them sorted", f.Path, all[n-1].Path)
			}
			if all = append(all, f); len(all) > mostFiles {
				return nil, core.Fail(core.RefusedByUnit, "the unit lists more than %d files", mostFiles)
			}
			piece = rest
		}
	}
}

// entry reads one entry of a list.
func entry(b []byte) (f loader.FileInfo, rest []byte, err error) {
	if len(b) < entryHead || len(b) < entryHead+int(b[entryHead-1]) {
		return f, nil, core.Fail(core.RefusedByUnit, "an entry of the unit's list of files is cut off")
	}
	f.Length = uint64(binary.LittleEndian.Uint32(b))
	f.Digest = core.Digest(b[4:36])
	n := entryHead + int(b[36])
	if f.Path = string(b[entryHead:n]); f.Path == "" || !utf8.ValidString(f.Path) {
		return f, nil, core.Fail(core.RefusedByUnit, "the unit lists a file named %q", f.Path)
	}
	return f, b[n:], nil
}

// GetFile is FILE GET, as many at once as the window allows.
func (s *session) GetFile(ctx context.Context, path string, p []byte, got func(int)) error {
	if err := checkPath(path); err != nil {
		return err
	}
	asked, have := 0, 0
	next := func() (*request, error) {
		if asked == len(p) {
			return nil, nil
		}
		n := min(s.rec.ReadMax, len(p)-asked)
		body := binary.LittleEndian.AppendUint32(nil, uint32(asked))
		body = binary.LittleEndian.AppendUint32(body, uint32(n))
		r := s.request(opFileGet, append(body, path...))
		r.answer = n
		asked += n
		return r, nil
	}
	return s.exchange(ctx, next, func(r *request, body []byte) error {
		if len(body) != r.answer {
			return core.Fail(core.RefusedByUnit, "the unit was asked for %d bytes of file %s and sent %d", r.answer, path, len(body))
		}
		have += copy(p[have:], body)
		if got != nil {
			got(have)
		}
		return nil
	})
}

// PutFile is FILE PUT for each piece, then FILE KEEP, which puts the new file in
// place of the old one.
func (s *session) PutFile(ctx context.Context, path string, data []byte, sent func(int)) error {
	if err := checkPath(path); err != nil {
		return err
	}
	size := s.rec.WriteMax - len(path)
	if size < 1 {
		return core.Fail(core.RefusedByUnit, "the unit takes %d bytes at once; the path %s alone has %d", s.rec.WriteMax, path, len(path))
	}
	asked, have, begun, kept := 0, 0, false, false
	next := func() (*request, error) {
		if begun && asked == len(data) {
			if kept {
				return nil, nil
			}
			kept = true
			sum := core.DigestOf(data)
			body := binary.LittleEndian.AppendUint32(nil, uint32(len(data)))
			return s.request(opFileKeep, append(append(body, sum[:]...), path...)), nil
		}
		n := min(size, len(data)-asked)
		body := binary.LittleEndian.AppendUint32(nil, uint32(asked))
		body = append(append(append(body, byte(len(path))), path...), data[asked:asked+n]...)
		begun, asked = true, asked+n
		return s.request(opFilePut, body), nil
	}
	return s.exchange(ctx, next, func(r *request, _ []byte) error {
		if r.op == opFilePut {
			if have += len(r.body) - 5 - len(path); sent != nil {
				sent(have)
			}
		}
		return nil
	})
}

// RemoveFile is FILE REMOVE.
func (s *session) RemoveFile(ctx context.Context, path string) error {
	if err := checkPath(path); err != nil {
		return err
	}
	return s.exchange(ctx, once(s.request(opFileRemove, []byte(path))), func(*request, []byte) error { return nil })
}

func checkPath(path string) error {
	if path == "" || len(path) > mostPath {
		return core.Fail(core.BadFile, "a path has 1 to %d bytes, this has %d", mostPath, len(path))
	}
	return nil
}
