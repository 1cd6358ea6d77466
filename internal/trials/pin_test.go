package trials

import (
	"io"
	"log"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
)

// TestABenchPinsItsService: with a pin only a service whose certificate has that key is believed,
// at enrolment and ever after, whoever has signed the certificate; without one it must be good
// for its name.
func TestABenchPinsItsService(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	secure := httptest.NewUnstartedServer(w.Service())
	secure.Config.ErrorLog = log.New(io.Discard, "", 0) // of those who do not believe it
	secure.StartTLS()
	t.Cleanup(secure.Close)
	pin := client.KeyOf(secure.Certificate()).String()
	other := strings.Repeat("0", 63) + "1"
	l := commandLine(t, w, "lead")
	dir := filepath.Join(t.TempDir(), "c")
	enrol := func(exit int, more ...string) string {
		t.Helper()
		code, err := w.Lead.NewBenchCode(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return l.must(exit, append([]string{"bench", "enrol", "--service", secure.URL, "--code", code.Code, "--name", "c", "--dir", dir}, more...)...)
	}
	told(t, enrol(10), "certificate signed by unknown authority")
	told(t, enrol(10, "--pin", other), "shows the key "+pin, "is not believed", "ferry doctor")
	told(t, enrol(24, "--pin", "gull"), "is no pin")
	told(t, enrol(0, "--pin", other+","+strings.ToUpper(pin)), "bench c is enrolled")
	told(t, l.must(0, "doctor", "--dir", dir), "answers, and believes this bench")

	told(t, l.must(0, "bench", "pin", other, "--dir", dir), "1 pinned key")
	if said := l.must(16, "doctor", "--dir", dir); !strings.Contains(strings.Join(strings.Fields(said), " "), "is not believed") {
		t.Errorf("another key: %s", said)
	}
	told(t, l.must(0, "bench", "pin", "--none", "--dir", dir), "good for its name")
	told(t, l.must(16, "doctor", "--dir", dir), "unknown authority")
	told(t, l.must(24, "bench", "pin", "--dir", dir), "expected keys, or --none")
	told(t, l.must(0, "bench", "pin", pin, "--dir", dir), "1 pinned key")
	told(t, l.must(0, "doctor", "--dir", dir), "answers, and believes this bench")
}
