package bench

import (
	"bufio"
	"encoding/binary"
	"hash/crc32"
	"io"
	"os"
	"sync"

	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
	"zealousferry/core/shelf"
)

// pack is the bench's own shelf: content by SHA-256, appended to one file. A
// record is: name (32 bytes), length of the compressed body (u32), CRC-32C of
// it, body. A torn last record is cut off when the file is opened.
type pack struct {
	mu    sync.Mutex
	file  *os.File
	size  int64
	where map[core.Digest]span
	enc   *zstd.Encoder
	dec   *zstd.Decoder
}

type span struct{ at, length int64 }

const packHead = 40

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func openPack(path string) (*pack, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	p := &pack{file: f, where: map[core.Digest]span{}}
	if p.enc, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest)); err != nil {
		return nil, err
	}
	if p.dec, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(512<<20)); err != nil {
		return nil, err
	}
	r := bufio.NewReaderSize(f, 1<<20)
	var head [packHead]byte
	for {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			break
		}
		n := int64(binary.LittleEndian.Uint32(head[32:]))
		if n > 512<<20 {
			break
		}
		sum := crc32.New(castagnoli)
		if got, err := io.CopyN(sum, r, n); err != nil || got < n || sum.Sum32() != binary.LittleEndian.Uint32(head[36:]) {
			break
		}
		p.where[core.Digest(head[:32])] = span{p.size + packHead, n}
		p.size += packHead + n
	}
	return p, f.Truncate(p.size)
}

func (p *pack) has(name core.Digest) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, ok := p.where[name]
	return ok
}

func (p *pack) get(name core.Digest) ([]byte, bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	s, ok := p.where[name]
	if !ok {
		return nil, false, nil
	}
	raw := make([]byte, s.length)
	if _, err := p.file.ReadAt(raw, s.at); err != nil {
		return nil, false, err
	}
	b, err := p.dec.DecodeAll(raw, nil)
	if err != nil || core.DigestOf(b) != name {
		return nil, false, core.Fail(core.BadFile, "this bench's shelf is damaged at %s", name.Short()).Do("Stop the bench, put its file shelf.pack aside, and start it again: the service has what it needs.")
	}
	return b, true, nil
}

// put keeps pieces and flushes them.
func (p *pack) put(pieces []shelf.Piece) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	var b []byte
	fresh := map[core.Digest]span{}
	for _, x := range pieces {
		if _, ok := p.where[x.Name]; ok || fresh[x.Name].at > 0 {
			continue
		}
		body := p.enc.EncodeAll(x.Data, nil)
		fresh[x.Name] = span{p.size + int64(len(b)) + packHead, int64(len(body))}
		b = append(b, x.Name[:]...)
		b = binary.LittleEndian.AppendUint32(b, uint32(len(body)))
		b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(body, castagnoli))
		b = append(b, body...)
	}
	if len(b) == 0 {
		return nil
	}
	if _, err := p.file.WriteAt(b, p.size); err != nil {
		return core.Fail(core.NoSpace, "this bench's shelf cannot be written: %w", err).Do("Make room on the disk.")
	}
	if err := p.file.Sync(); err != nil {
		return core.Fail(core.NoSpace, "this bench's shelf cannot be flushed: %w", err).Do("Make room on the disk.")
	}
	p.size += int64(len(b))
	for name, s := range fresh {
		p.where[name] = s
	}
	return nil
}

func (p *pack) close() error { return p.file.Close() }
