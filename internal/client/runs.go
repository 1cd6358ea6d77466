package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
)

// OpenRun opens a run.
func (c *Client) OpenRun(ctx context.Context, n NewRun) (Run, error) {
	return post[Run](ctx, c, "/api/runs", n)
}

// Run is a run and how it stands.
func (c *Client) Run(ctx context.Context, id string) (Run, error) {
	return get[Run](ctx, c, "/api/runs/"+segment(id))
}

// RunQuery selects runs for a list; what is empty selects nothing away.
type RunQuery struct {
	Unit, State, Model, Site, Person, Outcome, Release string
	Job                                                uint64
	From, To                                           string // days
	After                                              string // Next of the page before
	Size                                               int
}

// Runs lists a page of runs, the newest first.
func (c *Client) Runs(ctx context.Context, in RunQuery) (Runs, error) {
	q := url.Values{}
	for name, value := range map[string]string{"unit": in.Unit, "state": in.State, "model": in.Model, "site": in.Site, "person": in.Person, "outcome": in.Outcome, "release": in.Release, "from": in.From, "to": in.To, "after": in.After} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if in.Job != 0 {
		q.Set("job", fmt.Sprint(in.Job))
	}
	if in.Size != 0 {
		q.Set("limit", fmt.Sprint(in.Size))
	}
	return get[Runs](ctx, c, "/api/runs?"+q.Encode())
}

// SupportRun gets one file that explains a run to somebody who was not there, a zip.
func (c *Client) SupportRun(ctx context.Context, id string) (zip []byte, err error) {
	err = c.call(ctx, "GET", "/api/runs/"+segment(id)+"/support.zip", nil, &zip)
	return zip, err
}

// StopRun orders a run to stop after the action in hand.
func (c *Client) StopRun(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/runs/"+segment(id)+"/stop", nil, nil)
}

// ResumeRun takes a paused run up again.
func (c *Client) ResumeRun(ctx context.Context, id string, in Resume) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/resume", in)
}

// Admission asks what would stop a run.
func (c *Client) Admission(ctx context.Context, n NewRun) (Admission, error) {
	return post[Admission](ctx, c, "/api/admission", n)
}

// LayAside lets a run wait for days, and gives its link back.
func (c *Client) LayAside(ctx context.Context, id string, in LayAside) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/lay-aside", in)
}

// AbandonRun closes a paused run by its bench, with a reason.
func (c *Client) AbandonRun(ctx context.Context, id, reason string) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/abandon", Reason{Reason: reason})
}

// ReleaseRun gives up a run whose bench does not come back.
func (c *Client) ReleaseRun(ctx context.Context, id, reason string) error {
	return c.call(ctx, "POST", "/api/runs/"+segment(id)+"/release", Reason{reason}, nil)
}

// FollowRun calls got for each message of a run's live stream, from the event
// after on. It returns when the run is closed, got returns false, or the context
// ends; a lost connection is taken up again where it was.
func (c *Client) FollowRun(ctx context.Context, id string, after uint64, got func(Progress) bool) error {
	return c.Follow(ctx, "/api/runs/"+segment(id)+"/events", after, func(event, _ string, data []byte) (uint64, bool, error) {
		if event != "progress" {
			return 0, true, nil
		}
		var p Progress
		if err := json.Unmarshal(data, &p); err != nil {
			return 0, false, err
		}
		more := got(p) && p.View.Step != run.PhaseEnded
		return p.Last, more, nil
	})
}

// NewRun opens a run.
type NewRun struct {
	Kind        string            `json:"kind" enum:"flash,restore,backup,settings"`
	At          string            `json:"at" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Release     string            `json:"release,omitempty" maxLength:"64" doc:"Version or id; the recommended one where it is empty."`
	Backup      string            `json:"backup,omitempty" maxLength:"64" doc:"Id or the start of its digest; the newest where it is empty."`
	Header      string            `json:"header,omitempty" maxLength:"120" doc:"The link (BENCH/NAME) of a helper tool at the unit's programming header, around its own loader; label says then which unit it is, and at is its own lead."`
	Label       string            `json:"label,omitempty" maxLength:"64" doc:"The serial on the label, confirmed by the person, where the wire does not tell it."`
	Again       bool              `json:"again,omitempty" doc:"Write although the unit runs this version."`
	Reason      string            `json:"reason,omitempty" maxLength:"400"`
	Job         uint64            `json:"job,omitempty" doc:"The job that it belongs to; where it is empty the open job of the unit, or one of its own."`
	Asked       string            `json:"asked,omitempty" maxLength:"120" doc:"Who asked for it, where it makes a job of its own."`
	Waive       []string          `json:"waive,omitempty" doc:"Gates that a lead passes by name, with the reason: backup, protection, needs, adapter, procedure, release."`
	Set         map[string]string `json:"set,omitempty" doc:"Settings that somebody wants to be so, whatever they were."`
	Like        string            `json:"like,omitempty" maxLength:"120" doc:"A unit of the model (id or serial) whose settings it is to have; where that one is on its network stays its own."`
	Reset       bool              `json:"reset,omitempty" doc:"Of a run of settings: what the sheet has a default for goes back to it."`
	ProfileWins bool              `json:"profileWins,omitempty" doc:"What the site's profile and the model's template have counts before what the unit has, and does not only fill what is asked."`
	// Links are the further links of a unit that has sections on links of their own.
	Links map[string]string `json:"links,omitempty" doc:"The name that the model's sheet gives a further link, to the link (BENCH/NAME) that it is."`
}

// Admission says whether a run may begin, and all that would stop it.
type Admission struct {
	Unit    string         `json:"unit"`
	Link    string         `json:"link"`
	Version string         `json:"version,omitempty" doc:"That would be put in, or brought back."`
	Bars    []admit.Bar    `json:"bars" nullable:"false" doc:"What stops it; empty where nothing does."`
	Parts   []AdmittedPart `json:"parts" nullable:"false" doc:"What it would read or write, in order; empty while something stops it."`
	Uses    []string       `json:"uses,omitempty" doc:"Entitlements of which it uses one up."`
	Job     uint64         `json:"job,omitempty" doc:"That it belongs to; empty where it makes its own."`
	Reason  string         `json:"reason,omitempty" doc:"The job's, or the one that was given."`
	Asked   string         `json:"asked,omitempty"`
	Test    string         `json:"test,omitempty" doc:"What the job wants tried at the end."`
	Left    []run.Left     `json:"left,omitempty" doc:"Parts that the job leaves as they are."`
	Waived  []run.Waiver   `json:"waived,omitempty" doc:"What is passed by name or with a lead's consent."`
	Asks    []AskedLink    `json:"asks,omitempty" doc:"Further links that the unit's parts are behind: each is named in links."`
}

// AskedLink is a link of a unit beside the one at which it is identified.
type AskedLink struct {
	Name  string `json:"name" doc:"As the sheet has it; the key in links."`
	Title string `json:"title" doc:"The parts behind it."`
}

// AdmittedPart is a section that a run would go through.
type AdmittedPart struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Link  string `json:"link,omitempty"`
	Files bool   `json:"files,omitempty"`
}

// Resume takes a paused run up again.
type Resume struct {
	Label  string            `json:"label,omitempty" maxLength:"64" doc:"The serial on the label, where the wire does not tell it."`
	At     string            `json:"at,omitempty" maxLength:"120" doc:"The link (BENCH/NAME) that the unit is on now; the one before where it is empty. It may be another bench's."`
	Links  map[string]string `json:"links,omitempty" doc:"As for opening a run, where they changed."`
	Slower bool              `json:"slower,omitempty" doc:"Its loaders stay at the speed at which they are called, until it is closed."`
}

// LayAside lets a run wait for days.
type LayAside struct {
	Place  string `json:"place" minLength:"1" maxLength:"120" doc:"Where the unit is meanwhile."`
	Holder string `json:"holder" minLength:"1" maxLength:"120" doc:"Who has it."`
	Why    string `json:"why,omitempty" maxLength:"400"`
}

// Run is a run and how it stands.
type Run struct {
	ID        string          `json:"id"`
	Kind      string          `json:"kind" enum:"flash,restore,backup,settings"`
	Unit      Unit            `json:"unit"`
	Bench     string          `json:"bench"`
	Link      string          `json:"link"`
	Online    bool            `json:"online" doc:"Whether its bench is in touch."`
	By        string          `json:"by"`
	Job       uint64          `json:"job,omitempty"`
	OwnJob    bool            `json:"ownJob,omitempty" doc:"The job was made by this run."`
	Reason    string          `json:"reason,omitempty" doc:"The job's reason."`
	Asked     string          `json:"asked,omitempty" doc:"Who asked for the job."`
	Given     string          `json:"given,omitempty" doc:"What was said for this run beside the job's reason; of one run alone."`
	State     string          `json:"state" enum:"open,paused,closed"`
	Outcome   string          `json:"outcome"`
	Release   string          `json:"release,omitempty"`
	Version   string          `json:"version,omitempty"`
	Channel   string          `json:"channel,omitempty"`
	Source    string          `json:"source,omitempty" doc:"The backup that is put back."`
	From      string          `json:"from"`
	To        string          `json:"to"`
	Backup    string          `json:"backup,omitempty" doc:"Digest of its backup's manifest."`
	BackupID  string          `json:"backupId,omitempty"`
	BackupHow string          `json:"backupHow,omitempty"`
	BackupOf  uint64          `json:"backupBytes,omitempty"`
	Halves    int             `json:"halves"`
	Opened    time.Time       `json:"opened"`
	Closed    *time.Time      `json:"closed,omitempty"`
	Sectors   []Sector        `json:"sectors" nullable:"false"`
	Progress  Progress        `json:"progress"`
	Verdict   *fit.Verdict    `json:"verdict,omitempty"`
	Record    *history.Record `json:"record,omitempty"`
	Signed    bool            `json:"signed" doc:"Its record was signed by its bench."`
	Answers   []Answered      `json:"answers" nullable:"false" doc:"What people and the tool answered to the procedure's items."`
	Sides     []Sides         `json:"sides" nullable:"false" doc:"As found and as left, by question and by picture."`
	Relabel   bool            `json:"relabel" doc:"Its unit tells no serial: the label must be read anew before the run goes on."`
	Procedure string          `json:"procedure,omitempty"`
	Waiver    *run.Waiver     `json:"waiver,omitempty"`
	Settings  *run.Settings   `json:"settings,omitempty" doc:"That the unit gave before it was changed; secret values are sealed."`
	Setup     *Setup          `json:"setup,omitempty" doc:"How its settings stand, where its sheet describes them."`
	Settled   *run.Settled    `json:"settled,omitempty" doc:"How they stand after they were put back."`
	WaivedBy  string          `json:"waivedBy,omitempty" doc:"Name of who passed a gate."`
	After     *After          `json:"after,omitempty" doc:"What follows from how it ended, as the unit stands now; of its newest run only."`
}

// After is what follows from how a run ended.
type After struct {
	core.Said
	core.Todo
}

// Answered is an item of the procedure with its answer.
type Answered struct {
	Item  string    `json:"item"`
	Stage string    `json:"stage" doc:"Of the procedure: hazard, tool, prepare, found, connect, power, left."`
	Says  string    `json:"says"`
	Value string    `json:"value"`
	Note  string    `json:"note,omitempty"`
	Whose string    `json:"whose,omitempty"`
	Due   string    `json:"due,omitempty"`
	Photo string    `json:"photo,omitempty"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`

	Wires procedure.Colours `json:"wires,omitempty"`
}

// Sides is what was seen before the work and after it.
type Sides struct {
	Says  string    `json:"says"`
	Do    string    `json:"do"`
	Found *Answered `json:"found,omitempty"`
	Left  *Answered `json:"left,omitempty"`
	Other bool      `json:"other" doc:"Both are there, and the answer is another one."`
}

// NewAnswer is a person's answer to the item that a run waits for.
type NewAnswer struct {
	Item  string `json:"item" minLength:"1" maxLength:"140"`
	Value string `json:"value" minLength:"1" maxLength:"4096" doc:"yes, no, a choice, a number, the value of a setting, excused; offered for the secret that was made for a setting; elsewhere for a test that is not possible here"`
	Note  string `json:"note,omitempty" maxLength:"400"`
	Whose string `json:"whose,omitempty" maxLength:"120" doc:"Of a test that is not possible here: the person who answers it."`
	Due   string `json:"due,omitempty" maxLength:"10" doc:"And until when: a day, as 2027-01-31."`
	Photo string `json:"photo,omitempty" maxLength:"64" doc:"Digest of evidence that was sent."`

	Wires procedure.Colours `json:"wires,omitempty" doc:"Colours that the wires have this time, by the unit's pin."`
}

// Runs is a list of runs.
type Runs struct {
	Runs []Run `json:"runs" nullable:"false"`
	Paged
}

// Told is an event with what it tells a person; nothing where it tells nothing.
type Told struct {
	run.Event
	core.Said
}

// Progress is a message of a run's live stream: new events, and how the run
// stands after them.
type Progress struct {
	Last    uint64     `json:"last" doc:"Number of the last event."`
	Events  []Told     `json:"events" nullable:"false"`
	View    run.View   `json:"view"`
	States  string     `json:"states" doc:"One letter a sector, as in Strip."`
	Fault   *run.Fault `json:"fault,omitempty"`
	Outcome string     `json:"outcome"`
	// Of a run that is open, what its ends would leave.
	IfStopped *core.Said `json:"ifStopped,omitempty" doc:"What a stop would leave."`
	IfGivenUp *core.Said `json:"ifGivenUp,omitempty" doc:"What giving it up would leave."`
}

// Reason is a person's reason.
type Reason struct {
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
}
