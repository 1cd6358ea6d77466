package trust

import (
	"bytes"
	"testing"

	"zealousferry/core"
)

// What is sealed opens for the same thing under the same key, and for nothing else.
func TestSealedForSomething(t *testing.T) {
	key, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	other, _ := NewKey()
	sealed, err := key.SealFor("p/1", "gauge boot-key", []byte("low water"))
	if err != nil || bytes.Contains(sealed, []byte("low water")) {
		t.Fatalf("% X %v", sealed, err)
	}
	if v, err := key.OpenFor("p/1", "gauge boot-key", sealed); err != nil || string(v) != "low water" {
		t.Errorf("%q %v", v, err)
	}
	again, _ := key.SealFor("p/1", "gauge boot-key", []byte("low water"))
	if bytes.Equal(again, sealed) {
		t.Error("sealed twice alike: that it is the same value can be seen")
	}
	for name, open := range map[string]func() ([]byte, error){
		"another key":     func() ([]byte, error) { return other.OpenFor("p/1", "gauge boot-key", sealed) },
		"another thing":   func() ([]byte, error) { return key.OpenFor("p/1", "printer boot-key", sealed) },
		"another purpose": func() ([]byte, error) { return key.OpenFor("p/2", "gauge boot-key", sealed) },
		"a changed byte": func() ([]byte, error) {
			return key.OpenFor("p/1", "gauge boot-key", append([]byte{sealed[0] ^ 1}, sealed[1:]...))
		},
		"a piece": func() ([]byte, error) { return key.OpenFor("p/1", "gauge boot-key", sealed[:9]) },
	} {
		if v, err := open(); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: %q %v", name, v, err)
		}
	}
}
