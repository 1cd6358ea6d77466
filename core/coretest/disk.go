// Package coretest is what the tests of core share: a disk that forgets, a clock
// that is set by hand, a small board with a bench that needs no service. It uses
// nothing of internal.
package coretest

import (
	"errors"
	"io"
	"sync"
)

// Disk is a journal's file on a disk that forgets everything not flushed.
type Disk struct {
	mu      sync.Mutex
	written []byte
	flushed []byte
	// Fail, if set, is asked before each flush and may refuse it.
	Fail func() error
	// Room bounds Reserve; 0 is no bound.
	Room int64
}

func (d *Disk) ReadAt(p []byte, off int64) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if off >= int64(len(d.written)) {
		return 0, io.EOF
	}
	n := copy(p, d.written[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (d *Disk) WriteAt(p []byte, off int64) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for int64(len(d.written)) < off+int64(len(p)) {
		d.written = append(d.written, 0)
	}
	return copy(d.written[off:], p), nil
}

func (d *Disk) Size() (int64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return int64(len(d.written)), nil
}

func (d *Disk) Sync() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.Fail != nil {
		if err := d.Fail(); err != nil {
			return err
		}
	}
	d.flushed = append(d.flushed[:0], d.written...)
	return nil
}

func (d *Disk) Truncate(n int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.written = d.written[:n]
	return nil
}

func (d *Disk) Reserve(n int64) error {
	if d.Room > 0 && n > d.Room {
		return errors.New("the disk is full")
	}
	return nil
}

func (d *Disk) Close() error { return nil }

// Forget is the loss of power: only what was flushed is left.
func (d *Disk) Forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.written = append([]byte(nil), d.flushed...)
}

// Bytes are what is written now.
func (d *Disk) Bytes() []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]byte(nil), d.written...)
}
