// Package doctor looks at a machine that a service or a bench is to run on: what is wrong there,
// and what mends it. It changes nothing.
package doctor

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// How something is.
const (
	Well  = "well"
	Look  = "look"  // it works, and will not for long or not under all circumstances
	Wrong = "wrong" // it does not work, or is not safe
)

// Finding is how one thing is.
type Finding struct {
	Of   string `json:"of"` // service, bench, here
	What string `json:"what"`
	Is   string `json:"is"`
	Says string `json:"says"`
	Do   string `json:"do,omitempty"`

	ID     string   `json:"id,omitempty"` // of the message, as docs/messages.md lists it
	Params []string `json:"params,omitempty"`
}

// Findings are those of one machine.
type Findings struct {
	of  string
	All []Finding
}

func (f *Findings) diagnosed(what, is, do, format string, args ...any) {
	said := core.Say(format, args...)
	f.All = append(f.All, Finding{f.of, what, is, said.Text, do, said.ID, said.Params})
}

func (f *Findings) failed(what string, err error) {
	var e *core.Error
	do := ""
	if errors.As(err, &e) {
		do = e.Next
	}
	f.diagnosed(what, Wrong, do, "%s", err)
}

// The least that is well.
const (
	leastDisk   = 1 << 30
	leastJob    = 200 << 20 // a run with a full backup, beside what else a bench keeps
	mostAskew   = 5 * time.Second
	certSoon    = 14 * 24 * time.Hour
	databaseIn  = 5 * time.Second
	serviceIn   = 5 * time.Second
	leastBuffer = 256 << 20
)

// Service is what a service is to be started with.
type Service struct {
	DSN, Key, Cert, CertKey, Listen string
}

// Look looks at the machine of a service.
func (s Service) Look(ctx context.Context, now func() time.Time) []Finding {
	f := &Findings{of: "service"}
	key, known := s.key(f)
	s.database(ctx, f, now, key, known)
	s.certificate(f, now())
	s.listens(ctx, f)
	clockKept(f)
	free(f, "space for the key and its checkpoint", filepath.Dir(s.Key), 1<<20)
	return f.All
}

func (s Service) key(f *Findings) (trust.Key, bool) {
	info, err := os.Stat(s.Key)
	switch {
	case os.IsNotExist(err):
		f.diagnosed("key", Wrong, "Bring it back from its backup, or say where it is: --key FILE. For a service that has never run: ferry serve --first makes it.", "there is no key at %s", s.Key)
		return trust.Key{}, false
	case err != nil:
		f.failed("key", err)
		return trust.Key{}, false
	case info.Mode().Perm()&0o077 != 0:
		f.diagnosed("key", Wrong, "chmod 600 "+s.Key, "others may read or change %s (mode %03o)", s.Key, info.Mode().Perm())
	}
	raw, err := os.ReadFile(s.Key)
	if err != nil {
		f.failed("key", err)
		return trust.Key{}, false
	}
	key, err := trust.DecodeKey(strings.TrimSpace(string(raw)))
	if err != nil {
		f.failed("key", err)
		return key, false
	}
	return key, true
}

func (s Service) database(ctx context.Context, f *Findings, now func() time.Time, key trust.Key, known bool) {
	ctx, cancel := context.WithTimeout(ctx, databaseIn)
	defer cancel()
	db, err := store.Open(ctx, s.DSN)
	if err != nil {
		f.failed("database", err)
		return
	}
	defer db.Close()
	before := now()
	x, err := db.Examine(ctx)
	if err != nil {
		f.failed("database", err)
		return
	}
	f.diagnosed("database", Well, "", "%s answers, schema %d", x.Version, store.Schema)
	if askew := x.Now.Sub(before).Abs(); askew > mostAskew {
		f.diagnosed("clock of the database", Look, "Let both keep time by the same source.", "it is %s away from this machine's", askew.Round(time.Second))
	}
	switch {
	case len(x.MayChange) > 0:
		do := core.Say("Grant it anew: ferry migrate --grant %s.", x.Account).Text
		if slices.Contains(x.MayChange, "all tables") {
			do = "Give the service an account of its own: ferry migrate --grant USER@HOST."
		}
		f.diagnosed("rights of the account", Wrong, do, "%s may change or delete more than the service does: %s", x.Account, strings.Join(x.MayChange, ", "))
	default:
		f.diagnosed("rights of the account", Well, "", "%s may change what the service does, and nothing else", x.Account)
	}
	if x.Flush != 1 {
		f.diagnosed("what is acknowledged", Wrong, "Set innodb_flush_log_at_trx_commit=1.", "the database acknowledges before it is on disk (%d): a loss of power loses entries that a bench has let go", x.Flush)
	}
	if x.Buffer < leastBuffer {
		f.diagnosed("memory of the database", Look, "Set innodb_buffer_pool_size to a quarter of the machine's memory.", "it keeps %d MiB of pages in memory", x.Buffer>>20)
	}
	if !x.Hashed {
		f.diagnosed("how rows are found", Look, "Set innodb_adaptive_hash_index=ON.", "the database goes down the whole tree of a table for each row: an audit of all histories takes a third longer than it must")
	}
	if x.DataDir != "" {
		free(f, "space of the database", x.DataDir, leastDisk)
	}
	id, err := db.SigningKey(ctx)
	switch {
	case err != nil:
		f.failed("key", err)
	case !known:
	case id == "":
		f.diagnosed("key", Well, "", "%s, of a service that has never run", key.Public().ID())
	case id != key.Public().ID():
		f.diagnosed("key", Wrong, "Start it with the right key: --key FILE.", "history here is signed with key %s, and %s holds %s", id, s.Key, key.Public().ID())
	default:
		line, err := db.LineOf(ctx, key)
		if err != nil {
			f.failed("key", err)
			return
		}
		f.diagnosed("key", Well, "", "%s, with which history here is signed", id)
		s.checkpoint(ctx, f, db, line)
	}
}

// checkpoint holds the database against the checkpoint beside the key.
func (s Service) checkpoint(ctx context.Context, f *Findings, db *store.Store, line history.Line) {
	path := s.Key + ".checkpoint"
	raw, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return // nothing has been entered yet
	}
	var c history.Checkpoint
	if err == nil {
		c, err = line.OpenCheckpoint(raw)
	}
	if err != nil {
		f.failed("checkpoint beside the key", err)
		return
	}
	root, err := history.RootAt(c.Size, db.TreeHashes(ctx))
	switch {
	case core.KindOf(err) == core.NotFound || err == nil && root != c.Root:
		f.diagnosed("checkpoint beside the key", Wrong, "Find out whether an older copy was put back. A lead sees more: ferry audit.", "the database does not lead to it: on %s it had %d entries", c.At.UTC().Format("2 January 2006 15:04 UTC"), c.Size)
	case err != nil:
		f.failed("checkpoint beside the key", err)
	default:
		f.diagnosed("checkpoint beside the key", Well, "", "the database leads to it, %d entries", c.Size)
	}
}

func (s Service) certificate(f *Findings, now time.Time) {
	if s.Cert == "" {
		host, _, _ := net.SplitHostPort(s.Listen)
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			f.diagnosed("certificate", Wrong, "Give --tls-cert and --tls-key, or listen on 127.0.0.1.", "the service would speak without encryption on %s", s.Listen)
		}
		return
	}
	pair, err := tls.LoadX509KeyPair(s.Cert, s.CertKey)
	if err != nil {
		f.failed("certificate", err)
		return
	}
	if info, err := os.Stat(s.CertKey); err == nil && info.Mode().Perm()&0o077 != 0 {
		f.diagnosed("certificate's key", Wrong, "chmod 600 "+s.CertKey, "others may read or change it (mode %03o)", info.Mode().Perm())
	}
	c, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		f.failed("certificate", err)
		return
	}
	until := c.NotAfter.UTC().Format("2 January 2006")
	switch left := c.NotAfter.Sub(now); {
	case left < 0:
		f.diagnosed("certificate", Wrong, "Renew it.", "it ended on %s", until)
	case left < certSoon:
		f.diagnosed("certificate", Look, "Renew it.", "it ends on %s", until)
	default:
		f.diagnosed("certificate", Well, "", "for %s, until %s", strings.Join(append(c.DNSNames, ipsOf(c)...), ", "), until)
	}
	f.diagnosed("certificate's key", Well, "", "benches pin it as %s", client.KeyOf(c))
}

func ipsOf(c *x509.Certificate) (all []string) {
	for _, ip := range c.IPAddresses {
		all = append(all, ip.String())
	}
	return all
}

func (s Service) listens(ctx context.Context, f *Findings) {
	l, err := net.Listen("tcp", s.Listen)
	if err == nil {
		l.Close()
		f.diagnosed("address", Well, "", "%s is free", s.Listen)
		return
	}
	if !errors.Is(err, unix.EADDRINUSE) {
		f.failed("address", err)
		return
	}
	base := "http://" + s.Listen
	if s.Cert != "" {
		base = "https://" + s.Listen
	}
	if _, err := healthy(ctx, base); err == nil {
		f.diagnosed("address", Well, "", "a service answers on %s already", s.Listen)
		return
	}
	f.diagnosed("address", Wrong, "Choose another: --listen.", "something else has %s", s.Listen)
}

// healthy asks a service whether it is alive, and gives its clock. The name in a certificate is
// not looked at: this tells only who is there.
func healthy(ctx context.Context, bases string) (at time.Time, err error) {
	for _, base := range strings.Split(bases, ",") { // of several processes one is enough
		if at, err = healthyAt(ctx, strings.TrimRight(strings.TrimSpace(base), "/")); err == nil {
			return at, nil
		}
	}
	return at, err
}

func healthyAt(ctx context.Context, base string) (time.Time, error) {
	ctx, cancel := context.WithTimeout(ctx, serviceIn)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", strings.TrimSuffix(base, "/")+"/healthz", nil)
	if err != nil {
		return time.Time{}, err
	}
	resp, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}).Do(r)
	if err != nil {
		return time.Time{}, err
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return time.Time{}, core.Fail(core.NotAnswering, "%s answers with status %d", base, resp.StatusCode)
	}
	return http.ParseTime(resp.Header.Get("Date"))
}

// Bench looks at the machine of a bench, by its folder.
func Bench(ctx context.Context, dir string, now func() time.Time) []Finding {
	f := &Findings{of: "bench"}
	id, err := bench.Know(dir)
	if err != nil {
		f.failed("folder", err)
		return f.All
	}
	private := true
	for _, name := range []string{"", "bench.json"} {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
			mode := "600"
			if name == "" {
				mode = "700"
			}
			private = false
			f.diagnosed("folder", Wrong, "chmod "+mode+" "+path, "others may read or change %s (mode %03o): it holds the bench's key", path, info.Mode().Perm())
		}
	}
	if private {
		f.diagnosed("folder", Well, "", "%s, of bench %s", dir, id.Name)
	}
	at, err := healthy(ctx, id.Service)
	switch {
	case err != nil:
		f.diagnosed("service", Wrong, "Is it running, and does this machine reach it? Runs go on without it.", "%s does not answer: %s", id.Service, err)
	default:
		if askew := at.Sub(now()).Abs(); askew > mostAskew {
			f.diagnosed("clock", Look, "Let both keep time by the same source.", "the service's is %s away from this machine's", askew.Round(time.Second))
		}
		if err := bench.Believed(ctx, dir); err != nil {
			f.failed("service", err)
		} else {
			f.diagnosed("service", Well, "", "%s answers, and believes this bench", id.Service)
		}
	}
	if w, err := bench.ReadWitness(dir); err != nil {
		f.failed("what is kept of histories", err)
	} else if k := w.Kept(); len(k.Checkpoints) > 1 {
		f.diagnosed("what is kept of histories", Look, "A lead sees more: ferry audit.", "the service's histories do not lead to %d of the checkpoints that are kept here", len(k.Checkpoints)-1)
	}
	clockKept(f)
	free(f, "space for runs", dir, leastJob)
	links(f, filepath.Join(dir, "links.yaml"))
	return f.All
}

// links looks whether the ports of links can be opened.
func links(f *Findings, path string) {
	ports, err := bench.ReadPorts(path)
	if err != nil {
		f.failed("links", err)
		return
	}
	for _, p := range ports {
		to := p.Settings["path"]
		if p.Kind != "serial" || to == "" {
			continue
		}
		switch err := unix.Access(to, unix.R_OK|unix.W_OK); {
		case err == nil:
			f.diagnosed(core.Say("link %s", p.Name).Text, Well, "", "%s can be opened", to)
		case errors.Is(err, unix.ENOENT):
			f.diagnosed(core.Say("link %s", p.Name).Text, Look, "Plug it in, or say where it goes: ferry link set.", "%s is not there", to)
		default:
			f.diagnosed(core.Say("link %s", p.Name).Text, Wrong, "Put the bench's user into the group of the port: usermod -aG dialout USER.", "%s cannot be opened: %s", to, err)
		}
	}
}

// Here looks at a machine from which somebody works.
func Here(ctx context.Context, c *client.Client, base string, now func() time.Time) []Finding {
	f := &Findings{of: "here"}
	at, err := healthy(ctx, base)
	if err != nil {
		f.diagnosed("service", Wrong, "Say where it is: FERRY_URL or --url.", "%s does not answer: %s", base, err)
		return f.All
	}
	if askew := at.Sub(now()).Abs(); askew > mostAskew {
		f.diagnosed("clock", Look, "Let both keep time by the same source.", "the service's is %s away from this machine's", askew.Round(time.Second))
	}
	p, err := c.WhoAmI(ctx)
	if err != nil {
		f.diagnosed("sign-in", Wrong, "ferry sign-in", "%s answers, and does not know who you are: %s", base, err)
		return f.All
	}
	f.diagnosed("sign-in", Well, "", "%s knows you as %s, %s", base, p.Name, p.Role)
	return f.All
}

// clockKept tells whether the machine's clock is kept by something.
func clockKept(f *Findings) {
	var t unix.Timex
	if _, err := unix.Adjtimex(&t); err == nil && t.Status&unix.STA_UNSYNC != 0 {
		f.diagnosed("clock", Look, "Let it be kept: systemd-timesyncd or chrony.", "nothing keeps this machine's clock: what happened when will be told wrongly")
	}
}

// free tells whether there is room.
func free(f *Findings, what, dir string, least uint64) {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return // it is on another machine
	}
	room := s.Bavail * uint64(s.Bsize)
	if room < least {
		f.diagnosed(what, Wrong, core.Say("Make room in %s.", dir).Text, "%d MiB are free, %d are the least", room>>20, least>>20)
		return
	}
	f.diagnosed(what, Well, "", "%d MiB are free", room>>20)
}
