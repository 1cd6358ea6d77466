package service

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"io"
	"regexp"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// away is how long a bench may be silent before it counts as offline.
const away = 12 * time.Second

type benchPath struct {
	Bench string `path:"bench"`
}

func (v *Service) listBenches(ctx context.Context, _ *none) (client.Benches, error) {
	rows, err := v.store.Benches(ctx)
	out := client.Benches{Benches: []client.Bench{}}
	for _, b := range rows {
		out.Benches = append(out.Benches, client.Bench{ID: b.ID, Name: b.Name, Version: b.Version, Online: v.online(b.Seen, b.Revoked), Revoked: b.Revoked.Valid,
			Enrolled: b.Enrolled, Seen: timeOf(b.Seen), ClockError: b.ClockError})
	}
	return out, err
}

func (v *Service) online(seen, revoked sql.NullTime) bool {
	return seen.Valid && !revoked.Valid && v.clock.Now().Sub(seen.Time) < away
}

func timeOf(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

func (v *Service) newBenchCode(ctx context.Context, _ *none) (client.Code, error) {
	text, digest := Secret()
	ends := v.clock.Now().Add(EnrolLasts).UTC()
	err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretEnrol, Expires: sql.NullTime{Time: ends, Valid: true}})
	return client.Code{Code: text, Expires: ends}, err
}

func (v *Service) revokeBench(ctx context.Context, in *benchPath) (none, error) {
	return none{}, v.store.RevokeBench(ctx, in.Bench, v.clock.Now())
}

// rawIn is a call whose body the handler decodes: fields that are not known are
// passed over.
type rawIn struct{ RawBody []byte }

func decode[T any](raw []byte) (t T, err error) {
	if err := json.Unmarshal(raw, &t); err != nil {
		return t, core.Fail(core.BadFile, "the call's body cannot be read: %w", err)
	}
	return t, nil
}

var benchName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func (v *Service) enrol(ctx context.Context, in *rawIn) (client.Enrolled, error) {
	e, err := decode[client.Enrolment](in.RawBody)
	if err != nil {
		return client.Enrolled{}, err
	}
	switch {
	case !benchName.MatchString(e.Name):
		return client.Enrolled{}, core.Fail(core.BadFile, "a bench's name has lower-case letters, digits and hyphens, 1 to 40; this is %q", e.Name)
	case len(e.PublicKey) != 32:
		return client.Enrolled{}, core.Fail(core.BadFile, "an Ed25519 key has 32 bytes, this has %d", len(e.PublicKey))
	}
	if err := spoken(e.Protocol); err != nil {
		return client.Enrolled{}, err
	}
	if _, err := v.store.UseSecret(ctx, core.DigestOf([]byte(e.Code)), store.SecretEnrol, v.clock.Now()); err != nil {
		return client.Enrolled{}, err
	}
	b := store.Bench{ID: store.NewID(), Name: e.Name, PublicKey: e.PublicKey, Version: e.Version}
	if err := v.store.AddBench(ctx, b); err != nil {
		return client.Enrolled{}, err
	}
	text, digest := Secret()
	err = v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Bench: sql.NullString{String: b.ID, Valid: true}, Name: "bench " + e.Name})
	return client.Enrolled{Bench: b.ID, Token: text, ServiceKey: v.key.Public()}, err
}

// spoken refuses benches that are too far from this version.
func spoken(protocol int) error {
	if protocol > client.Protocol || protocol < client.Protocol-2 || protocol < 1 {
		return core.Fail(core.NotAllowed, "the bench speaks version %d, the service %d to %d", protocol, max(1, client.Protocol-2), client.Protocol).Do("Use a version of ferry that is nearer to the service's.")
	}
	return nil
}

func (v *Service) join(ctx context.Context, in *rawIn) (client.Catalogue, error) {
	j, err := decode[client.Joining](in.RawBody)
	if err != nil {
		return client.Catalogue{}, err
	}
	if err := spoken(j.Protocol); err != nil {
		return client.Catalogue{}, err
	}
	now := v.clock.Now()
	if err := v.store.BenchSeen(ctx, who(ctx).bench, now, j.Now-now.UnixMicro(), j.Version); err != nil {
		return client.Catalogue{}, err
	}
	var links []store.Link
	for _, l := range j.Links {
		if !benchName.MatchString(l.Name) {
			return client.Catalogue{}, core.Fail(core.BadFile, "a link's name has lower-case letters, digits and hyphens; this is %q", l.Name)
		}
		links = append(links, store.Link{Name: l.Name, Kind: l.Kind, Adapter: l.Adapter})
		if l.Adapter != "" && l.Latency > 0 {
			if err := v.store.Delayed(ctx, l.Adapter, l.Latency); err != nil {
				return client.Catalogue{}, err
			}
		}
	}
	if err := v.store.PutLinks(ctx, who(ctx).bench, links); err != nil {
		return client.Catalogue{}, err
	}
	models, err := v.store.Models(ctx)
	out := client.Catalogue{Now: now.UnixMicro()}
	for _, m := range models {
		out.Sheets = append(out.Sheets, core.Digest(m.Sheet))
	}
	if err != nil {
		return out, err
	}
	out.Withdrawn, err = v.store.Withdrawn(ctx, who(ctx).bench)
	return out, err
}

// orders sends a bench what it is to do. An order is sent again on each new
// connection until it has ended; the bench carries each out once.
func (v *Service) orders(ctx context.Context, _ *none) (follow, error) {
	bench := who(ctx).bench
	return func(ctx context.Context, s *sender) error {
		sent := map[string]bool{}
		seen := v.clock.Now()
		return v.every(ctx, s, func() (bool, bool, error) {
			if now := v.clock.Now(); now.Sub(seen) > away/4 {
				seen = now
				c, err := v.store.Benches(ctx)
				if err != nil {
					return false, false, err
				}
				for _, b := range c {
					if b.ID == bench && b.Revoked.Valid {
						return true, false, nil
					}
				}
			}
			open, err := v.store.OpenOrders(ctx, bench)
			if err != nil {
				return false, false, err
			}
			said := false
			for _, o := range open {
				if sent[o.ID] {
					continue
				}
				sent[o.ID], said = true, true
				if err := s.send("", "order", json.RawMessage(o.Body)); err != nil {
					return false, said, err
				}
			}
			return false, said, nil
		})
	}, nil
}

type orderIn struct {
	Order   string `path:"order"`
	RawBody []byte
}

// endOrder keeps what came of an order. A run that the bench did not open is
// closed here, since there is no journal of it.
func (v *Service) endOrder(ctx context.Context, in *orderIn) (none, error) {
	result, err := decode[client.Result](in.RawBody)
	if err != nil {
		return none{}, err
	}
	o, err := v.store.Order(ctx, in.Order)
	if core.KindOf(err) == core.NotFound {
		return none{}, nil // it ended before, and the bench had not heard it
	}
	if err != nil {
		return none{}, err
	}
	if o.Bench != who(ctx).bench {
		return none{}, core.Fail(core.NotAllowed, "this order was given to another bench")
	}
	if o.Kind == client.OrderRun && result.Error != nil && !o.Ended.Valid {
		order, err := decode[client.Order](o.Body)
		if err != nil {
			return none{}, err
		}
		r, err := v.store.Run(ctx, order.Run)
		if err != nil {
			return none{}, err
		}
		if err := v.store.ReleaseRun(ctx, v.key, r, r.By, "the bench did not begin it: "+result.Error.Detail, false); err != nil && core.KindOf(err) != core.NotFound {
			return none{}, err
		}
	}
	defer v.orderNews.ring()
	return none{}, v.store.EndOrder(ctx, who(ctx).bench, in.Order, in.RawBody, o.Kind == client.OrderRun && result.Error == nil)
}

func (v *Service) takeEvents(ctx context.Context, in *rawIn) (client.Have, error) {
	b, err := decode[client.Batch](in.RawBody)
	if err != nil {
		return client.Have{}, err
	}
	r, err := v.store.Run(ctx, b.Run)
	if err != nil {
		return client.Have{}, err
	}
	if b.First == 0 || b.Epoch == 0 {
		return client.Have{}, core.Fail(core.BadFile, "events are numbered from 1, epochs too")
	}
	for i, raw := range b.Events {
		var e run.Event
		if err := json.Unmarshal(raw, &e); err != nil || e.N != b.First+uint64(i) {
			return client.Have{}, core.Fail(core.BadFile, "event %d of run %s is not in its place", b.First+uint64(i), b.Run)
		}
		if e.Kind == run.KindClosed {
			if err := v.checkRecord(ctx, r, who(ctx).bench, e); err != nil {
				return client.Have{}, err
			}
		}
	}
	have, head, err := v.store.TakeEvents(ctx, v.key, r, who(ctx).bench, b.Epoch, b.First, b.Events, b.Outcome)
	if err == nil && head != nil {
		v.closed.WithLabelValues(r.Kind, b.Outcome).Inc()
		v.log.Info("run closed", "run", r.ID, "kind", r.Kind, "outcome", b.Outcome)
	}
	if err != nil {
		return client.Have{}, err
	}
	now, err := v.store.Run(ctx, r.ID)
	return client.Have{Have: have, Head: head, Moved: now.Epoch > b.Epoch}, err
}

type movedIn struct {
	RunPath
	After uint64 `query:"after"`
}

// movedRun gives the events of a run to the bench that it was handed to.
func (v *Service) movedRun(ctx context.Context, in *movedIn) (client.Moved, error) {
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return client.Moved{}, err
	}
	if r.Bench != who(ctx).bench {
		return client.Moved{}, core.Fail(core.NotAllowed, "run %s was not handed to this bench", r.ID)
	}
	events, err := v.store.RawEvents(ctx, r.ID, in.After, 1000)
	return client.Moved{Events: events}, err
}

// checkRecord refuses a record that the bench has not signed, or of another run.
func (v *Service) checkRecord(ctx context.Context, r store.Run, bench string, e run.Event) error {
	c, err := decode[run.Closed](e.Body)
	if err != nil {
		return err
	}
	key, err := v.benchKey(ctx, bench)
	if err != nil {
		return err
	}
	if !key.Verify(history.RecordDomain, c.Record, c.Signature) {
		return core.Fail(core.NotAllowed, "the record of run %s was not signed by its bench", r.ID)
	}
	record, err := history.DecodeRecord(c.Record)
	if err != nil {
		return err
	}
	if record.Run != r.ID || record.Unit != r.Unit {
		return core.Fail(core.BadFile, "the record is of run %s, expected %s", record.Run, r.ID)
	}
	return nil
}

func (v *Service) benchKey(ctx context.Context, id string) (trust.Public, error) {
	all, err := v.store.Benches(ctx)
	for _, b := range all {
		if b.ID == id {
			return trust.Public(b.PublicKey), err
		}
	}
	return nil, err
}

func (v *Service) missing(ctx context.Context, in *rawIn) (client.Names, error) {
	n, err := decode[client.Names](in.RawBody)
	if err != nil {
		return client.Names{}, err
	}
	if len(n.Names) > 1<<16 {
		return client.Names{}, core.Fail(core.BadFile, "at most %d names at once", 1<<16)
	}
	missing, err := v.store.Missing(ctx, n.Names)
	return client.Names{Names: missing}, err
}

// putPieces takes pieces framed as length (u32, big endian) and bytes.
func (v *Service) putPieces(ctx context.Context, in *rawIn) (none, error) {
	r := bytes.NewReader(in.RawBody)
	var pieces []shelf.Piece
	for r.Len() > 0 {
		var n uint32
		if err := binary.Read(r, binary.BigEndian, &n); err != nil || n > store.MaxPiece || int(n) > r.Len() {
			return none{}, core.Fail(core.BadFile, "offset %d: a piece is cut off or too large", r.Size()-int64(r.Len()))
		}
		b := make([]byte, n)
		io.ReadFull(r, b)
		pieces = append(pieces, shelf.Piece{Name: core.DigestOf(b), Data: b})
	}
	return none{}, v.store.PutPieces(ctx, pieces)
}

// storeBackup keeps a backup once every piece of it is on the shelf. Its answer
// is the acknowledgement that the first erase waits for.
func (v *Service) storeBackup(ctx context.Context, in *rawIn) (run.Stored, error) {
	s, err := decode[client.Stow](in.RawBody)
	if err != nil {
		return run.Stored{}, err
	}
	r, err := v.store.Run(ctx, s.Run)
	if err != nil {
		return run.Stored{}, err
	}
	if r.Bench != who(ctx).bench {
		return run.Stored{}, core.Fail(core.NotAllowed, "run %s belongs to another bench", s.Run)
	}
	raw, err := v.store.Piece(ctx, s.Manifest)
	if err != nil {
		return run.Stored{}, err
	}
	get := func(d core.Digest) ([]byte, error) { return v.store.Piece(ctx, d) }
	if len(s.Sections) == 0 { // a bench from before sections
		s.Sections = []client.StowSection{{Main: true, Manifest: s.Manifest, How: s.How}}
	}
	var names []core.Digest
	var sections []store.BackupSection
	for _, x := range s.Sections {
		pieces, err := run.PiecesOf(get, x.Manifest, x.Files)
		if err != nil {
			return run.Stored{}, err
		}
		names = append(names, pieces...)
		if x.Section != "" && len(s.Sections) > 1 || !x.Main {
			sections = append(sections, store.BackupSection{Section: x.Section, Manifest: x.Manifest[:], Files: x.Files, How: x.How})
		}
	}
	missing, err := v.store.Missing(ctx, names)
	if err != nil {
		return run.Stored{}, err
	}
	if len(missing) > 0 {
		return run.Stored{}, core.Fail(core.NotFound, "the shelf lacks %d pieces of this backup", len(missing))
	}
	length, err := backupLength(raw, s.Sections)
	if err != nil {
		return run.Stored{}, err
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return run.Stored{}, err
	}
	now := v.clock.Now()
	ruin := u.State == store.UnitHalfDone && u.Ruined.String != r.ID // what an interrupted write has left is no way back
	err = v.store.AddBackup(ctx, store.Backup{ID: r.ID, Unit: r.Unit, Manifest: s.Manifest[:], Length: length,
		Running: s.Running, How: s.How, Taken: time.UnixMicro(s.Taken), Stored: now, Ruin: ruin}, sections)
	return run.Stored{Backup: r.ID, At: now.UnixMicro()}, err
}

// backupLength is what the main section's backup covers, in bytes.
func backupLength(raw []byte, all []client.StowSection) (uint64, error) {
	for _, x := range all {
		if x.Main && !x.Files {
			m, err := shelf.DecodeManifest(raw)
			if err != nil {
				return 0, err
			}
			return m.Bytes(), nil
		}
	}
	return 0, nil
}

type blobIn struct {
	Digest string `path:"digest"`
}

type blobOut struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (v *Service) getBlob(ctx context.Context, in *blobIn) (*blobOut, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	b, err := v.store.Piece(ctx, d)
	if core.KindOf(err) == core.NotFound {
		b, err = v.store.Image(ctx, d)
	}
	return &blobOut{"application/octet-stream", b}, err
}

// getPieces gives many pieces, framed as putPieces takes them.
func (v *Service) getPieces(ctx context.Context, in *rawIn) (*blobOut, error) {
	n, err := decode[client.Names](in.RawBody)
	if err != nil {
		return nil, err
	}
	if len(n.Names) > 1024 {
		return nil, core.Fail(core.BadFile, "at most 1024 pieces at once")
	}
	pieces, err := v.store.Pieces(ctx, n.Names)
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, name := range n.Names {
		data, ok := pieces[name]
		if !ok {
			return nil, core.Fail(core.NotFound, "the shelf has no piece %s", name.Short())
		}
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(data))), data...)
	}
	return &blobOut{"application/octet-stream", out}, nil
}

// mayWrite says whether the release of a run still stands. The bench asks before
// its first erase.
func (v *Service) mayWrite(ctx context.Context, in *rawIn) (client.May, error) {
	m, err := decode[client.MayWrite](in.RawBody)
	if err != nil {
		return client.May{}, err
	}
	all, err := v.store.Withdrawn(ctx, who(ctx).bench)
	return client.May{Bars: all[m.Run]}, err
}
