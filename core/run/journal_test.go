package run_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
)

// written is a journal of a few events.
func written(t *testing.T) *coretest.Disk {
	t.Helper()
	d := &coretest.Disk{}
	j, err := run.OpenJournal(d)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range []struct {
		kind string
		body any
	}{{run.KindOpened, run.Opened{Run: "r", Kind: run.Flash}}, {run.KindIdentified, run.Identified{Strength: run.ThisUnit}}, {run.KindReading, run.Amount{Done: 1, Total: 2}}} {
		if _, err := j.Append(e.kind, e.body, true); err != nil {
			t.Fatal(err)
		}
	}
	return d
}

func reopened(raw []byte) (*run.Journal, error) {
	d := &coretest.Disk{}
	d.WriteAt(raw, 0)
	return run.OpenJournal(d)
}

func TestATornLastRecordIsCutOff(t *testing.T) {
	raw := written(t).Bytes()
	whole, _ := reopened(raw)
	if len(whole.Events()) != 3 {
		t.Fatal("not three events")
	}
	last := len(raw)
	for n := last - 1; n > 0; n-- {
		j, err := reopened(raw[:n])
		if err != nil {
			t.Fatalf("cut at %d: %v", n, err)
		}
		if got := len(j.Events()); got > 2 {
			t.Fatalf("cut at %d: %d events", n, got)
		}
	}
	j, err := reopened(append(raw[:last:last], make([]byte, 50)...))
	if err != nil || len(j.Events()) != 3 {
		t.Errorf("zeros behind the end: %v", err)
	}
	spoilt := append([]byte(nil), raw...)
	spoilt[last-1] ^= 1
	if j, err := reopened(spoilt); err != nil || len(j.Events()) != 2 {
		t.Errorf("a last record that is not whole: %v", err)
	}
}

func TestAnyOtherDamageIsAnError(t *testing.T) {
	raw := written(t).Bytes()
	for at := range len(raw) / 2 {
		spoilt := append([]byte(nil), raw...)
		spoilt[at] ^= 0x10
		_, err := reopened(spoilt)
		if core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "damaged at offset") {
			t.Fatalf("byte %d: %v", at, err)
		}
	}
}

func TestANewerSchemaIsRefusedInWords(t *testing.T) {
	_, err := run.Fold([]run.Event{{Schema: run.Schema + 1, N: 1, Kind: run.KindOpened, Body: json.RawMessage(`{}`)}})
	if err == nil || !strings.Contains(err.Error(), "use a newer version") {
		t.Errorf("got %v", err)
	}
	s, err := run.Fold([]run.Event{{Schema: 1, N: 1, Kind: run.KindOpened, Body: json.RawMessage(`{"run":"r","later":1}`)}, {Schema: 1, N: 2, Kind: "of-a-later-version"}})
	if err != nil || s.Next().Phase != run.PhaseIdentify {
		t.Errorf("unknown fields and kinds: %v", err)
	}
}

func FuzzJournal(f *testing.F) {
	f.Add([]byte{1, 0, 0, 0})
	if files, _ := filepath.Glob("testdata/*.journal"); len(files) > 0 {
		raw, _ := os.ReadFile(files[0])
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		j, err := reopened(data)
		if err != nil {
			return
		}
		j.State().Next()
		j.State().View()
		j.State().Strip()
	})
}

func BenchmarkAppend(b *testing.B) {
	j, _ := run.OpenJournal(&coretest.Disk{})
	j.Append(run.KindOpened, run.Opened{Run: "r"}, true)
	for b.Loop() {
		if _, err := j.Append(run.KindReading, run.Amount{Done: 1, Total: 2}, false); err != nil {
			b.Fatal(err)
		}
	}
}
