package client

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/history"
	"zealousferry/core/link/ports"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/core/visit"
)

// What benches and the service say to each other. Readers pass over fields that they do
// not know.

// RevokeBench ends a bench's right to speak.
func (c *Client) RevokeBench(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/benches/"+segment(id)+"/revoke", nil, nil)
}

// Benches lists the benches.
func (c *Client) Benches(ctx context.Context) (Benches, error) {
	return whole(ctx, c, "/api/benches", func(all *Benches, p Benches) { all.Benches = append(all.Benches, p.Benches...) })
}

// NewBenchCode asks for a one-use code to enrol a bench.
func (c *Client) NewBenchCode(ctx context.Context) (Code, error) {
	return post[Code](ctx, c, "/api/benches/codes", nil)
}

// MovedRun gets the events of a run that another bench has begun.
func (c *Client) MovedRun(ctx context.Context, id string, after uint64) (m Moved, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/bench/runs/%s/events?after=%d", segment(id), after), nil, &m)
	return m, err
}

// Enrol enrols a bench.
func (c *Client) Enrol(ctx context.Context, e Enrolment) (Enrolled, error) {
	return post[Enrolled](ctx, c, "/api/bench/enrol", e)
}

// Join says what the bench has.
func (c *Client) Join(ctx context.Context, j Joining) (Catalogue, error) {
	return post[Catalogue](ctx, c, "/api/bench/join", j)
}

// HeadsAtOnce is how many heads of history a bench shows at once.
const HeadsAtOnce = 500

// CheckpointsAtOnce is how many checkpoints it shows at once.
const CheckpointsAtOnce = 20

// Heads are the newest heads of units' histories that a bench has kept, and its checkpoints.
type Heads struct {
	Heads       []history.Head `json:"heads"`
	Checkpoints []string       `json:"checkpoints,omitempty"`
}

// ShowHeads shows the service which heads of history it has given to this bench.
func (c *Client) ShowHeads(ctx context.Context, h Heads) error {
	return c.call(ctx, "POST", "/api/bench/heads", h, nil)
}

// Orders calls got for each order until the context ends or the connection does.
//
// What a service has not signed is handed over with a false: it is not to be carried out.
func (c *Client) Orders(ctx context.Context, bench string, service trust.Public, got func(o Order, signed bool)) error {
	after := uint64(0)
	_, err := c.followOnce(ctx, "/api/bench/orders", &after, func(event, id string, data []byte) (uint64, bool, error) {
		var o Order
		if event == "order" && json.Unmarshal(data, &o) == nil {
			signature, err := base64.RawURLEncoding.DecodeString(id)
			got(o, err == nil && service.Verify(history.OrderDomain, history.Ordered(bench, data), signature))
		}
		return 0, true, nil
	})
	return err
}

// TellOrder says how far the bench is with an order.
func (c *Client) TellOrder(ctx context.Context, id string, said core.Said) error {
	return c.call(ctx, "POST", "/api/bench/orders/"+segment(id)+"/told", said, nil)
}

// EndOrder says what came of an order.
func (c *Client) EndOrder(ctx context.Context, id string, r Result) error {
	return c.call(ctx, "POST", "/api/bench/orders/"+segment(id), r, nil)
}

// PutEvents hands over events of a run.
func (c *Client) PutEvents(ctx context.Context, b Batch) (Have, error) {
	return post[Have](ctx, c, "/api/bench/events", b)
}

// Missing asks which pieces the service lacks.
func (c *Client) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	out, err := post[Names](ctx, c, "/api/bench/missing", Names{names})
	return out.Names, err
}

// PutPieces hands over pieces.
func (c *Client) PutPieces(ctx context.Context, pieces []shelf.Piece) error {
	var b []byte
	for _, p := range pieces {
		b = binary.BigEndian.AppendUint32(b, uint32(len(p.Data)))
		b = append(b, p.Data...)
	}
	return c.call(ctx, "PUT", "/api/bench/pieces", b, nil)
}

// Pieces gets many pieces at once.
func (c *Client) Pieces(ctx context.Context, names []core.Digest) ([]shelf.Piece, error) {
	in, err := json.Marshal(Names{Names: names})
	if err != nil {
		return nil, err
	}
	var raw []byte
	if err := c.call(ctx, "POST", "/api/bench/pieces", in, &raw); err != nil {
		return nil, err
	}
	var all []shelf.Piece
	for len(raw) > 0 {
		if len(raw) < 4 || int(binary.BigEndian.Uint32(raw)) > len(raw)-4 || len(all) == len(names) {
			return nil, core.Fail(core.BadFile, "the service sent pieces that are cut off")
		}
		n := int(binary.BigEndian.Uint32(raw))
		data := raw[4 : 4+n]
		if raw = raw[4+n:]; core.DigestOf(data) != names[len(all)] {
			return nil, core.Fail(core.BadFile, "the service sent other bytes than those of %s", names[len(all)].Short())
		}
		all = append(all, shelf.Piece{Name: names[len(all)], Data: data})
	}
	if len(all) != len(names) {
		return nil, core.Fail(core.BadFile, "the service sent %d of %d pieces", len(all), len(names))
	}
	return all, nil
}

// StoreBackup asks the service to keep a backup whose pieces it has.
func (c *Client) StoreBackup(ctx context.Context, s Stow) (run.Stored, error) {
	return post[run.Stored](ctx, c, "/api/bench/backups", s)
}

// MayWrite asks whether a run's release still stands.
func (c *Client) MayWrite(ctx context.Context, run string) (May, error) {
	return post[May](ctx, c, "/api/bench/may-write", MayWrite{Run: run})
}

// Blob gets content by digest.
func (c *Client) Blob(ctx context.Context, name core.Digest) (b []byte, err error) {
	err = c.call(ctx, "GET", "/api/bench/blobs/"+name.String(), nil, &b)
	if err == nil && core.DigestOf(b) != name {
		return nil, core.Fail(core.BadFile, "the service sent other bytes than those of %s", name.Short())
	}
	return b, err
}

// Bench is a machine that owns links.
type Bench struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Version    string     `json:"version"`
	Online     bool       `json:"online"`
	Revoked    bool       `json:"revoked"`
	Enrolled   time.Time  `json:"enrolled"`
	Seen       *time.Time `json:"seen,omitempty"`
	ClockError int64      `json:"clockError" doc:"Microseconds that its clock is ahead of the service's."`
}

// Benches is a list of benches.
type Benches struct {
	Benches []Bench `json:"benches" nullable:"false"`
	Paged
}

// MovedAtOnce is how many events of a run come at once; fewer are the last.
const MovedAtOnce = 1000

// Moved is a run's events for the bench that goes on with it.
type Moved struct {
	Events [][]byte `json:"events"`
}

// Protocol is the number of the talk between bench and service; the service
// accepts the two before.
const Protocol = 2

// Signs is the protocol from which on a bench signs all that it says.
const Signs = 2

// Enrolment is a bench's first word.
type Enrolment struct {
	Code      string `json:"code"`
	Name      string `json:"name"`
	PublicKey []byte `json:"publicKey"`
	Version   string `json:"version"`
	Protocol  int    `json:"protocol"`
}

// Enrolled is the answer to it.
type Enrolled struct {
	Bench      string `json:"bench"`
	Token      string `json:"token"`
	ServiceKey []byte `json:"serviceKey"`
}

// NewName is another name for something.
type NewName struct {
	Name string `json:"name" minLength:"1" maxLength:"40"`
}

// RenameBench gives a bench another name.
func (c *Client) RenameBench(ctx context.Context, bench, name string) error {
	return c.call(ctx, "POST", "/api/benches/"+segment(bench)+"/name", NewName{name}, nil)
}

// RenewBenchKey has a bench sign with another key from now on, as both keys have signed.
func (c *Client) RenewBenchKey(ctx context.Context, x history.SignedSuccession) error {
	return c.call(ctx, "POST", "/api/bench/renew-key", x, nil)
}

// Joining tells the service what a bench has.
type Joining struct {
	Version  string      `json:"version"`
	Protocol int         `json:"protocol"`
	Now      int64       `json:"now"` // the bench's wall clock, microseconds
	Links    []BenchLink `json:"links"`
	Listed   string      `json:"listed,omitempty"`  // as the service has called the list of sheets that the bench has
	Fresh    bool        `json:"fresh,omitempty"`   // that list is to be looked at again now
	Brief    bool        `json:"brief,omitempty"`   // only what may be used is asked: sheets, keys, releases taken back
	Keys     uint64      `json:"keys,omitempty"`    // number of the list of trusted keys that it holds
	Tree     uint64      `json:"tree,omitempty"`    // how many entries the checkpoint has that it holds
	Name     string      `json:"name,omitempty"`    // by which it goes
	Service  string      `json:"service,omitempty"` // id of the service's key that it holds
}

// BenchLink is a link of a bench.
type BenchLink struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Adapter string `json:"adapter,omitempty"`
	Latency int    `json:"latency,omitempty"` // ms that its driver holds bytes back
	Absent  string `json:"absent,omitempty"`  // why it cannot be opened just now
}

// Catalogue is the sheets that a bench identifies with.
type Catalogue struct {
	Now    int64         `json:"now"` // the service's wall clock, microseconds
	Sheets []core.Digest `json:"sheets,omitempty"`
	Listed string        `json:"listed,omitempty"` // tells this list of sheets from others
	Same   bool          `json:"same,omitempty"`   // the bench has it: it is not sent
	Brief  bool          `json:"brief,omitempty"`  // it says nothing of trays, checkpoint and name
	// Withdrawn names open runs whose release was taken back, and why.
	Withdrawn map[string]string `json:"withdrawn,omitempty"`
	// Barred are the same as messages; a service of before does not send them.
	Barred map[string]core.Said `json:"barred,omitempty"`
	// Trays are those of the bench on whose links it asks who is there.
	Trays []BenchTray `json:"trays,omitempty"`
	// Checkpoint is the newest of all histories, where it is newer than the bench's: it keeps it.
	Checkpoint *Checkpoint `json:"checkpoint,omitempty"`
	// Keys are the trusted keys, where the list is another one than the bench's.
	Keys *trust.SignedKeys `json:"keys,omitempty"`
	// Succeeds leads from the key of the service that the bench holds to the one in force.
	Succeeds []history.SignedSuccession `json:"succeeds,omitempty"`
	// Name is the bench's, where it is another one than the bench says.
	Name string `json:"name,omitempty"`
}

// Bars are why open runs may not write.
func (c *Catalogue) Bars() map[string]core.Said {
	all := map[string]core.Said{}
	for run, text := range c.Withdrawn {
		if all[run] = c.Barred[run]; all[run].Text == "" {
			all[run] = core.Said{Text: text}
		}
	}
	return all
}

// Checkpoint is a signed checkpoint of all histories, with the proof (RFC 9162, section 2.1.4)
// that its tree came of the one that the bench holds.
type Checkpoint struct {
	Signed string        `json:"signed"`
	Proof  []core.Digest `json:"proof,omitempty"`
}

// MayWrite asks, immediately before the first erase of a run, whether its release
// still stands.
type MayWrite struct {
	Run string `json:"run"`
}

// May is the answer.
type May struct {
	Bars       string   `json:"bars,omitempty"`
	BarsID     string   `json:"barsId,omitempty"`
	BarsParams []string `json:"barsParams,omitempty"`
}

// Order tells a bench to do something once.
type Order struct {
	ID       string            `json:"id"`
	Kind     string            `json:"kind"`
	Deadline time.Time         `json:"deadline"`
	Link     string            `json:"link,omitempty"`
	Model    string            `json:"model,omitempty"` // last seen on the link, or named
	Named    bool              `json:"named,omitempty"` // somebody has named the model: no other one's loader is called
	Stays    []string          `json:"stays,omitempty"` // serials of units that are half done: they stay in their loader
	Run      string            `json:"run,omitempty"`
	By       string            `json:"by,omitempty"`
	Label    string            `json:"label,omitempty"`
	Reason   string            `json:"reason,omitempty"`
	Opened   *run.Opened       `json:"opened,omitempty"`
	Epoch    uint64            `json:"epoch,omitempty"`
	Links    map[string]string `json:"links,omitempty"` // of sections on further links, by section
	Laid     *run.LaidAside    `json:"laid,omitempty"`
	Lent     *run.Borrowed     `json:"lent,omitempty"`
	Await    bool              `json:"await,omitempty"`  // a person applies the power while the bench calls
	Slower   bool              `json:"slower,omitempty"` // the loader stays at the speed at which it is called
	Baud     int               `json:"baud,omitempty"`
	Answer   *procedure.Answer `json:"answer,omitempty"`
	Say      string            `json:"say,omitempty"`
	Loader   bool              `json:"loader,omitempty"` // say it through the loader
	Lasts    int               `json:"lasts,omitempty"`  // ms
	Port     *PortChoice       `json:"port,omitempty"`   // where a link is to go
	Sheet    string            `json:"sheet,omitempty"`  // to be tried
	Section  string            `json:"section,omitempty"`
	Write    bool              `json:"write,omitempty"`    // a sector is erased and written back
	In       []visit.In        `json:"in,omitempty"`       // modules that are meant, and what they are
	Deep     bool              `json:"deep,omitempty"`     // what modules have recorded with their fault codes is read too
	Learn    string            `json:"learn,omitempty"`    // what one of them is to learn, as its sheet calls it
	Ends     string            `json:"ends,omitempty"`     // the order that is to end before it is over
	Adapter  string            `json:"adapter,omitempty"`  // of the link that is checked
	Pulled   bool              `json:"pulled,omitempty"`   // the plug is said to be pulled while it is checked
	Vehicles bool              `json:"vehicles,omitempty"` // those on the bench's networks are asked for too
}

// Result is what came of an order.
type Result struct {
	Error     *Problem        `json:"error,omitempty"`
	Found     *run.Identified `json:"found,omitempty"`
	Model     string          `json:"model,omitempty"`
	Stays     bool            `json:"stays,omitempty"` // the unit is half done, and was left in its loader
	Seen      *diagnose.Seen  `json:"seen,omitempty"`
	Came      bool            `json:"came,omitempty"`
	Tried     *Tried          `json:"tried,omitempty"`
	Slots     []visit.InSlot  `json:"slots,omitempty"`
	Gateway   *GatewayTold    `json:"gateway,omitempty"`
	Strangers int             `json:"strangers,omitempty"` // requests of another tester that were heard on the bus
	Cleared   []visit.Cleared `json:"cleared,omitempty"`
	Ports     []ports.Port    `json:"ports,omitempty"`
	Vehicles  []Vehicle       `json:"vehicles,omitempty"`
	Asked     bool            `json:"asked,omitempty"` // for vehicles
	Heard     *Heard          `json:"heard,omitempty"`
}

// Batch is events of one run, in order.
type Batch struct {
	Run     string   `json:"run"`
	Epoch   uint64   `json:"epoch"`
	First   uint64   `json:"first"`
	Outcome string   `json:"outcome"`
	Events  [][]byte `json:"events"`

	Chain     core.Digest `json:"chain"`               // of the epoch's events up to the last of these
	Signature []byte      `json:"signature,omitempty"` // of history.Post, by the bench

	Texts [][]byte `json:"texts,omitempty"` // what events name by its digest: traces of a line
}

// Have is how far the service has a run's events.
type Have struct {
	Have  uint64        `json:"have"`
	First uint64        `json:"first,omitempty"` // number with which the bench's epoch begins
	Moved bool          `json:"moved,omitempty"` // another bench goes on with the run, or it was given up
	Head  *history.Head `json:"head,omitempty"`
}

// Stow asks the service to keep a backup whose pieces it has.
type Stow struct {
	Run      string        `json:"run"`
	Manifest core.Digest   `json:"manifest"` // of the main section
	How      string        `json:"how"`
	Running  string        `json:"running"`
	Taken    int64         `json:"taken"`
	Sections []StowSection `json:"sections,omitempty"` // all of them, where the bench knows of sections

	Signed    []byte `json:"signed,omitempty"` // history.Kept, as the bench signs it
	Signature []byte `json:"signature,omitempty"`
}

// StowSection is the backup of a section.
type StowSection struct {
	Section  string      `json:"section"`
	Main     bool        `json:"main,omitempty"`
	Files    bool        `json:"files,omitempty"`
	Manifest core.Digest `json:"manifest"`
	How      string      `json:"how"`
}
