// Package client is the typed client of our own HTTP API, and the shapes that
// go over it. The command line and the bench use it; the console's types are
// generated from the same shapes.
package client

import (
	"fmt"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/diagnose"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/image"
	"zealousferry/core/link/monitor"
	"zealousferry/core/link/ports"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
)

// Problem is an error on the wire, RFC 9457, with our kinds.
type Problem struct {
	Type   string    `json:"type" doc:"about:blank"`
	Title  string    `json:"title"`
	Status int       `json:"status"`
	Detail string    `json:"detail" doc:"What happened."`
	Kind   core.Kind `json:"kind" doc:"One of the kinds in docs/api.md."`
	State  string    `json:"state,omitempty" doc:"The state that the unit is in."`
	Next   string    `json:"next,omitempty" doc:"What to do next."`
	Place  string    `json:"place,omitempty" enum:"line,offset" doc:"What at counts, where a file is bad."`
	At     int64     `json:"at,omitempty"`
}

// Person is somebody of the team.
type Person struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Role string `json:"role" enum:"technician,lead,viewer"`
}

// Link is a way to a unit.
type Link struct {
	Link       string     `json:"link" doc:"BENCH/NAME"`
	Bench      string     `json:"bench"`
	Name       string     `json:"name"`
	Kind       string     `json:"kind"`
	State      string     `json:"state" enum:"free,busy,offline"`
	Run        string     `json:"run,omitempty" doc:"The run that has it."`
	Unit       string     `json:"unit,omitempty" doc:"Id of the unit last identified on it."`
	Serial     string     `json:"serial,omitempty"`
	Model      string     `json:"model,omitempty"`
	Site       string     `json:"site,omitempty"`
	Identified *time.Time `json:"identified,omitempty"`
	Adapter    string     `json:"adapter,omitempty" doc:"Serial of the adapter that the bench has on it."`
	Checked    *time.Time `json:"checked,omitempty" doc:"When it was proved last."`
	Class      string     `json:"class,omitempty" doc:"What the last check saw; sound for a good link."`
}

// Links is a list of links.
type Links struct {
	Links []Link `json:"links" nullable:"false"`
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
}

// Code is a one-use code, shown once.
type Code struct {
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
}

// FactValue is a fact's best value and where it comes from.
type FactValue struct {
	Value  string    `json:"value"`
	Source string    `json:"source" enum:"wire,label,person,record,sheet"`
	At     time.Time `json:"at"`
	By     string    `json:"by,omitempty" doc:"Name of the person who said it."`
	Photo  string    `json:"photo,omitempty" doc:"Digest of the evidence behind it."`
}

// Identity is what was found on a link.
type Identity struct {
	Link      string               `json:"link"`
	Unit      string               `json:"unit,omitempty" doc:"Id in the register; empty where the serial is not known."`
	Serial    string               `json:"serial,omitempty"`
	Model     string               `json:"model"`
	ModelName string               `json:"modelName"`
	Site      string               `json:"site,omitempty"`
	Strength  string               `json:"strength"`
	Facts     map[string]FactValue `json:"facts"`
	Missing   []string             `json:"missing" nullable:"false" doc:"Names of facts that releases of this model ask for and nobody knows."`
	Disagree  []string             `json:"disagree" nullable:"false" doc:"Names of facts on which the wire and the label disagree."`
}

// Fit is the verdict on every release of a unit's model.
type Fit struct {
	Link      string        `json:"link,omitempty"`
	Unit      string        `json:"unit"`
	Serial    string        `json:"serial"`
	Model     string        `json:"model"`
	ModelName string        `json:"modelName"`
	Site      string        `json:"site,omitempty"`
	Running   string        `json:"running"`
	State     string        `json:"state,omitempty" doc:"half-done where its memory is partly written, not-proven where it is written and nobody has seen it run."`
	Verdicts  []fit.Verdict `json:"verdicts" nullable:"false"`
	Question  *fit.Question `json:"question,omitempty"`
	Inside    *Inside       `json:"inside,omitempty" doc:"What its memory holds, by the newest backup."`
	Needs     []fit.Need    `json:"needs" nullable:"false" doc:"What the job wants first, for the release that is recommended or asked for."`
	NeedsFor  string        `json:"needsFor,omitempty"`
	Day       *time.Time    `json:"day,omitempty" doc:"The day that needs are judged for."`
	Sisters   []string      `json:"sisters" nullable:"false" doc:"Models that are easily taken for this one, in words."`
	Matrix    *Matrix       `json:"matrix,omitempty"`
}

// Matrix is the verdict on each release for each revision, by the revision alone.
type Matrix struct {
	Fact      string         `json:"fact" doc:"What the columns are, e.g. revision."`
	Columns   []MatrixColumn `json:"columns" nullable:"false"`
	Rows      []MatrixRow    `json:"rows" nullable:"false"`
	ColumnNow string         `json:"columnNow,omitempty" doc:"The unit's own column, where it is known."`
}

// MatrixColumn is one value of the fact.
type MatrixColumn struct {
	Value    string `json:"value"`
	Possible bool   `json:"possible" doc:"The unit may be of it."`
	Flaw     string `json:"flaw,omitempty" doc:"What is known to be wrong with it."`
	Target   string `json:"target,omitempty" doc:"The version that the team has chosen for it."`
	Units    int    `json:"units" doc:"How many units in the register are of it."`
}

// MatrixRow is a release.
type MatrixRow struct {
	Release   string     `json:"release"`
	Version   string     `json:"version"`
	Number    string     `json:"number,omitempty"`
	Channel   string     `json:"channel" enum:"stable,candidate"`
	Withdrawn bool       `json:"withdrawn"`
	Runs      bool       `json:"runs" doc:"The unit runs it."`
	Cells     []fit.Cell `json:"cells" nullable:"false"`
	Unit      *fit.Cell  `json:"unit,omitempty" doc:"The verdict for this unit."`
}

// Inside is what a unit's memory holds, found by content.
type Inside struct {
	Backup  string     `json:"backup" doc:"Id."`
	Taken   time.Time  `json:"taken"`
	Known   bool       `json:"known" doc:"False: no image of the catalogue; main is then the nearest."`
	Main    *InsideOf  `json:"main,omitempty"`
	Others  []InsideOf `json:"others" nullable:"false"`
	Unknown []string   `json:"unknown" nullable:"false" doc:"Regions with content that no image explains."`
	Partly  bool       `json:"partly" doc:"Of some of it nobody knows what it holds: a run is open, or did not end well."`
	Parts   []InPart   `json:"parts" nullable:"false" doc:"Every section of which something is known, in the order of the sheet."`
	Says    string     `json:"says" doc:"What the unit said that it ran."`
	Lies    bool       `json:"lies" doc:"Another version than it says."`
	Text    string     `json:"text"`
}

// InPart is what is known of a section.
type InPart struct {
	Section string    `json:"section"`
	Title   string    `json:"title"`
	Known   int       `json:"known" doc:"Sectors, or files, whose content is known by digest."`
	Of      int       `json:"of" doc:"Sectors, or files, in all."`
	Partly  bool      `json:"partly"`
	Release string    `json:"release,omitempty" doc:"Version whose part for this section it holds, byte for byte."`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
}

// InsideOf is an image found in a memory.
type InsideOf struct {
	Release string   `json:"release"`
	Version string   `json:"version"`
	Model   string   `json:"model"`
	Part    string   `json:"part"`
	Same    int      `json:"same" doc:"Pieces of 4 KiB found where they belong."`
	Of      int      `json:"of"`
	Differs []uint64 `json:"differs" nullable:"false" doc:"Addresses of pieces that are not what the image says."`
	Where   []string `json:"where" nullable:"false" doc:"Regions in which those lie."`
}

// Unit is one physical thing.
type Unit struct {
	ID         string     `json:"id"`
	Model      string     `json:"model"`
	ModelName  string     `json:"modelName"`
	Serial     string     `json:"serial"`
	Site       string     `json:"site"`
	Revision   string     `json:"revision"`
	Running    string     `json:"running"`
	State      string     `json:"state" enum:"known,done,half-done,not-proven,do-not-use,set-apart"`
	Run        string     `json:"run,omitempty" doc:"The run that is open on it."`
	Link       string     `json:"link,omitempty" doc:"The link on which it was last identified."`
	LinkState  string     `json:"linkState,omitempty"`
	Identified *time.Time `json:"identified,omitempty"`
	Entered    time.Time  `json:"entered"`
	Seen       *time.Time `json:"seen,omitempty"`
}

// Units is a page of units.
type Units struct {
	Units []Unit `json:"units" nullable:"false"`
	Total int    `json:"total"`
	Page  int    `json:"page"`
	Size  int    `json:"size"`
}

// UnitPage is a unit with all that is known of it.
type UnitPage struct {
	Unit
	Facts   map[string]FactValue `json:"facts"`
	Fit     *Fit                 `json:"fit,omitempty"`
	Backups []Backup             `json:"backups" nullable:"false"`
	Last    *Found               `json:"last,omitempty"`
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
	Ruin    bool        `json:"ruin,omitempty" doc:"It holds what an interrupted write had left: kept as evidence, and no way back."`
}

// Backups is a unit's backups.
type Backups struct {
	Unit    string   `json:"unit"`
	Backups []Backup `json:"backups" nullable:"false"`

	References []Reference `json:"references" nullable:"false" doc:"Runs that could not read the memory, and what stands for its backup."`
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
	Kind    string      `json:"kind"`
	By      string      `json:"by"`
	From    string      `json:"from"`
	To      string      `json:"to"`
	Outcome string      `json:"outcome"`
	Reason  string      `json:"reason"`
	Run     string      `json:"run,omitempty"`
	Bench   string      `json:"bench,omitempty"`
	Halves  int         `json:"halves,omitempty" doc:"How often a bench took the run up."`
	Overlap bool        `json:"overlap,omitempty" doc:"Another run of the unit was open at the same time."`
	Hash    core.Digest `json:"hash"`
}

// History is a unit's record.
type History struct {
	Unit     string   `json:"unit" doc:"Serial."`
	ID       string   `json:"id"`
	Model    string   `json:"model"`
	Chain    string   `json:"chain" enum:"intact,broken"`
	Findings []string `json:"findings" nullable:"false" doc:"What the checker found; empty for an intact chain."`
	Entries  []Entry  `json:"entries" nullable:"false"`
}

// Release is a release in the catalogue.
type Release struct {
	model.Release
	Document core.Digest `json:"document"`
	Trust    *Trust      `json:"trust,omitempty"`
}

// Releases is a page of releases.
type Releases struct {
	Releases []Release `json:"releases" nullable:"false"`
	Total    int       `json:"total"`
	Page     int       `json:"page"`
	Size     int       `json:"size"`
}

// Trust is who vouches for a release.
type Trust struct {
	State   string  `json:"state" enum:"signed,accepted,not-vouched"`
	Text    string  `json:"text"`
	Vouches []Vouch `json:"vouches" nullable:"false"`
}

// Vouch is somebody's word for a release.
type Vouch struct {
	How     string    `json:"how" enum:"signature,pack,person,before"`
	Who     string    `json:"who" doc:"Name of the key or the person."`
	Key     string    `json:"key,omitempty"`
	Reason  string    `json:"reason,omitempty"`
	Dated   time.Time `json:"dated"`
	Entered time.Time `json:"entered"`
	By      string    `json:"by,omitempty"`
	Counts  bool      `json:"counts"`
	Bars    string    `json:"bars,omitempty" doc:"Why it does not count."`
}

// ReleasePage is a release with all that is known of it.
type ReleasePage struct {
	Release
	ModelName    string         `json:"modelName"`
	Places       []PartPlace    `json:"places" nullable:"false"`
	Regions      []Region       `json:"regions" nullable:"false"`
	Units        []Unit         `json:"units" nullable:"false" doc:"The first 50 that say they run it."`
	UnitsTotal   int            `json:"unitsTotal"`
	SupersededBy []string       `json:"supersededBy" nullable:"false"`
	ReachedFrom  string         `json:"reachedFrom,omitempty" doc:"From which running versions it can be put in."`
	Targets      []Target       `json:"targets" nullable:"false" doc:"Where the team has chosen it."`
	Needs        []fit.Need     `json:"needs" nullable:"false"`
	RuleTexts    []string       `json:"ruleTexts" nullable:"false" doc:"What it fits, as sentences."`
	OriginTexts  []string       `json:"originTexts" nullable:"false"`
	Files        map[string]int `json:"files" doc:"Bytes of each image file, by its digest."`
}

// PartPlace is a part on the memory strip.
type PartPlace struct {
	Section string      `json:"section,omitempty" doc:"Of a model with several."`
	Name    string      `json:"name"`
	Image   core.Digest `json:"image"`
	Content core.Digest `json:"content"`
	File    string      `json:"file"`
	Format  string      `json:"format"`
	From    uint64      `json:"from"`
	To      uint64      `json:"to"`
	Bytes   uint64      `json:"bytes"`
	Regions []string    `json:"regions" nullable:"false"`
	Loader  bool        `json:"loader" doc:"It would write the boot loader."`
	Agrees  string      `json:"agrees" enum:"published,unpublished" doc:"Whether its maker publishes the checksum that it has."`
}

// Region is a stretch of a model's memory.
type Region struct {
	Name     string `json:"name"`
	Use      string `json:"use"`
	Address  uint64 `json:"address"`
	Length   uint64 `json:"length"`
	Sector   uint64 `json:"sector"`
	ReadOnly bool   `json:"readOnly"`
	Own      bool   `json:"own"`
}

// Model is a model in the catalogue.
type Model struct {
	Model    string      `json:"model"`
	Name     string      `json:"name"`
	Kind     string      `json:"kind"`
	Sheet    core.Digest `json:"sheet"`
	Bytes    uint64      `json:"bytes" doc:"Size of its memory."`
	Releases int         `json:"releases"`
	Units    int         `json:"units"`
	Newest   string      `json:"newest,omitempty" doc:"Its newest stable release."`

	Procedures     int      `json:"procedures"`
	Contradictions []string `json:"contradictions,omitempty" doc:"What its procedures disagree on; a lead settles it."`
	Alike          []string `json:"alike,omitempty" doc:"Models whose units would answer as this one's do; said when the sheet is put in force."`
}

// ModelSection is a part of a model's units.
type ModelSection struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	Link   string `json:"link,omitempty" doc:"Which of the unit's links, where it is not the one at which it is identified."`
	Loader string `json:"loader"`
	Bytes  uint64 `json:"bytes" doc:"Of its memory, or what its files may have together."`
	Files  int    `json:"files,omitempty" doc:"How many files it holds at most."`
}

// Models is a list of models.
type Models struct {
	Models []Model `json:"models" nullable:"false"`
	Total  int     `json:"total"`
}

// ModelPage is a model with its sheet and its matrix.
type ModelPage struct {
	Model
	SheetText string               `json:"sheetText" doc:"The sheet as it was sent."`
	Facts     map[string]ModelFact `json:"facts"`
	Sections  []ModelSection       `json:"sections" nullable:"false" doc:"Its parts, in the order in which they are written."`
	Holds     []ModelSlot          `json:"holds" nullable:"false" doc:"Places for other units."`
	Regions   []Region             `json:"regions" nullable:"false" doc:"Of the section with the unit's own program."`
	Flaws     []string             `json:"flaws" nullable:"false"`
	Sisters   []string             `json:"sisters" nullable:"false"`
	Wants     []fit.Need           `json:"wants" nullable:"false"`
	Targets   []Target             `json:"targets" nullable:"false"`
	Matrix    Matrix               `json:"matrix"`
}

// ModelSlot is a place in a unit for another unit.
type ModelSlot struct {
	Slot   string   `json:"slot"`
	Title  string   `json:"title"`
	Models []string `json:"models" nullable:"false"`
	Empty  bool     `json:"empty,omitempty" doc:"It may be empty."`
}

// ModelFact is a fact that releases of a model ask for.
type ModelFact struct {
	Values []string `json:"values" nullable:"false"`
	Ask    string   `json:"ask,omitempty"`
	Look   string   `json:"look,omitempty"`
}

// Target is the release that the team has chosen for a model and revision.
type Target struct {
	Model    string    `json:"model"`
	Revision string    `json:"revision"`
	Release  string    `json:"release,omitempty" doc:"Id."`
	Version  string    `json:"version,omitempty"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Reason   string    `json:"reason"`
}

// NewTarget chooses a release; without one the choice is open again.
type NewTarget struct {
	Model    string `json:"model"`
	Revision string `json:"revision"`
	Version  string `json:"version,omitempty"`
	Reason   string `json:"reason" minLength:"3" maxLength:"400"`
}

// NewRelease adds a release.
type NewRelease struct {
	Model      string              `json:"model"`
	Version    string              `json:"version"`
	Number     string              `json:"number,omitempty"`
	Channel    model.Channel       `json:"channel" enum:"stable,candidate"`
	Cures      string              `json:"cures,omitempty"`
	Changes    string              `json:"changes,omitempty"`
	Supersedes []string            `json:"supersedes,omitempty"`
	Floor      string              `json:"floor,omitempty"`
	Fits       map[string][]string `json:"fits,omitempty"`
	Rules      []model.Rule        `json:"rules,omitempty"`
	Wants      []model.Want        `json:"wants,omitempty"`
	Origin     *model.Origin       `json:"origin,omitempty"`
	Parts      []NewPart           `json:"parts"`
	Accept     string              `json:"accept,omitempty" maxLength:"400" doc:"Why the lead who adds it vouches for its images by name."`
}

// NewPart is a part of a new release, by the digest of an image that was sent.
type NewPart struct {
	Name    string       `json:"name"`
	Section string       `json:"section,omitempty" doc:"Of the unit; its main one where it is empty."`
	Runs    string       `json:"runs,omitempty" doc:"What that section's program says of itself once this is in it, where it is not the release's version."`
	Image   core.Digest  `json:"image"`
	Format  string       `json:"format,omitempty" doc:"Found by content where it is empty."`
	Address uint64       `json:"address,omitempty" doc:"Of the first byte, for formats that carry none."`
	Counts  image.Counts `json:"counts,omitempty" doc:"Which record counts where two give different bytes to one address: first, last."`
	Because string       `json:"because,omitempty" doc:"Why that one; kept in the origin by the lead's name."`
}

// Withdrawn is what a withdrawal meets.
type Withdrawn struct {
	Version string `json:"version"`
	Model   string `json:"model"`
	Units   []Unit `json:"units" nullable:"false" doc:"The first 200 units that say they run it."`
	Total   int    `json:"total"`
	Runs    int    `json:"runs" doc:"Open runs that were about to write it."`
}

// Signature is a detached JWS of a release's document.
type Signature struct {
	Signature string `json:"signature" maxLength:"4096"`
}

// Key is a key in the team's list.
type Key struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Public  []byte     `json:"public" doc:"Ed25519, base64."`
	From    time.Time  `json:"from"`
	Until   *time.Time `json:"until,omitempty"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Reason  string     `json:"reason,omitempty"`
	By      string     `json:"by"`
	State   string     `json:"state" enum:"trusted,not-yet,over,revoked"`
}

// Keys is the team's list.
type Keys struct {
	Keys []Key `json:"keys" nullable:"false"`
}

// NewKey puts a key into the list.
type NewKey struct {
	Name   string     `json:"name" minLength:"1" maxLength:"120"`
	Public []byte     `json:"public"`
	From   *time.Time `json:"from,omitempty"`
	Until  *time.Time `json:"until,omitempty"`
}

// Imported is what came of a release pack.
type Imported struct {
	Series   string    `json:"series"`
	Number   uint64    `json:"number"`
	Date     time.Time `json:"date"`
	By       string    `json:"by,omitempty" doc:"Name of the key that signed it."`
	Releases []Release `json:"releases" nullable:"false"`
	New      int       `json:"new" doc:"Releases that were not there yet."`
}

// Gear is what the team has for its jobs.
type Gear struct {
	Gear []fit.Have `json:"gear" nullable:"false"`
}

// NewGear adds a thing, or changes the one with the id.
type NewGear struct {
	ID      string     `json:"id,omitempty"`
	Kind    string     `json:"kind" enum:"accessory,cable,adapter,software,entitlement"`
	Name    string     `json:"name" minLength:"1" maxLength:"80"`
	Version string     `json:"version,omitempty" maxLength:"40"`
	Owner   string     `json:"owner" minLength:"1" maxLength:"120"`
	Expires *time.Time `json:"expires,omitempty"`
	Left    *int       `json:"left,omitempty" minimum:"0"`
	Cost    string     `json:"cost,omitempty" maxLength:"40"`
	Note    string     `json:"note,omitempty" maxLength:"400"`
}

// Kept is evidence that was stored.
type Kept struct {
	Digest core.Digest `json:"digest"`
}

// Image is what an image file holds.
type Image struct {
	Digest   core.Digest `json:"sha256"`
	Bytes    int         `json:"bytes"`
	Format   string      `json:"format"`
	From     uint64      `json:"from"`
	To       uint64      `json:"to"`
	Payload  uint64      `json:"payload"`
	Warnings []string    `json:"warnings" nullable:"false"`
	Known    []Known     `json:"known,omitempty" doc:"Releases that have this image already."`
}

// Targets are the team's choices.
type Targets struct {
	Targets []Target `json:"targets" nullable:"false"`
}

// Inspection is what a firmware file holds, and what the catalogue knows of it.
type Inspection struct {
	Name   string      `json:"name,omitempty"`
	Format string      `json:"format"`
	Bytes  int64       `json:"bytes" doc:"Of the file."`
	SHA256 core.Digest `json:"sha256" doc:"Of the file."`
	Packed string      `json:"packed,omitempty" enum:"zip,gzip"`
	Member string      `json:"member,omitempty" doc:"The file in the archive."`
	image.Report
	Known  []Known `json:"known,omitempty" doc:"Releases that hold this image, or the nearest one."`
	Models []Size  `json:"models,omitempty" doc:"How it suits the memory of each model."`
}

// Known is a release that holds an image, or some of it.
type Known struct {
	Release string `json:"release" doc:"Id."`
	Model   string `json:"model"`
	Version string `json:"version"`
	Part    string `json:"part"`
	How     string `json:"how" enum:"same-file,same-image,nearest" doc:"Byte for byte, the same bytes in memory, or the most in common."`
	Same    int    `json:"same" doc:"Chunks of 4 KiB in common, for the nearest."`
	Of      int    `json:"of"`
}

// Words say it to a person.
func (k Known) Words() string {
	s := fmt.Sprintf("part %s of %s %s", k.Part, k.Model, k.Version)
	switch k.How {
	case "same-file":
		return s + ", the very file"
	case "same-image":
		return s + ", the same image in another file"
	}
	return fmt.Sprintf("not known; nearest is %s: %d of %d pieces of 4 KiB alike", s, k.Same, k.Of)
}

// Size says how an image suits a model's memory.
type Size struct {
	Model   string   `json:"model"`
	Name    string   `json:"name"`
	Memory  uint64   `json:"memory" doc:"Bytes from the first region on."`
	Inside  bool     `json:"inside" doc:"Every byte lies in a region."`
	Touches []string `json:"touches" nullable:"false" doc:"Regions that it would write."`
	Bars    string   `json:"bars,omitempty" doc:"Why it may not be written there."`
}

// Words say it to a person.
func (m Size) Words() string {
	switch {
	case m.Bars != "":
		return fmt.Sprintf("✗ %s: %s", m.Name, m.Bars)
	case !m.Inside:
		return fmt.Sprintf("✗ %s: reaches outside of its %d KiB", m.Name, m.Memory>>10)
	}
	return fmt.Sprintf("✓ %s, %d KiB: writes %s", m.Name, m.Memory>>10, strings.Join(m.Touches, ", "))
}

// NewRun opens a run.
type NewRun struct {
	Kind    string   `json:"kind" enum:"flash,restore,backup"`
	At      string   `json:"at" doc:"A link (BENCH/NAME) or a unit's serial."`
	Release string   `json:"release,omitempty" doc:"Version or id; the recommended one where it is empty."`
	Backup  string   `json:"backup,omitempty" doc:"Id or the start of its digest; the newest where it is empty."`
	Label   string   `json:"label,omitempty" doc:"The serial on the label, confirmed by the person, where the wire does not tell it."`
	Again   bool     `json:"again,omitempty" doc:"Write although the unit runs this version."`
	Reason  string   `json:"reason,omitempty"`
	Waive   []string `json:"waive,omitempty" doc:"Gates that a lead passes by name, with the reason: backup, protection, needs, adapter, procedure, release."`
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
	Label string            `json:"label,omitempty" maxLength:"64" doc:"The serial on the label, where the wire does not tell it."`
	At    string            `json:"at,omitempty" maxLength:"120" doc:"The link (BENCH/NAME) that the unit is on now; the one before where it is empty. It may be another bench's."`
	Links map[string]string `json:"links,omitempty" doc:"As for opening a run, where they changed."`
}

// LayAside lets a run wait for days.
type LayAside struct {
	Place  string `json:"place" minLength:"1" maxLength:"120" doc:"Where the unit is meanwhile."`
	Holder string `json:"holder" minLength:"1" maxLength:"120" doc:"Who has it."`
	Why    string `json:"why,omitempty" maxLength:"400"`
}

// Moved is a run's events for the bench that goes on with it.
type Moved struct {
	Events [][]byte `json:"events"`
}

// Run is a run and how it stands.
type Run struct {
	ID        string          `json:"id"`
	Kind      string          `json:"kind" enum:"flash,restore,backup"`
	Unit      Unit            `json:"unit"`
	Bench     string          `json:"bench"`
	Link      string          `json:"link"`
	Online    bool            `json:"online" doc:"Whether its bench is in touch."`
	By        string          `json:"by"`
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
	Settings  *run.Settings   `json:"settings,omitempty" doc:"That the unit gave, where its memory could not be saved."`
	Settled   *run.Settled    `json:"settled,omitempty" doc:"How they stand after they were put back."`
	WaivedBy  string          `json:"waivedBy,omitempty" doc:"Name of who passed a gate."`
}

// Answered is an item of the procedure with its answer.
type Answered struct {
	Item  string    `json:"item"`
	Stage string    `json:"stage" doc:"Of the procedure: hazard, tool, prepare, found, connect, power, left."`
	Says  string    `json:"says"`
	Value string    `json:"value"`
	Note  string    `json:"note,omitempty"`
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
	Item  string `json:"item" minLength:"1" maxLength:"40"`
	Value string `json:"value" minLength:"1" maxLength:"120" doc:"yes, no, a choice, a number, excused"`
	Note  string `json:"note,omitempty" maxLength:"400"`
	Photo string `json:"photo,omitempty" maxLength:"64" doc:"Digest of evidence that was sent."`

	Wires procedure.Colours `json:"wires,omitempty" doc:"Colours that the wires have this time, by the unit's pin."`
}

// NewWires says which colours the wires on a link have.
type NewWires struct {
	At    string            `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Wires procedure.Colours `json:"wires" doc:"Colour, or what is written on the wire, by the unit's pin."`
}

// Wires are the wires on a link as somebody saw them last.
type Wires struct {
	Link    string            `json:"link"`
	Adapter string            `json:"adapter,omitempty"`
	Wires   procedure.Colours `json:"wires" nullable:"false"`
	By      string            `json:"by"`
	At      time.Time         `json:"at"`
}

// NewIdentify asks who is on a link.
type NewIdentify struct {
	At    string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Label string `json:"label,omitempty" maxLength:"64" doc:"The serial on the label, where the wire does not tell it."`
	Model string `json:"model,omitempty" maxLength:"63" doc:"Whose loader is called first; one that can be told only by eye must be named."`
	Await bool   `json:"await,omitempty" doc:"A person applies the power while the bench calls."`
}

// Check is what a check of a link showed.
type Check struct {
	ID        string         `json:"id,omitempty"`
	Link      string         `json:"link"`
	Model     string         `json:"model" doc:"Whose loader was called."`
	Class     string         `json:"class" doc:"A class of docs/diagnosis.md; sound for a good link."`
	Words     []string       `json:"words" nullable:"false" doc:"What was seen, in order."`
	Test      *diagnose.Test `json:"test,omitempty" doc:"What tells the faults of the class apart."`
	Asks      bool           `json:"asks" doc:"A person must do the test."`
	Fault     string         `json:"fault,omitempty"`
	Says      string         `json:"says,omitempty"`
	Do        string         `json:"do,omitempty"`
	Seen      diagnose.Seen  `json:"seen"`
	Unplugged bool           `json:"unplugged,omitempty" doc:"The counter-proof: nothing may answer."`
	Passed    bool           `json:"passed" doc:"The link is proved; of a counter-proof: nothing answered."`
	By        string         `json:"by,omitempty"`
	At        time.Time      `json:"at"`
}

// Checks are the checks of a link, the newest first.
type Checks struct {
	Checks []Check `json:"checks" nullable:"false"`
}

// NewCheck asks for a check.
type NewCheck struct {
	At        string           `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Model     string           `json:"model,omitempty" maxLength:"63" doc:"Whose loader should answer; the one last seen there where it is empty."`
	Unplugged bool             `json:"unplugged,omitempty" doc:"The plug is pulled: the same question has to fail."`
	Answer    *diagnose.Answer `json:"answer,omitempty" doc:"Of the test that the last check proposed."`
}

// Echo asks whether what is sent on a link comes back: the self-test of an adapter.
type Echo struct {
	At   string `json:"at" minLength:"1" maxLength:"120"`
	Baud int    `json:"baud,omitempty"`
}

// NewListen asks what is on a line.
type NewListen struct {
	At     string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Lasts  int    `json:"lasts,omitempty" minimum:"0" maximum:"10000" doc:"ms; 100 at least."`
	Baud   int    `json:"baud,omitempty" minimum:"0" maximum:"12000000" doc:"That of the model's program where it is 0."`
	Model  string `json:"model,omitempty" maxLength:"63" doc:"The one last seen on the link where it is empty."`
	Say    string `json:"say,omitempty" maxLength:"200" doc:"A line of text for the program, sent first."`
	Loader bool   `json:"loader,omitempty" doc:"Say it through the unit's loader, whose console passes it on."`
}

// Heard is what was on a line.
type Heard struct {
	Link   string `json:"link"`
	Answer string `json:"answer,omitempty" doc:"Of the program, through its loader."`
	monitor.Heard
}

// Echoed is the answer.
type Echoed struct {
	Came bool `json:"came"`
}

// Ports are the serial ports of a bench.
type Ports struct {
	Bench string       `json:"bench"`
	Ports []ports.Port `json:"ports" nullable:"false"`
}

// Adapter is an adapter with its record.
type Adapter struct {
	Serial   string     `json:"serial"`
	Name     string     `json:"name" doc:"As in a sheet's wants."`
	Volts    string     `json:"volts,omitempty" doc:"Position of its voltage selector."`
	Inverted bool       `json:"inverted"`
	Firmware string     `json:"firmware,omitempty" doc:"Its own."`
	Latency  int        `json:"latency,omitempty" doc:"ms, of its driver."`
	State    string     `json:"state" enum:"ready,lent,set-aside,retired"`
	Note     string     `json:"note,omitempty"`
	Tested   *time.Time `json:"tested,omitempty" doc:"Its last self-test."`
	Sound    bool       `json:"sound" doc:"The self-test's result."`
	Links    []string   `json:"links" nullable:"false" doc:"Where it is now."`
	Changed  time.Time  `json:"changed"`
	By       string     `json:"by"`
	Families []Family   `json:"families" nullable:"false" doc:"Learned from runs."`
	Unit     string     `json:"unit,omitempty" doc:"Its id in the register, where it is a unit itself: its own firmware is updated by a run like any other."`
	Newer    string     `json:"newer,omitempty" doc:"The release of its own firmware that fits and is newer."`
	At       string     `json:"at,omitempty" doc:"The link where it was read last as a unit."`
}

// Family is how an adapter did with a model.
type Family struct {
	Model  string `json:"model"`
	Worked int    `json:"worked"`
	Failed int    `json:"failed"`
}

// Adapters is a list.
type Adapters struct {
	Adapters []Adapter `json:"adapters" nullable:"false"`
}

// NewAdapter enters an adapter, or what changed about it.
type NewAdapter struct {
	Serial   string `json:"serial" minLength:"1" maxLength:"64"`
	Name     string `json:"name" minLength:"1" maxLength:"80"`
	Volts    string `json:"volts,omitempty" maxLength:"20"`
	Inverted bool   `json:"inverted,omitempty"`
	Firmware string `json:"firmware,omitempty" maxLength:"40"`
	Latency  int    `json:"latency,omitempty" minimum:"0" maximum:"1000"`
	State    string `json:"state,omitempty" enum:"ready,lent,set-aside,retired"`
	Note     string `json:"note,omitempty" maxLength:"400"`
}

// Card is the job card of a unit: what a person does before, during and after.
type Card struct {
	Unit         string        `json:"unit,omitempty"`
	Serial       string        `json:"serial,omitempty"`
	Site         string        `json:"site,omitempty"`
	Model        string        `json:"model"`
	ModelName    string        `json:"modelName"`
	Revision     string        `json:"revision,omitempty"`
	Running      string        `json:"running,omitempty"`
	Release      string        `json:"release,omitempty" doc:"Version that the job is about."`
	Reason       string        `json:"reason,omitempty" doc:"What the release cures."`
	Link         string        `json:"link,omitempty"`
	Procedure    string        `json:"procedure,omitempty" doc:"Empty where the sheet has none for this unit."`
	Edition      int           `json:"edition,omitempty"`
	Standing     string        `json:"standing,omitempty" enum:"proven,unproven,failed"`
	StandingSays string        `json:"standingSays,omitempty"`
	Place        string        `json:"place,omitempty" enum:"bench,in-place"`
	Minutes      int           `json:"minutes,omitempty"`
	Took         *Took         `json:"took,omitempty" doc:"Learned from runs by this procedure."`
	Meanwhile    string        `json:"meanwhile,omitempty"`
	Test         string        `json:"test,omitempty" doc:"What counts as done."`
	Supply       *model.Supply `json:"supply,omitempty"`
	Wiring       *model.Wiring `json:"wiring,omitempty" doc:"For the adapter that is chosen."`
	Wires        *Wires        `json:"wires,omitempty" doc:"As somebody saw them last on this link; the wiring has their colours."`
	Unsuited     string        `json:"unsuited,omitempty" doc:"Why the adapter on the link must not be used as it is set."`
	Adapters     []string      `json:"adapters" nullable:"false" doc:"That the sheet has a wiring for."`
	Items        []model.Item  `json:"items" nullable:"false"`
	Needs        []fit.Need    `json:"needs" nullable:"false"`
	Flaws        []string      `json:"flaws" nullable:"false"`
	Loader       string        `json:"loader"`
	Identity     string        `json:"identity" doc:"The strongest identity that its loader gives."`
	Verify       string        `json:"verify" doc:"How the write will be proved."`
	Instead      string        `json:"instead,omitempty" doc:"What stands in for a backup where none can be read."`
	WayBack      string        `json:"wayBack" enum:"full,settings,image,none"`
	Locked       bool          `json:"locked" doc:"Its memory is locked against reading; lifting that erases all."`
	Reference    string        `json:"reference,omitempty" doc:"Version that it runs and whose image the catalogue keeps."`
	Fates        []Fate        `json:"fates" nullable:"false" doc:"What becomes of each region, where its memory cannot be saved whole."`
	Made         time.Time     `json:"made"`
}

// Took is how long the team's runs by a procedure took.
type Took struct {
	Runs    int `json:"runs"`
	Seconds int `json:"seconds" doc:"At the middle."`
}

// Fate is what becomes of a region of memory that cannot be saved.
type Fate struct {
	Name  string `json:"name"`
	Use   string `json:"use"`
	Bytes uint64 `json:"bytes"`
	Fate  string `json:"fate" enum:"stays,written,put-back,lost"`
}

// Runs is a list of runs.
type Runs struct {
	Runs []Run `json:"runs" nullable:"false"`
}

// Progress is a message of a run's live stream: new events, and how the run
// stands after them.
type Progress struct {
	Last    uint64      `json:"last" doc:"Number of the last event."`
	Events  []run.Event `json:"events" nullable:"false"`
	View    run.View    `json:"view"`
	States  string      `json:"states" doc:"One letter a sector, as in Strip."`
	Fault   *run.Fault  `json:"fault,omitempty"`
	Outcome string      `json:"outcome"`
}

// Reason is a person's reason.
type Reason struct {
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
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

// What benches and the service say to each other. Readers pass over fields that
// they do not know.

// Protocol is the number of the talk between bench and service; the service
// accepts the two before.
const Protocol = 1

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

// Joining tells the service what a bench has.
type Joining struct {
	Version  string      `json:"version"`
	Protocol int         `json:"protocol"`
	Now      int64       `json:"now"` // the bench's wall clock, microseconds
	Links    []BenchLink `json:"links"`
}

// BenchLink is a link of a bench.
type BenchLink struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Adapter string `json:"adapter,omitempty"`
	Latency int    `json:"latency,omitempty"` // ms that its driver holds bytes back
}

// Catalogue is the sheets that a bench identifies with.
type Catalogue struct {
	Now    int64         `json:"now"` // the service's wall clock, microseconds
	Sheets []core.Digest `json:"sheets"`
	// Withdrawn names open runs whose release was taken back, and why.
	Withdrawn map[string]string `json:"withdrawn,omitempty"`
}

// MayWrite asks, immediately before the first erase of a run, whether its release
// still stands.
type MayWrite struct {
	Run string `json:"run"`
}

// May is the answer.
type May struct {
	Bars string `json:"bars,omitempty"`
}

// The kinds of order.
const (
	OrderIdentify = "identify"
	OrderRun      = "run"
	OrderResume   = "resume"
	OrderStop     = "stop"
	OrderAbandon  = "abandon"
	OrderLayAside = "lay-aside"
	OrderAnswer   = "answer"
	OrderCheck    = "check"
	OrderEcho     = "echo"
	OrderListen   = "listen"
	OrderPorts    = "ports"
)

// Order tells a bench to do something once.
type Order struct {
	ID       string            `json:"id"`
	Kind     string            `json:"kind"`
	Deadline time.Time         `json:"deadline"`
	Link     string            `json:"link,omitempty"`
	Model    string            `json:"model,omitempty"` // last seen on the link
	Run      string            `json:"run,omitempty"`
	By       string            `json:"by,omitempty"`
	Label    string            `json:"label,omitempty"`
	Reason   string            `json:"reason,omitempty"`
	Opened   *run.Opened       `json:"opened,omitempty"`
	Epoch    uint64            `json:"epoch,omitempty"`
	Links    map[string]string `json:"links,omitempty"` // of sections on further links, by section
	Laid     *run.LaidAside    `json:"laid,omitempty"`
	Await    bool              `json:"await,omitempty"` // a person applies the power while the bench calls
	Baud     int               `json:"baud,omitempty"`
	Answer   *procedure.Answer `json:"answer,omitempty"`
	Say      string            `json:"say,omitempty"`
	Loader   bool              `json:"loader,omitempty"` // say it through the loader
	Lasts    int               `json:"lasts,omitempty"`  // ms
}

// Result is what came of an order.
type Result struct {
	Error *Problem        `json:"error,omitempty"`
	Found *run.Identified `json:"found,omitempty"`
	Model string          `json:"model,omitempty"`
	Seen  *diagnose.Seen  `json:"seen,omitempty"`
	Came  bool            `json:"came,omitempty"`
	Ports []ports.Port    `json:"ports,omitempty"`
	Heard *Heard          `json:"heard,omitempty"`
}

// Batch is events of one run, in order.
type Batch struct {
	Run     string   `json:"run"`
	Epoch   uint64   `json:"epoch"`
	First   uint64   `json:"first"`
	Outcome string   `json:"outcome"`
	Events  [][]byte `json:"events"`
}

// Have is how far the service has a run's events.
type Have struct {
	Have  uint64        `json:"have"`
	Moved bool          `json:"moved,omitempty"` // another bench goes on with the run, or it was given up
	Head  *history.Head `json:"head,omitempty"`
}

// Names is a list of digests.
type Names struct {
	Names []core.Digest `json:"names"`
}

// Stow asks the service to keep a backup whose pieces it has.
type Stow struct {
	Run      string        `json:"run"`
	Manifest core.Digest   `json:"manifest"` // of the main section
	How      string        `json:"how"`
	Running  string        `json:"running"`
	Taken    int64         `json:"taken"`
	Sections []StowSection `json:"sections,omitempty"` // all of them, where the bench knows of sections
}

// StowSection is the backup of a section.
type StowSection struct {
	Section  string      `json:"section"`
	Main     bool        `json:"main,omitempty"`
	Files    bool        `json:"files,omitempty"`
	Manifest core.Digest `json:"manifest"`
	How      string      `json:"how"`
}
