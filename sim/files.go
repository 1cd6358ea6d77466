package sim

import (
	"crypto/sha256"
	"encoding/binary"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"
	"unicode/utf8"
)

// tree is a unit's files: what is kept outlives the power, what is only begun does
// not. It lies in a folder beside the memory's file.
type tree struct {
	folder string // empty keeps it in the process
	kept   map[string][]byte
	begun  map[string][]byte
}

func openTree(path string, fresh map[string][]byte) (*tree, error) {
	t := &tree{kept: map[string][]byte{}, begun: map[string][]byte{}}
	if path == "" {
		for name, data := range fresh {
			t.kept[name] = data
		}
		return t, nil
	}
	t.folder = path + ".files"
	if _, err := os.Stat(t.folder); os.IsNotExist(err) {
		if err := os.MkdirAll(t.folder, 0o755); err != nil {
			return nil, err
		}
		for name, data := range fresh {
			t.keep(name, data)
		}
		return t, nil
	}
	return t, filepath.WalkDir(t.folder, func(at string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(at)
		name, _ := filepath.Rel(t.folder, at)
		t.kept[filepath.ToSlash(name)] = data
		return err
	})
}

func (t *tree) keep(name string, data []byte) bool {
	if t.folder != "" {
		at := filepath.Join(t.folder, filepath.FromSlash(name))
		if os.MkdirAll(filepath.Dir(at), 0o755) != nil || os.WriteFile(at, data, 0o644) != nil {
			return false
		}
	}
	t.kept[name] = data
	return true
}

func (t *tree) remove(name string) {
	delete(t.kept, name)
	if t.folder != "" {
		os.Remove(filepath.Join(t.folder, filepath.FromSlash(name)))
	}
}

func (t *tree) names() []string {
	var all []string
	for name := range t.kept {
		all = append(all, name)
	}
	sort.Strings(all)
	return all
}

// plainPath is what section 6 calls a path.
func plainPath(p string) bool {
	if p == "" || len(p) > 200 || !utf8.ValidString(p) {
		return false
	}
	for _, name := range strings.Split(p, "/") {
		if name == "" || name == "." || name == ".." {
			return false
		}
	}
	return true
}

// ofTree carries out an operation on files, section 6.
func (u *Unit) ofTree(op byte, b []byte) (answer, bool) {
	bad := func(text string) (answer, bool) { return answer{stBadRequest, []byte(text)}, true }
	number := func(at int) int { return int(binary.LittleEndian.Uint32(b[at:])) }
	t := u.tree
	switch op {
	case 13:
		if len(b) != 4 {
			return bad("no number")
		}
		var out []byte
		for i, name := range t.names() {
			if i < number(0) || len(out)+37+len(name) > u.ReadMax {
				if i >= number(0) {
					break
				}
				continue
			}
			sum := sha256.Sum256(t.kept[name])
			out = binary.LittleEndian.AppendUint32(out, uint32(len(t.kept[name])))
			out = append(append(append(out, sum[:]...), byte(len(name))), name...)
		}
		return answer{body: out}, true
	case 14:
		if len(b) < 9 || !plainPath(string(b[8:])) || number(4) > u.ReadMax {
			return bad("no such request")
		}
		data, ok := t.kept[string(b[8:])]
		if !ok || number(0)+number(4) > len(data) {
			return bad("no such file, or it is shorter")
		}
		return answer{body: append([]byte(nil), data[number(0):number(0)+number(4)]...)}, true
	case 15:
		if len(b) < 5 || len(b) < 5+int(b[4]) || !plainPath(string(b[5:5+int(b[4])])) || len(b)-5 > u.WriteMax {
			return bad("no such request")
		}
		name, data := string(b[5:5+int(b[4])]), b[5+int(b[4]):]
		if !u.labour(u.Page * time.Duration(len(data)) / 256) {
			t.begun = map[string][]byte{}
			return answer{}, false
		}
		if number(0) == 0 {
			delete(t.begun, name)
		}
		if number(0) != len(t.begun[name]) {
			return bad("not where the file ends")
		}
		t.begun[name] = append(t.begun[name], data...)
		return answer{}, true
	case 16:
		if len(b) < 37 || !plainPath(string(b[36:])) {
			return bad("no such request")
		}
		name := string(b[36:])
		data := t.begun[name]
		sum := sha256.Sum256(data)
		if len(data) != number(0) || string(sum[:]) != string(b[4:36]) {
			return answer{stFailed, []byte("the bytes do not have that digest")}, true
		}
		delete(t.begun, name)
		if u.faults.Stuck != nil || !t.keep(name, data) {
			return answer{stFailed, []byte("the file cannot be kept")}, true
		}
		return answer{}, true
	}
	if !plainPath(string(b)) {
		return bad("no path")
	}
	t.remove(string(b))
	return answer{}, true
}

// waitsForPower tells whether a change outside the latched range has to wait until
// the power was off.
func (u *Unit) waitsForPower(address uint64) bool {
	return u.latched && (address < u.Latch.Address || address >= u.Latch.Address+u.Latch.Length)
}

// Tree copies the unit's files.
func (u *Unit) Tree() map[string]string {
	u.mu.Lock()
	defer u.mu.Unlock()
	all := map[string]string{}
	if u.tree != nil {
		for name, data := range u.tree.kept {
			all[name] = string(data)
		}
	}
	return all
}

// PutTree puts a file into the unit behind everybody's back.
func (u *Unit) PutTree(name string, data []byte) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.tree.keep(name, data)
}
