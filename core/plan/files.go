package plan

import (
	"sort"

	"zealousferry/core"
	"zealousferry/core/shelf"
)

// Files makes the plan of a tree: files of want that now lacks or has otherwise are
// put; where the tree is exact, files that want does not name are removed, and that
// first, which makes room. content gives the bytes of a file of want.
func Files(now, want []shelf.File, exact bool, content func(shelf.File) ([]byte, error)) *Plan {
	type pair struct{ now, want *shelf.File }
	pairs := map[string]*pair{}
	var paths []string
	at := func(path string) *pair {
		if pairs[path] == nil {
			pairs[path] = &pair{}
			paths = append(paths, path)
		}
		return pairs[path]
	}
	for i := range now {
		at(now[i].Path).now = &now[i]
	}
	for i := range want {
		at(want[i].Path).want = &want[i]
	}
	sort.Strings(paths)
	p := &Plan{last: -1}
	var puts []Action
	for i, path := range paths {
		x := pairs[path]
		out := Sector{Path: path, Region: "files", State: Kept}
		switch {
		case x.want == nil && exact:
			out.State = Change
			p.add(Action{Kind: RemoveFile, Sector: i, Path: path})
		case x.want == nil:
			out.Length, out.Want = x.now.Length, x.now.Digest
		default:
			out.Length, out.Want, out.State = x.want.Length, x.want.Digest, Already
			if x.now == nil || x.now.Digest != x.want.Digest {
				out.State = Change
				puts = append(puts, Action{Kind: PutFile, Sector: i, Path: path, Length: x.want.Length, Data: x.want.Digest})
			}
		}
		p.Sectors = append(p.Sectors, out)
	}
	for _, a := range puts {
		p.add(a)
	}
	p.content = func(i int) ([]byte, error) {
		if w := pairs[p.Sectors[i].Path].want; w != nil {
			return content(*w)
		}
		return nil, core.Fail(core.NotFound, "file %s is to be removed, and has no content", p.Sectors[i].Path)
	}
	return p
}
