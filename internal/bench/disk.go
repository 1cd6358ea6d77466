package bench

import (
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
