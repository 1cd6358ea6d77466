package history_test

import (
	"testing"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// A chain of events is the same however they are cut into batches, and another one as soon as
// one is changed, left out, put in or moved.
func TestAChainOfEvents(t *testing.T) {
	a, b, c := []byte("a"), []byte("bb"), []byte("ccc")
	whole := history.ChainOn(core.Digest{}, a, b, c)
	if history.ChainOn(history.ChainOn(core.Digest{}, a), b, c) != whole || history.ChainOn(history.ChainOn(core.Digest{}, a, b), c) != whole {
		t.Error("it hangs on how it is cut")
	}
	for name, other := range map[string][][]byte{"changed": {a, []byte("bx"), c}, "left out": {a, c}, "put in": {a, b, b, c}, "moved": {b, a, c}, "joined": {[]byte("abb"), c}, "longer": {a, b, c, {}}, "none": {}} {
		if history.ChainOn(core.Digest{}, other...) == whole {
			t.Errorf("%s, and it is the same", name)
		}
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	p := history.Post{Bench: "b", Run: "r", Epoch: 1, Last: 3, Chain: whole, Outcome: "done"}
	signed := p.Sign(key)
	if !p.Verify(key.Public(), signed) {
		t.Error("it is not what was signed")
	}
	for name, change := range map[string]func(*history.Post){"bench": func(p *history.Post) { p.Bench = "c" }, "run": func(p *history.Post) { p.Run = "s" }, "epoch": func(p *history.Post) { p.Epoch = 2 },
		"last": func(p *history.Post) { p.Last = 4 }, "chain": func(p *history.Post) { p.Chain[0]++ }, "outcome": func(p *history.Post) { p.Outcome = "failed" }} {
		q := p
		if change(&q); q.Verify(key.Public(), signed) {
			t.Errorf("with another %s it is still signed", name)
		}
	}
	k := history.Kept{Bench: "b", Run: "r", Sections: []history.KeptSection{{Section: "main", Main: true, Manifest: whole}}}
	back, err := history.DecodeKept(k.Encode())
	if err != nil || back.Sections[0].Manifest != whole {
		t.Errorf("%+v %v", back, err)
	}
	if _, err := history.DecodeKept([]byte{0xFF}); core.KindOf(err) != core.BadFile {
		t.Error(err)
	}
}
