package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/recognise"
	"zealousferry/core/shelf"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

// process runs a whole process: seconds, and the most memory it had, in bytes. A
// process counts the memory of the one that starts it, so a small one does.
func process(s *stand, name string, args ...string) (seconds, most float64) {
	c := exec.Command(os.Args[0], append([]string{name}, args...)...)
	c.Env = append(os.Environ(), "FERRY_MEASURED=1")
	out, err := c.Output()
	if err == nil {
		_, err = fmt.Sscan(string(out), &seconds, &most)
	}
	if err != nil {
		s.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return seconds, most
}

// measured is that small one.
func measured(args []string) {
	c := exec.Command(args[0], args[1:]...)
	c.Stderr = os.Stderr
	began := time.Now()
	if err := c.Run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(time.Since(began).Seconds(), c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss*1024)
}

func p95(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)*95/100]
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// convert turns files of 32 MiB payload into raw binary with ferry and with
// objcopy, both whole processes on a memory file system, in turns.
func convert(s *stand) {
	if _, err := exec.LookPath("objcopy"); err != nil {
		fmt.Fprintln(os.Stderr, "convert: left out, objcopy is not there")
		return
	}
	dir, err := os.MkdirTemp("/dev/shm", "ferry-convert-")
	if err != nil {
		dir = s.TempDir()
	}
	s.Cleanup(func() { os.RemoveAll(dir) })
	at := func(name string) string { return filepath.Join(dir, name) }
	const payload = 32 << 20
	raw := random(payload, 9)
	if err := os.WriteFile(at("a.bin"), raw, 0o600); err != nil {
		s.Fatal(err)
	}
	process(s, "objcopy", "-I", "binary", "-O", "ihex", at("a.bin"), at("a.hex"))
	process(s, "objcopy", "-I", "binary", "-O", "srec", at("a.bin"), at("a.srec"))
	os.WriteFile(at("script"), []byte("SECTIONS { . = 0x8000; .all : { *(.data) } }"), 0o600)
	format, err := exec.Command("ld", "--print-output-format").Output()
	if err != nil {
		s.Fatal(err)
	}
	process(s, "ld", "--oformat", strings.TrimSpace(string(format)), "-b", "binary", "-T", at("script"), "-o", at("a.elf"), at("a.bin"))
	for _, x := range []struct{ name, file, theirs, aim string }{{"hex", "a.hex", "ihex", ">= 8"}, {"s-record", "a.srec", "srec", ">= 8"}, {"elf", "a.elf", "", ">= 1.5"}} {
		var ours, peers, memory []float64
		for range 9 {
			args := []string{"-O", "binary", at(x.file), at("theirs.bin")}
			if x.theirs != "" {
				args = append([]string{"-I", x.theirs}, args...)
			}
			t, _ := process(s, "objcopy", args...)
			peers = append(peers, t)
			t, m := process(s, "bin/ferry", "image", "convert", at(x.file), at("ours.bin"), "--to", "raw", "--replace")
			ours, memory = append(ours, t), append(memory, m)
		}
		a, _ := os.ReadFile(at("ours.bin"))
		b, _ := os.ReadFile(at("theirs.bin"))
		if string(a) != string(b) || len(a) != payload {
			s.Fatalf("%s: ours and objcopy's differ", x.name)
		}
		report("convert-"+x.name+"-against-objcopy", median(peers)/median(ours), "times-as-fast", x.aim)
		report("convert-"+x.name+"-memory", median(memory)/payload, "of-payload", "<= 2")
	}
}

// recognised finds what a backup of 1 MiB holds among 10 000 images of 1 MiB, of
// which each shares half of its chunks with the one before.
func recognised(s *stand) {
	r := rand.New(rand.NewPCG(5, 5))
	const images, chunks = 10_000, 256
	var x recognise.Index
	var last []recognise.Chunk
	memory := random(chunks*shelf.ChunkSize, 11)
	im := &image.Image{Segments: []image.Segment{{Data: memory}}}
	for i := range images {
		next := make([]recognise.Chunk, chunks)
		for k := range next {
			if last != nil && r.IntN(2) == 0 {
				next[k] = last[k]
				continue
			}
			next[k].Address = uint64(k) * shelf.ChunkSize
			for b := range next[k].Name {
				next[k].Name[b] = byte(r.Uint32())
			}
		}
		if i == images/2 {
			next = recognise.Of(im, 0xFF)
		}
		x.Add(next)
		last = next
	}
	x.Make()
	for k := range 3 {
		memory[k*70000] ^= 1
	}
	var hashing, finding []float64
	for range 50 {
		began := time.Now()
		names := shelf.Names(0, memory)
		hashing = append(hashing, time.Since(began).Seconds()*1000)
		stretches := make([]shelf.Stretch, len(names))
		for i, n := range names {
			stretches[i] = shelf.Stretch{Address: uint64(i) * shelf.ChunkSize, Length: shelf.ChunkSize, Chunks: []core.Digest{n}}
		}
		began = time.Now()
		f := x.Recognise(recognise.Memory(stretches))
		finding = append(finding, time.Since(began).Seconds()*1000)
		if f.Main == nil || f.Main.Image != images/2 || len(f.Main.Differs) != 3 {
			s.Fatalf("the wrong image: %+v", f.Main)
		}
	}
	report("recognise-1-MiB-among-10000-images", median(finding), "ms", "<= 20")
	report("recognise-hashing-the-backup", median(hashing), "ms", "")
}

// search looks through 5 000 models and 100 000 releases in MariaDB, and beside
// it does the same by statements written by hand.
func search(s *stand) {
	ctx := context.Background()
	db := database.New(s, false)
	sqlDB := db.Open(s, db.Root)
	exec := func(q string, args ...any) {
		if _, err := sqlDB.Exec(q, args...); err != nil {
			s.Fatalf("%.60s: %v", q, err)
		}
	}
	r := rand.New(rand.NewPCG(12, 1))
	words := strings.Fields("stall warm tray light frost tide quay lamp brake ramp fare print cut wide paper pier link radio pairing settings zero wave gull hatch door bridge mast rope anchor buoy chart crane winch deck hull keel")
	sentence := func(n int) string {
		var all []string
		for range n {
			all = append(all, words[r.IntN(len(words))])
		}
		return strings.Join(all, " ")
	}
	enc, _ := zstd.NewWriter(nil)
	const models, releases = 5000, 100_000
	for at := 0; at < models; at += 500 {
		var args []any
		for i := range 500 {
			args = append(args, fmt.Sprintf("model-%d", at+i), "Model "+sentence(2), make([]byte, 32), time.Now().UTC())
		}
		exec(`INSERT INTO ferry.model (name, title, sheet, changed_at) VALUES (?,?,?,?)`+strings.Repeat(",(?,?,?,?)", 499), args...)
	}
	for at := 0; at < releases; at += 500 {
		var pieces, rows []any
		for i := range 500 {
			n := at + i
			m := model.Release{ID: fleetID(fleetRelease, n), Model: fmt.Sprintf("model-%d", n%models), Version: fmt.Sprintf("%d.%d.%d", n%7, n/models, n%10), Number: fmt.Sprintf("QF-%d-%c", n, 'A'+n%5), Channel: model.Stable, Cures: model.Words{"en": sentence(8)}, At: time.Now().UTC()}
			raw, _ := json.Marshal(m)
			d := core.DigestOf(raw)
			pieces = append(pieces, d[:], len(raw), enc.EncodeAll(raw, nil))
			rows = append(rows, m.ID, m.Model, m.Version, d[:], "stable", m.Number, time.Now().UTC().Add(time.Duration(n)*time.Second), m.Model+" "+m.Version+" "+m.Number+" "+m.Cures["en"])
		}
		exec(`INSERT IGNORE INTO ferry.piece (name, length, body) VALUES (?,?,?)`+strings.Repeat(",(?,?,?)", 499), pieces...)
		exec(`INSERT INTO ferry.firmware (id, model, version, document, channel, number, added_at, words) VALUES (?,?,?,?,?,?,?,?)`+strings.Repeat(",(?,?,?,?,?,?,?,?)", 499), rows...)
	}
	exec(`ANALYZE TABLE ferry.firmware, ferry.piece`)
	st, err := store.Open(ctx, db.Serve)
	if err != nil {
		s.Fatal(err)
	}
	defer st.Close()
	hand := db.Open(s, db.Serve)
	dec, _ := zstd.NewReader(nil)
	var ours, byHand []float64
	for n := range 120 {
		q := store.ReleaseQuery{Size: 25}
		where, args := "1=1", []any{}
		switch n % 3 {
		case 0: // words of a complaint
			a, b, c := words[r.IntN(len(words))], words[r.IntN(len(words))], words[r.IntN(len(words))]
			q.Words, where, args = a+" "+b+" "+c, "MATCH (f.words) AGAINST (? IN BOOLEAN MODE)", []any{"+" + a + "* +" + b + "* +" + c + "*"}
		case 1: // the beginning of a part number
			p := fmt.Sprintf("QF-%d", 1000+r.IntN(9000))
			q.Words, where, args = p, "(f.version LIKE ? OR f.number LIKE ? OR f.model LIKE ?)", []any{p + "%", p + "%", p + "%"}
		case 2: // one model
			m := fmt.Sprintf("model-%d", r.IntN(models))
			q.Model, where, args = m, "f.model = ?", []any{m}
		}
		for turn := range 2 {
			if (n+turn)%2 == 0 {
				began := time.Now()
				if _, _, err := st.FindReleases(ctx, q); err != nil {
					s.Fatal(err)
				}
				ours = append(ours, time.Since(began).Seconds()*1000)
				continue
			}
			began := time.Now()
			var total int
			if err := hand.QueryRow(`SELECT COUNT(*) FROM firmware f WHERE `+where, args...).Scan(&total); err != nil {
				s.Fatal(err)
			}
			rows, err := hand.Query(`SELECT f.id, f.model, f.version, f.withdrawn_reason, d.name, d.body FROM firmware f JOIN piece d ON d.name = f.document WHERE `+where+` ORDER BY f.added_at DESC, f.id DESC LIMIT 25`, args...)
			if err != nil {
				s.Fatal(err)
			}
			for rows.Next() {
				var id, m, v string
				var why *string
				var name, body []byte
				if err := rows.Scan(&id, &m, &v, &why, &name, &body); err != nil {
					s.Fatal(err)
				}
				raw, err := dec.DecodeAll(body, nil)
				var one model.Release
				if err != nil || json.Unmarshal(raw, &one) != nil {
					s.Fatal("a document cannot be read")
				}
			}
			rows.Close()
			byHand = append(byHand, time.Since(began).Seconds()*1000)
		}
	}
	report("search-p95-against-by-hand", p95(ours)/p95(byHand), "ratio", "<= 1.3")
	report("search-p95", p95(ours), "ms", "")
}
