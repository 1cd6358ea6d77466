package client

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"zealousferry/core"
)

// PutEvidence keeps a photo.
func (c *Client) PutEvidence(ctx context.Context, kind string, data []byte) (Kept, error) {
	return post[Kept](ctx, c, "/api/evidence?kind="+url.QueryEscape(kind), data)
}

// RemoveEvidence removes a photo or text for good.
func (c *Client) RemoveEvidence(ctx context.Context, digest, reason string) error {
	return c.call(ctx, "POST", "/api/evidence/"+segment(digest)+"/remove", Reason{reason}, nil)
}

// Evidence is a photo or text that was kept, by its digest.
func (c *Client) Evidence(ctx context.Context, digest string) (data []byte, err error) {
	err = c.call(ctx, "GET", "/api/evidence/"+segment(digest), nil, &data)
	return data, err
}

// Units lists a page of units.
func (c *Client) Units(ctx context.Context, words, after string, size int) (Units, error) {
	return c.UnitsIn(ctx, "", "", words, after, size)
}

// UnitsIn is Units of those that stand so, and of those of a model; of all where it is empty.
func (c *Client) UnitsIn(ctx context.Context, state, model, words, after string, size int) (Units, error) {
	return get[Units](ctx, c, "/api/units?"+url.Values{"state": {state}, "model": {model}, "q": {words}, "after": {after}, "size": {fmt.Sprint(size)}}.Encode())
}

// Unit is a unit by id or serial.
func (c *Client) Unit(ctx context.Context, unit string) (UnitPage, error) {
	return get[UnitPage](ctx, c, "/api/units/"+segment(unit))
}

// History is the newest page of a unit's history.
func (c *Client) History(ctx context.Context, unit string) (History, error) {
	return c.HistoryBefore(ctx, unit, 0)
}

// HistoryBefore is the page before an entry, by its number.
func (c *Client) HistoryBefore(ctx context.Context, unit string, before uint64) (History, error) {
	return get[History](ctx, c, fmt.Sprintf("/api/units/%s/history?before=%d", segment(unit), before))
}

// Backups lists a unit's backups.
func (c *Client) Backups(ctx context.Context, unit string) (Backups, error) {
	return whole(ctx, c, "/api/units/"+segment(unit)+"/backups", func(all *Backups, p Backups) { all.Backups = append(all.Backups, p.Backups...) })
}

// Memory is a unit's memory against a release.
func (c *Client) Memory(ctx context.Context, unit, release string) (Strip, error) {
	return get[Strip](ctx, c, "/api/units/"+segment(unit)+"/memory?release="+url.QueryEscape(release))
}

// Note adds facts that a label or a person says.
func (c *Client) Note(ctx context.Context, unit string, n Noted) error {
	return c.call(ctx, "POST", "/api/units/"+segment(unit)+"/facts", n, nil)
}

// FactValue is a fact's best value and where it comes from.
type FactValue struct {
	Called string    `json:"called,omitempty" doc:"What the fact is called within a sentence."`
	Value  string    `json:"value"`
	Source string    `json:"source" enum:"wire,label,person,record,sheet"`
	At     time.Time `json:"at"`
	By     string    `json:"by,omitempty" doc:"Name of the person who said it."`
	Photo  string    `json:"photo,omitempty" doc:"Digest of the evidence behind it."`
}

// Unit is one physical thing.
type Unit struct {
	ID         string     `json:"id"`
	Model      string     `json:"model"`
	ModelName  string     `json:"modelName"`
	Serial     string     `json:"serial"`
	Site       string     `json:"site"`
	Customer   string     `json:"customer,omitempty"`
	Note       string     `json:"note,omitempty"`
	Revision   string     `json:"revision"`
	Running    string     `json:"running"`
	State      string     `json:"state" enum:"known,done,half-done,not-proven,do-not-use,set-apart"`
	Run        string     `json:"run,omitempty" doc:"The run that is open on it."`
	Link       string     `json:"link,omitempty" doc:"The link on which it was last identified."`
	LinkState  string     `json:"linkState,omitempty"`
	Identified *time.Time `json:"identified,omitempty"`
	Entered    time.Time  `json:"entered"`
	Seen       *time.Time `json:"seen,omitempty"`
	Withdrawn  string     `json:"withdrawn,omitempty" doc:"Why the release that it runs was taken back; empty where it was not."`
	Due        string     `json:"due,omitempty" doc:"The version that should be in it by its rules and by what the team has decided, while another one runs. It is renewed some seconds after something changes."`
	SameAs     string     `json:"sameAs,omitempty" doc:"Id of the unit that this one is: it was entered twice."`
	Mistake    string     `json:"mistake,omitempty" doc:"Why it was never there."`
	Held       *Hold      `json:"held,omitempty" doc:"The release at which it is to stay."`
}

// Units is a page of units.
type Units struct {
	Units   []Unit `json:"units" nullable:"false"`
	Judging bool   `json:"judging,omitempty" doc:"Of those that are behind: some units have not been judged yet since something changed; they may be missing, or be here in vain."`
	Paged
}

// Paged tells of a page of a list. Lists are read by key: the next page is asked for with after.
type Paged struct {
	Total int    `json:"total" doc:"How many match, as far as they were counted."`
	More  bool   `json:"more" doc:"There are more than that."`
	Next  string `json:"next" doc:"What the next page is asked for with; empty at the end."`
}

func (p *Paged) page() *Paged { return p }

// whole reads a list page after page.
func whole[T any, P interface {
	*T
	page() *Paged
}](ctx context.Context, c *Client, path string, add func(all *T, p T)) (all T, err error) {
	sep := "?"
	if strings.Contains(path, "?") {
		sep = "&"
	}
	if all, err = get[T](ctx, c, path); err != nil {
		return all, err
	}
	of := P(&all).page()
	for of.Next != "" {
		p, err := get[T](ctx, c, path+sep+url.Values{"after": {of.Next}}.Encode())
		if err != nil {
			return all, err
		}
		add(&all, p)
		of.Next = P(&p).page().Next
	}
	return all, nil
}

// UnitPage is a unit with all that is known of it.
type UnitPage struct {
	Unit
	Facts   map[string]FactValue `json:"facts"`
	Fit     *Fit                 `json:"fit,omitempty"`
	Backups []Backup             `json:"backups" nullable:"false"`
	Last    *Found               `json:"last,omitempty"`

	SiteInfo  *Site      `json:"siteInfo,omitempty" doc:"The site that it is at."`
	Doubles   []Unit     `json:"doubles,omitempty" doc:"That were joined with it."`
	Tests     []OpenTest `json:"tests" nullable:"false" doc:"That it has still to pass."`
	Consents  []Consent  `json:"consents" nullable:"false" doc:"Of leads, that have not ended."`
	Bulletins []Bulletin `json:"bulletins" nullable:"false" doc:"That speak to it, by what its open jobs are for."`
	Jobs      []Job      `json:"jobs" nullable:"false" doc:"Open ones that it is in the scope of."`
	Owed      []Owed     `json:"owed" nullable:"false" doc:"What runs have left at it by name, until somebody says that it is done: changes for a while, findings, values that everybody knows."`
	Offers    []Offer    `json:"offers" nullable:"false" doc:"What was seen at it and not ordered, that nobody has decided on."`
	Sets      bool       `json:"sets,omitempty" doc:"Its model's sheet says what it can be set to."`
	Defaults  bool       `json:"defaults,omitempty" doc:"And to what it can be put back."`
	Header    string     `json:"header,omitempty" doc:"The programming header through which a helper tool reaches its memory around its own loader; empty where its sheet names none."`
}

// Found is as found and as left, of the last run.
type Found struct {
	Run     string         `json:"run"`
	Kind    string         `json:"kind"`
	At      time.Time      `json:"at"`
	Outcome string         `json:"outcome"`
	Found   []core.Fact    `json:"found" nullable:"false"`
	From    string         `json:"from"`
	To      string         `json:"to"`
	Sectors map[string]int `json:"sectors" doc:"Count of sectors by what became of them."`
}

// Backup is a stored reading of a unit's memory.
type Backup struct {
	ID      string      `json:"id"`
	Digest  core.Digest `json:"digest"`
	Run     string      `json:"run"`
	Bytes   uint64      `json:"bytes"`
	Running string      `json:"running" doc:"The version that the unit ran."`
	How     string      `json:"how" enum:"unit-digest,read-twice" doc:"How it was verified."`
	Taken   time.Time   `json:"taken"`
	Name    string      `json:"name,omitempty" doc:"That people gave it."`
	Ruin    bool        `json:"ruin,omitempty" doc:"It holds what an interrupted write had left: kept as evidence, and no way back."`
}

// Backups is a unit's backups.
type Backups struct {
	Unit    string   `json:"unit"`
	Backups []Backup `json:"backups" nullable:"false"`

	References []Reference `json:"references" nullable:"false" doc:"Runs that could not read the memory, and what stands for its backup; with the first page."`
	Paged
}

// Reference is a backup by reference: the release that a unit ran when its memory
// could not be read. The catalogue keeps its image.
type Reference struct {
	Run     string    `json:"run"`
	Version string    `json:"version"`
	At      time.Time `json:"at"`
}

// Sector is one cell of the strip.
type Sector struct {
	Address uint64 `json:"address"`
	Length  uint64 `json:"length"`
	Region  string `json:"region"`
}

// Strip is a unit's memory against a release.
type Strip struct {
	Sectors []Sector  `json:"sectors" nullable:"false"`
	States  string    `json:"states" doc:"One letter a sector: a right already, e to erase, w writing, W written, v verified, k kept, d differs."`
	Against string    `json:"against"`
	Read    time.Time `json:"read"`
}

// Entry is one line of a unit's history.
type Entry struct {
	N       uint64      `json:"n"`
	At      time.Time   `json:"at" doc:"When it happened."`
	Entered time.Time   `json:"entered" doc:"When it came into the history."`
	Place   *uint64     `json:"place,omitempty" doc:"Where it stands in the tree, from 0; an entry that came just now waits for one."`
	Kind    string      `json:"kind"`
	Title   core.Said   `json:"title" doc:"What happened, in words."`
	By      string      `json:"by"`
	From    string      `json:"from"`
	To      string      `json:"to"`
	Outcome string      `json:"outcome"`
	Reason  string      `json:"reason"`
	Run     string      `json:"run,omitempty"`
	Bench   string      `json:"bench,omitempty"`
	Job     uint64      `json:"job,omitempty"`
	Why     string      `json:"why,omitempty" doc:"The job's reason."`
	Asked   string      `json:"asked,omitempty" doc:"Who asked for the job."`
	Tells   []core.Said `json:"tells,omitempty" doc:"What else the record says: tests, what is owed, gates passed by name, parts left as they are."`
	Halves  int         `json:"halves,omitempty" doc:"How often a bench took the run up."`
	Overlap bool        `json:"overlap,omitempty" doc:"Another run of the unit was open at the same time."`
	Hash    core.Digest `json:"hash"`
}

// History is a unit's record.
type History struct {
	Unit     string      `json:"unit" doc:"Serial."`
	ID       string      `json:"id"`
	Model    string      `json:"model"`
	Chain    string      `json:"chain" enum:"intact,broken"`
	Findings []core.Said `json:"findings" nullable:"false" doc:"What the checker found; empty for an intact chain."`
	Entries  []Entry     `json:"entries" nullable:"false"`
	Total    uint64      `json:"total" doc:"Entries of the whole history."`
	Before   uint64      `json:"before,omitempty" doc:"Number to ask the page of older ones with; 0 where there are none."`
	Tree     *Tree       `json:"tree,omitempty" doc:"The checkpoint in whose tree the entries were proven to be."`
}

// Noted are facts that a person adds.
type Noted struct {
	Facts []NotedFact `json:"facts" minItems:"1" maxItems:"20"`
}

// NotedFact is one of them.
type NotedFact struct {
	Name   string `json:"name" pattern:"^[a-z][a-z0-9-]{0,39}$"`
	Value  string `json:"value" minLength:"1" maxLength:"120"`
	Source string `json:"source" enum:"label,person"`
	Photo  string `json:"photo,omitempty" maxLength:"64" doc:"Digest of evidence that was sent."`
}

// NewUnit is a unit that a person enters before anybody has seen it on a wire.
type NewUnit struct {
	Model    string `json:"model" minLength:"1" maxLength:"63"`
	Serial   string `json:"serial" minLength:"1" maxLength:"64"`
	Site     string `json:"site,omitempty" maxLength:"120"`
	Customer string `json:"customer,omitempty" maxLength:"120"`
	Note     string `json:"note,omitempty" maxLength:"400"`
}

// Entered is what came of it.
type Entered struct {
	Unit
	Fresh bool `json:"fresh" doc:"False: it was in the register already, and stays as it was."`
}

// Correction changes what the register says of a unit; what is left out stays.
type Correction struct {
	Site     *string `json:"site,omitempty" maxLength:"120"`
	Customer *string `json:"customer,omitempty" maxLength:"120"`
	Note     *string `json:"note,omitempty" maxLength:"400"`
	Reason   string  `json:"reason,omitempty" maxLength:"400" doc:"Why; it stands in the unit's history."`
}

// Report is what came of a list of units, line by line.
type Report struct {
	Lines   []ReportLine `json:"lines" nullable:"false"`
	Entered int          `json:"entered"`
	Known   int          `json:"known" doc:"In the register already."`
	Refused int          `json:"refused"`
}

// ReportLine is a line of the list.
type ReportLine struct {
	Line   int    `json:"line" doc:"Of the file, from 1."`
	Model  string `json:"model"`
	Serial string `json:"serial"`
	Unit   string `json:"unit,omitempty" doc:"Id."`
	State  string `json:"state" enum:"entered,known,refused"`
	core.Said
}

// EnterUnit enters a unit into the register.
func (c *Client) EnterUnit(ctx context.Context, u NewUnit) (Entered, error) {
	return post[Entered](ctx, c, "/api/units", u)
}

// EnterUnits enters the units of a CSV file.
func (c *Client) EnterUnits(ctx context.Context, csv []byte) (r Report, err error) {
	err = c.call(ctx, "POST", "/api/units/list", csv, &r)
	return r, err
}

// CorrectUnit changes what the register says of a unit.
func (c *Client) CorrectUnit(ctx context.Context, unit string, x Correction) (Unit, error) {
	return post[Unit](ctx, c, "/api/units/"+segment(unit)+"/correct", x)
}
