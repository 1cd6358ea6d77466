package run

import (
	"context"
	"slices"
	"testing"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// wideUnit digests its memory, and counts how many digests it has given.
type wideUnit struct {
	loader.Session
	memory []byte
	widest uint64
	given  int
}

func (u *wideUnit) Widest() uint64 { return u.widest }

func (u *wideUnit) Digest(_ context.Context, address, length, piece uint64) (all []core.Digest, err error) {
	for at := address; at < address+length; at += piece {
		all = append(all, core.DigestOf(u.memory[at:at+piece]))
		u.given++
	}
	return all, nil
}

// TestMemoryIsDigestedInLongPieces: the digest of each sector is what the unit holds, wherever it is
// not what was expected; and few are asked for where it is.
func TestMemoryIsDigestedInLongPieces(t *testing.T) {
	const sector = 1 << 10
	for name, x := range map[string]struct {
		sectors, other int // how many, and which holds other bytes, from 1
		widest         uint64
		known          bool
		given          int
	}{
		"as expected":               {64, 0, 16 * sector, true, 4},
		"one sector differs":        {64, 21, 16 * sector, true, 4 + 16},
		"the last one differs":      {64, 64, 16 * sector, true, 4 + 16},
		"a length that is no power": {7, 0, 16 * sector, true, 1},
		"a prime, and small pieces": {13, 5, 4 * sector, true, 13},
		"nobody knows what to see":  {64, 3, 16 * sector, false, 64},
		"it digests short ones":     {8, 2, 0, true, 8},
	} {
		u := &wideUnit{memory: make([]byte, x.sectors*sector), widest: x.widest}
		for i := range u.memory {
			u.memory[i] = byte(i * 7 / 5)
		}
		should := slices.Clone(u.memory)
		if x.other > 0 {
			u.memory[x.other*sector-1] ^= 0x10
		}
		expected := func(n, count int) (all [][]byte) {
			if !x.known {
				return nil
			}
			for i := range count {
				all = append(all, should[(n+i)*sector:(n+i+1)*sector])
			}
			return all
		}
		got, err := digests(context.Background(), u, memory.Sector{Length: uint64(x.sectors) * sector}, sector, 0, expected)
		given := u.given
		want, _ := u.Digest(context.Background(), 0, uint64(len(u.memory)), sector)
		if err != nil || !slices.Equal(got, want) || given != x.given {
			t.Errorf("%s: alike %v, %d digests were asked for, %v", name, slices.Equal(got, want), given, err)
		}
	}
}
