package sim

import (
	"os"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// terminal is the unit behind a pseudo-terminal. Its kernel side knows speeds,
// and neither parity nor modem lines.
type terminal struct {
	*os.File
	near *os.File
}

func (terminal) lineState(byte)        {}
func (terminal) modemState(byte)       {}
func (t terminal) deliver(data []byte) { t.Write(data) }
func (t terminal) Close() error        { t.near.Close(); return t.File.Close() }
func (t terminal) speed() (baud int) {
	settings, err := unix.IoctlGetTermios(int(t.Fd()), unix.TCGETS2)
	if err != nil {
		return 0
	}
	return int(settings.Ospeed)
}

// Terminal opens a pseudo-terminal to the unit, and returns its path.
func (u *Unit) Terminal() (path string, err error) {
	far, near, err := pty.Open()
	if err != nil {
		return "", err
	}
	if _, err := term.MakeRaw(int(near.Fd())); err != nil {
		return "", err
	}
	t := terminal{far, near}
	a := u.plug(t)
	if a == nil {
		t.Close()
		return "", os.ErrExist
	}
	go a.carry(func() {
		buf := make([]byte, 4096)
		for {
			n, err := far.Read(buf)
			if err != nil {
				return
			}
			if s := t.speed(); s > 0 {
				u.mu.Lock()
				a.mode.baud = s
				u.mu.Unlock()
			}
			if !a.take(append([]byte(nil), buf[:n]...)) {
				return
			}
		}
	})
	return near.Name(), nil
}

// after calls do with the lock held once d has passed in the unit's own pace, if
// the unit still lives the same life.
func (u *Unit) after(d time.Duration, do func()) { u.once(u.scaled(d), do) }

// leastPatient is the scale below which a unit's waits for its bench do not go: however
// fast its own work is, the bench and the machine that carries both are not faster.
const leastPatient = 0.1

// afterWaiting is the same for a wait for the bench.
func (u *Unit) afterWaiting(d time.Duration, do func()) {
	u.once(time.Duration(float64(d)*max(u.Scale, leastPatient)), do)
}

func (u *Unit) once(wait time.Duration, do func()) {
	life := u.life
	go func() {
		select {
		case <-u.clock.After(wait):
		case <-u.ended:
			return
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.life == life {
			do()
		}
	}()
}
