package trust

import (
	"fmt"
	"strings"
	"testing"

	"zealousferry/core"
)

// RFC 4231, test case 1: the level's octet is its first letter, the seed the rest.
func TestAKeyOfASeed(t *testing.T) {
	secret := strings.Repeat("\x0b", 20)
	key, err := SeedKey(HMAC, secret, 'H', []byte("i There"), 8)
	if err != nil || fmt.Sprintf("%x", key) != "b0344c61d8db3853" {
		t.Errorf("%x %v", key, err)
	}
	if whole, err := SeedKey(HMAC, secret, 'H', []byte("i There"), 32); err != nil || fmt.Sprintf("%x", whole) != "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7" {
		t.Errorf("%x %v", whole, err)
	}
	if other, _ := SeedKey(HMAC, secret, 'I', []byte("i There"), 8); string(other) == string(key) {
		t.Error("another level has the same key")
	}
	if _, err := SeedKey("rot-13", secret, 1, nil, 8); core.KindOf(err) != core.NotFound {
		t.Errorf("a rule that is not there: %v", err)
	}
	for _, n := range []int{0, 33} {
		if _, err := SeedKey(HMAC, secret, 1, nil, n); core.KindOf(err) != core.BadFile {
			t.Errorf("%d bytes: %v", n, err)
		}
	}
}
