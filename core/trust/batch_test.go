package trust

import (
	"fmt"
	"testing"
)

// TestABatchIsRightIfEachIs: signatures of several keys together are right if each one is, whatever
// is wrong with the one that is not; what is not one key's own stays out.
func TestABatchIsRightIfEachIs(t *testing.T) {
	var keys []Key
	for range 3 {
		k, err := NewKey()
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, k)
	}
	const domain, all = "a test", 40
	filled := func(change func(i int, domain *string, message, signature []byte)) *Batch {
		b := &Batch{}
		for i := range all {
			k, said, message := keys[i%3], domain, fmt.Appendf(nil, "message %d", i)
			signature := k.Sign(said, message)
			change(i, &said, message, signature)
			if !b.Add(Any{k.Public()}, said, message, signature) {
				t.Fatal("it is not taken")
			}
		}
		return b
	}
	if !filled(func(int, *string, []byte, []byte) {}).Right() || !(&Batch{}).Right() {
		t.Error("what is right is not")
	}
	for name, change := range map[string]func(*string, []byte, []byte){
		"another message":            func(_ *string, m, _ []byte) { m[0] ^= 1 },
		"another domain":             func(d *string, _, _ []byte) { *d = "another" },
		"the first half":             func(_ *string, _, s []byte) { s[3] ^= 1 },
		"the second half":            func(_ *string, _, s []byte) { s[40] ^= 1 },
		"a scalar that is too large": func(_ *string, _, s []byte) { s[63] = 0xFF },
	} {
		for _, at := range []int{0, 17, all - 1} {
			if filled(func(i int, d *string, m, s []byte) {
				if i == at {
					change(d, m, s)
				}
			}).Right() {
				t.Errorf("%s at %d is not found", name, at)
			}
		}
	}
	b := &Batch{}
	signature := keys[0].Sign(domain, nil)
	if b.Add(Any{keys[0].Public(), keys[1].Public()}, domain, nil, signature) || b.Add(nil, domain, nil, signature) || b.Add(Any{keys[0].Public()}, domain, nil, signature[:63]) {
		t.Error("what one key alone cannot have made is in the batch")
	}
}
