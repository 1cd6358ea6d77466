package bench

import (
	"errors"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/sys/unix"

	"zealousferry/core/run"
)

// Disk is where a bench keeps its journals.
type Disk interface {
	// Open opens a journal, which it makes if it is not there.
	Open(name string) (run.File, error)
	// List names the journals there are.
	List() ([]string, error)
}

// Folder is journals in a folder of this machine.
type Folder string

const journalSuffix = ".journal"

func (f Folder) Open(name string) (run.File, error) {
	path := filepath.Join(string(f), name+journalSuffix)
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	return journalFile{file}, syncFolder(string(f))
}

func (f Folder) List() ([]string, error) {
	entries, err := os.ReadDir(string(f))
	var names []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), journalSuffix); ok {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	return names, err
}

// replace puts new content into a file, which is there whole or not at all and on disk
// when it returns.
func replace(path string, content []byte) error {
	f, err := os.OpenFile(path+".new", os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(path))
}

// syncFolder makes a new name in a folder durable.
func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

type journalFile struct{ *os.File }

func (f journalFile) Size() (int64, error) {
	s, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return s.Size(), nil
}

// Sync flushes the bytes and the file's length.
func (f journalFile) Sync() error { return unix.Fdatasync(int(f.Fd())) }

// Reserve takes the space without changing the file's length. File systems that
// cannot reserve are taken at their word.
func (f journalFile) Reserve(n int64) error {
	at, err := f.Size()
	if err != nil {
		return err
	}
	err = unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_KEEP_SIZE, at, n)
	if err == unix.EOPNOTSUPP || err == unix.ENOSYS {
		return nil
	}
	return err
}
