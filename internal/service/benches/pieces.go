package benches

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"

	"zealousferry/core"
	"zealousferry/core/shelf"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

func (v *Benches) missing(ctx context.Context, in *frame.RawIn) (client.Names, error) {
	n, err := frame.Decode[client.Names](in.RawBody)
	if err != nil {
		return client.Names{}, err
	}
	if len(n.Names) > 1<<16 {
		return client.Names{}, core.Fail(core.BadFile, "at most %d names at once", 1<<16)
	}
	missing, err := v.store.Missing(ctx, n.Names)
	return client.Names{Names: missing}, err
}

// putPieces takes pieces framed as length (u32, big endian) and bytes.
func (v *Benches) putPieces(ctx context.Context, in *frame.RawIn) (frame.None, error) {
	r := bytes.NewReader(in.RawBody)
	var pieces []shelf.Piece
	for r.Len() > 0 {
		var n uint32
		if err := binary.Read(r, binary.BigEndian, &n); err != nil || n > store.MaxPiece || int(n) > r.Len() {
			return frame.None{}, core.Fail(core.BadFile, "offset %d: a piece is cut off or too large", r.Size()-int64(r.Len()))
		}
		b := make([]byte, n)
		io.ReadFull(r, b)
		pieces = append(pieces, shelf.Piece{Name: core.DigestOf(b), Data: b})
	}
	giveBack, err := v.People.Sends(ctx, people.SentPieces, int64(len(in.RawBody)))
	if err != nil {
		return frame.None{}, err
	}
	if err := v.store.PutPieces(ctx, pieces); err != nil {
		giveBack()
		return frame.None{}, err
	}
	return frame.None{}, nil
}

func (v *Benches) getBlob(ctx context.Context, in *frame.DigestPath) (*frame.File, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	if err := v.mayRead(ctx, frame.Who(ctx).Bench, d); err != nil {
		return nil, err
	}
	b, err := v.store.Piece(ctx, d)
	if core.KindOf(err) == core.NotFound {
		b, err = v.store.Image(ctx, d)
	}
	return &frame.File{ContentType: "application/octet-stream", Body: b}, err
}

// getPieces gives many pieces, framed as putPieces takes them.
func (v *Benches) getPieces(ctx context.Context, in *frame.RawIn) (*frame.File, error) {
	n, err := frame.Decode[client.Names](in.RawBody)
	if err != nil {
		return nil, err
	}
	if len(n.Names) > 1024 {
		return nil, core.Fail(core.BadFile, "at most 1024 pieces at once")
	}
	if err := v.mayRead(ctx, frame.Who(ctx).Bench, n.Names...); err != nil {
		return nil, err
	}
	pieces, err := v.store.Pieces(ctx, n.Names)
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, name := range n.Names {
		data, ok := pieces[name]
		if !ok {
			return nil, core.Fail(core.NotFound, "the shelf has no piece %s", name.Short())
		}
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(data))), data...)
	}
	return &frame.File{ContentType: "application/octet-stream", Body: out}, nil
}
