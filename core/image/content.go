package image

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"

	"zealousferry/core"
)

type contentHash struct{ h hash.Hash }

func newContentHash() contentHash { return contentHash{sha256.New()} }

func (c contentHash) add(s Segment) {
	var head [16]byte
	binary.BigEndian.PutUint64(head[:8], s.Address)
	binary.BigEndian.PutUint64(head[8:], uint64(len(s.Data)))
	c.h.Write(head[:])
	c.h.Write(s.Data)
}

func (c contentHash) sum() (d core.Digest) {
	c.h.Sum(d[:0])
	return d
}
