package trials

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/creack/pty"

	"zealousferry/core/coretest"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
)

// screen is what a program has written to a terminal, without its colours.
type screen struct {
	mu  sync.Mutex
	raw bytes.Buffer
}

var sgr = regexp.MustCompile("\x1b\\[[0-9;?]*[A-Za-z]")

func (s *screen) follow(r io.Reader) {
	buf := make([]byte, 4096)
	for {
		n, err := r.Read(buf)
		s.mu.Lock()
		s.raw.Write(buf[:n])
		s.mu.Unlock()
		if err != nil {
			return
		}
	}
}

func (s *screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return sgr.ReplaceAllString(s.raw.String(), "")
}

// TestAFlashByKeyboard: at a terminal, with nothing but what a person types: the
// question at the start, each item as it comes, a wrong value refused and asked for
// again, the colours of the wires, a picture by its file.
func TestAFlashByKeyboard(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	sheet := strings.Replace(underSeat, `      - { id: strap,`, `      - { id: front, do: photo, at: found, says: { en: "Picture of the front." } }
      - { id: strap,`, 1)
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), sheet...)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.Identify(ctx, "b/a", "")
		c, err2 := w.Viewer.Card(ctx, "b/a", client.CardAbout{})
		return err == nil && err2 == nil && c.Procedure == "under-seat"
	})
	l := commandLine(t, w, "technician")
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "front.png"), pictureOf(90), 0o600)
	c := exec.Command(l.path, "flash", "b/a")
	c.Dir, c.Env = dir, append(append([]string{}, l.env...), "TERM=xterm-256color")
	tty, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 100})
	if err != nil {
		t.Fatal(err)
	}
	defer tty.Close()
	t.Cleanup(func() { c.Process.Kill() })
	s := &screen{}
	go s.follow(tty)
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(s.text())
		}
	})
	for _, x := range []struct{ says, typed string }{
		{"Write it?", "yes"},
		{"Pull the mains plug.", "yes"},
		{"Which lamp burns?", "blue"},
		{"expected one of green, none", "green"},
		{"Picture of the front.", "nowhere.png"},
		{"no such file", "front.png"},
		{"Fit the strap.", "yes"},
		{"Look at every wire a second time", "yes 1=grey 3=white"},
		{"Measure the supply.", "5"},
		{"outside of 3.1 to 3.5 V", "3.31"},
		{"Take the strap off.", "yes"},
	} {
		w.Wait(x.says+" on the terminal", func() bool { return strings.Contains(s.text(), x.says) })
		if _, err := tty.Write([]byte(x.typed + "\r")); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, s.text())
	}
	w.Wait("the end", func() bool { return strings.Contains(s.text(), "WRITTEN AND VERIFIED") })
	rs, err := w.Viewer.Runs(ctx, client.RunQuery{Unit: "S-0001", Size: 1})
	if err != nil || len(rs.Runs) != 1 {
		t.Fatal(rs, err)
	}
	page, err := w.Viewer.Run(ctx, rs.Runs[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]string{}
	for _, a := range page.Answers {
		told[a.Item] = a.Value + a.Wires["3"]
		if a.Photo != "" {
			told[a.Item] = "picture"
		}
	}
	if told["lamp"] != "green" || told["front"] != "picture" || told["second-look"] != "yeswhite" || told["volts"] != "3.31" || told["strap-off"] != "yes" {
		t.Errorf("answers %+v", told)
	}
}
