package history

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// succeeded are three keys, each of which has taken the place of the one before.
func succeeded(t *testing.T) (keys []trust.Key, told []SignedSuccession) {
	t.Helper()
	k, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	keys = append(keys, k)
	for i, size := range []uint64{2, 5} {
		next, err := keys[i].Renewed()
		if err != nil {
			t.Fatal(err)
		}
		s, err := Succession{At: time.Unix(int64(1000*i), 0), Size: size}.Sign(keys[i], next)
		if err != nil {
			t.Fatal(err)
		}
		keys, told = append(keys, next), append(told, s)
	}
	return keys, told
}

// A bench that has pinned the first key comes to the last one; who has the last one finds back to
// the first; a succession that one of its keys has not signed leads nowhere.
func TestALineIsFollowed(t *testing.T) {
	keys, told := succeeded(t)
	mixed := []SignedSuccession{told[1], told[0]}
	for i, k := range keys {
		l, err := Line{Now: k.Public()}.Follow(mixed)
		if err != nil || l.Now.ID() != keys[2].Public().ID() || len(l.Before) != 2-i {
			t.Errorf("from key %d: %+v %v", i, l, err)
		}
	}
	l, err := LineTo(keys[2].Public(), mixed)
	if err != nil || len(l.Before) != 2 || l.Before[0].From.ID() != keys[0].Public().ID() || len(l.Any()) != 3 || l.Any()[2].ID() != keys[0].Public().ID() {
		t.Errorf("%+v %v", l, err)
	}
	if _, err := LineTo(keys[1].Public(), told); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "put out of use") {
		t.Errorf("a key that is out of use: %v", err)
	}
	alone := Line{Now: keys[0].Public()}
	for name, change := range map[string]func(*SignedSuccession){
		"not by the one that goes":  func(x *SignedSuccession) { x.Leaves = keys[1].Sign(LeavesDomain, x.Says) },
		"not by the one that comes": func(x *SignedSuccession) { x.Comes = keys[0].Sign(ComesDomain, x.Says) },
		"another size": func(x *SignedSuccession) {
			x.Says = json.RawMessage(strings.Replace(string(x.Says), `"size":2`, `"size":9`, 1))
		},
		"signatures that are swapped": func(x *SignedSuccession) { x.Leaves, x.Comes = x.Comes, x.Leaves },
	} {
		x := told[0]
		if change(&x); string(x.Says) == string(told[0].Says) && string(x.Leaves) == string(told[0].Leaves) && string(x.Comes) == string(told[0].Comes) {
			t.Fatal(name)
		}
		if l, err := alone.Follow([]SignedSuccession{x}); err == nil || l.Now.ID() != keys[0].Public().ID() {
			t.Errorf("%s: %+v %v", name, l, err)
		}
	}
	back, err := Succession{}.Sign(keys[2], keys[0])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := alone.Follow(append(told, back)); err == nil {
		t.Error("a key came back")
	}
}

// What was entered under an older key stays good; an entry that comes later with the old key's
// signature is found, and so is a checkpoint of a tree that was larger than when the key went.
func TestAnOldKeySignsNothingNew(t *testing.T) {
	keys, told := succeeded(t)
	line, err := LineTo(keys[2].Public(), told)
	if err != nil {
		t.Fatal(err)
	}
	none := func(string) trust.Any { return nil }
	var chain []Stored
	var heads []Head
	enter := func(k trust.Key) {
		e := &Entry{Unit: "u", N: uint64(len(chain) + 1), Kind: Noted}
		if len(chain) > 0 {
			e.Previous = chain[len(chain)-1].Hash
		}
		raw := e.Encode()
		chain = append(chain, Stored{e.N, HashEntry(raw), e.Kind, raw})
		h := Head{Unit: "u", N: e.N, Hash: HashEntry(raw)}
		h.Sign(k)
		heads = append(heads, h)
	}
	for _, k := range []int{0, 0, 1, 2} {
		enter(keys[k])
	}
	if found := Check("u", chain, heads, line, none); len(found) > 0 {
		t.Errorf("%v", found)
	}
	if found := Check("u", chain, heads, Line{Now: keys[2].Public()}, none); len(found) != 3 {
		t.Errorf("without the line: %v", found)
	}
	enter(keys[1])
	if found := Check("u", chain, heads, line, none); len(found) != 1 || !strings.Contains(found[0].Text, "entry 5 was signed with a key that was out of use") {
		t.Errorf("with the old key: %v", found)
	}
	for _, x := range []struct {
		by   int
		size uint64
		good bool
	}{{0, 2, true}, {0, 3, false}, {1, 5, true}, {1, 6, false}, {2, 6, true}} {
		signed, err := Checkpoint{Size: x.size, At: time.Unix(0, 0)}.Sign(keys[x.by])
		if err != nil {
			t.Fatal(err)
		}
		if c, err := line.OpenCheckpoint(signed); (err == nil) != x.good || x.good && c.Size != x.size {
			t.Errorf("%+v: %+v %v", x, c, err)
		}
	}
}
