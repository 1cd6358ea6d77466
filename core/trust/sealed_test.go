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

// A key that was renewed opens what was sealed before, derives the same keys for what lies in
// backups, and other ones for what ends with it; the old one opens nothing new.
func TestARenewedKeyOpensWhatWasSealedBefore(t *testing.T) {
	old, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := old.SealFor("p/1", "it", []byte("low water"))
	if err != nil {
		t.Fatal(err)
	}
	middle, err := old.Renewed()
	if err != nil {
		t.Fatal(err)
	}
	renewed, err := middle.Renewed()
	if err != nil {
		t.Fatal(err)
	}
	read, err := DecodeKey(renewed.Encode() + "\n")
	if err != nil || read.Public().ID() != renewed.Public().ID() {
		t.Fatal(err)
	}
	if v, err := read.OpenFor("p/1", "it", sealed); err != nil || string(v) != "low water" {
		t.Errorf("%q %v", v, err)
	}
	was, _ := old.KeyFor("p/2", "unit")
	is, _ := read.KeyFor("p/2", "unit")
	own, _ := read.OwnFor("p/2", "unit")
	if !bytes.Equal(was, is) || bytes.Equal(is, own) {
		t.Error("keys of units change with the service's, or its own do not")
	}
	if b, ok := read.Before(); !ok || b.Public().ID() != middle.Public().ID() {
		t.Errorf("before it: %v", ok)
	} else if b, ok = b.Before(); !ok || b.Public().ID() != old.Public().ID() {
		t.Errorf("before that: %v", ok)
	}
	news, _ := read.SealFor("p/1", "it", []byte("high water"))
	if _, err := old.OpenFor("p/1", "it", news); err == nil {
		t.Error("the old key opens what the new one has sealed")
	}
	for _, bad := range []string{"", "  \n", renewed.Encode() + "\nc2hvcnQ=", "c2hvcnQ="} {
		if _, err := DecodeKey(bad); core.KindOf(err) != core.BadFile {
			t.Errorf("%q: %v", bad, err)
		}
	}
}
