package recording

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
)

const slip = "ferry-recording 1\n# slip at Skerry Point\n+0.000 < \"stop 2 \"\n+0.004 > \" \"\n+0.021 < \"\\r\\n> \\xff\"\n"

func TestWrittenAndRead(t *testing.T) {
	r, err := Read(strings.NewReader(slip))
	if err != nil || len(r.Pieces) != 3 || !r.Pieces[1].Sent || r.Pieces[2].After != 21*time.Millisecond || string(r.Pieces[2].Data) != "\r\n> \xff" || r.Remarks[0] != "slip at Skerry Point" {
		t.Fatalf("%+v %v", r, err)
	}
	var out bytes.Buffer
	if err := r.Write(&out); err != nil || out.String() != slip {
		t.Errorf("written as\n%s%v", out.String(), err)
	}
}

// What comes in bits within a moment is one piece; the other direction begins another.
func TestPiecesJoin(t *testing.T) {
	var r Recording
	r.Add(0, false, []byte("ab"))
	r.Add(5*time.Millisecond, false, []byte("cd"))
	r.Add(9*time.Millisecond, true, []byte("x"))
	r.Add(200*time.Millisecond, true, []byte("y"))
	if len(r.Pieces) != 3 || string(r.Pieces[0].Data) != "abcd" {
		t.Errorf("%+v", r.Pieces)
	}
}

func TestPlaying(t *testing.T) {
	r, _ := Read(strings.NewReader(slip))
	s := r.Play()
	b := make([]byte, 100)
	if n, err := s.Read(b); err != nil || string(b[:n]) != "stop 2 " {
		t.Errorf("%q %v", b[:n], err)
	}
	if n, err := s.Read(b); n != 0 || err != os.ErrDeadlineExceeded {
		t.Errorf("before anything was said: %d %v", n, err)
	}
	s.Write([]byte("!"))
	if n, err := s.Read(b); err != nil || string(b[:n]) != "\r\n> \xff" {
		t.Errorf("%q %v", b[:n], err)
	}
}

func TestRecordingsThatAreNone(t *testing.T) {
	for file, says := range map[string]string{
		"":                                    "nothing that was said",
		"hello\n":                             `line 1: expected "ferry-recording 1"`,
		"ferry-recording 1\n+0 < \"a":         "line 2: expected bytes in double quotes",
		"ferry-recording 1\n+0 = \"a\"\n":     "line 2: expected +SECONDS, > or <",
		"ferry-recording 1\n+x < \"a\"\n":     `line 2: expected seconds, came "+x"`,
		"ferry-recording 1\n\n+-1 < \"a\"\n":  "line 3: expected seconds",
		"ferry-recording 1\n+0 < `a`\n":       "line 2: expected bytes in double quotes",
		"ferry-recording 1\n# nothing said\n": "nothing that was said",
	} {
		if _, err := Read(strings.NewReader(file)); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", file, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(slip))
	f.Fuzz(func(t *testing.T, in []byte) {
		r, err := Read(bytes.NewReader(in))
		if err != nil {
			if core.KindOf(err) != core.BadFile {
				t.Errorf("%v", err)
			}
			return
		}
		var out bytes.Buffer
		if err := r.Write(&out); err != nil {
			t.Fatal(err)
		}
		again, err := Read(&out)
		if err != nil || len(again.Pieces) != len(r.Pieces) {
			t.Errorf("written and read again: %v", err)
		}
	})
}
