package ports

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Tree is a folder of this machine in which symbolic links are followed, also
// those that climb: the tree of /sys is made of them.
type Tree string

// Open opens a file or folder below it.
func (t Tree) Open(name string) (fs.File, error) { return os.Open(t.at(name)) }

// ReadDir lists a folder.
func (t Tree) ReadDir(name string) ([]fs.DirEntry, error) { return os.ReadDir(t.at(name)) }

// ReadFile reads a file.
func (t Tree) ReadFile(name string) ([]byte, error) { return os.ReadFile(t.at(name)) }

// Stat follows links.
func (t Tree) Stat(name string) (fs.FileInfo, error) { return os.Stat(t.at(name)) }

// Lstat does not.
func (t Tree) Lstat(name string) (fs.FileInfo, error) { return os.Lstat(t.at(name)) }

// ReadLink is where a link leads.
func (t Tree) ReadLink(name string) (string, error) { return os.Readlink(t.at(name)) }

// at does not clean the name: what climbs out of a link must climb from where the
// link leads.
func (t Tree) at(name string) string { return string(t) + string(filepath.Separator) + name }
