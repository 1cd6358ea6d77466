package client

import (
	"context"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
)

// Fit judges every release for a unit, and holds what the job wants against what
// there is, on the day (empty for today) and for the release (empty for the
// recommended one).
func (c *Client) Fit(ctx context.Context, at, day, release string) (Fit, error) {
	return get[Fit](ctx, c, "/api/fit?"+url.Values{"at": {at}, "day": {day}, "release": {release}}.Encode())
}

// Inside says what a unit's memory holds.
func (c *Client) Inside(ctx context.Context, unit string) (Inside, error) {
	return get[Inside](ctx, c, "/api/units/"+segment(unit)+"/inside")
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
	Now       core.Said     `json:"now" doc:"How the unit stands, in a sentence."`
	State     string        `json:"state,omitempty" doc:"half-done where its memory is partly written, not-proven where it is written and nobody has seen it run."`
	Withdrawn string        `json:"withdrawn,omitempty" doc:"Why the release that it runs was taken back."`
	Verdicts  []fit.Verdict `json:"verdicts" nullable:"false"`
	Question  *fit.Question `json:"question,omitempty"`
	Inside    *Inside       `json:"inside,omitempty" doc:"What its memory holds, by the newest backup."`
	Needs     []fit.Need    `json:"needs" nullable:"false" doc:"What the job wants first, for the release that is recommended or asked for."`
	NeedsFor  string        `json:"needsFor,omitempty"`
	Day       *time.Time    `json:"day,omitempty" doc:"The day that needs are judged for."`
	Sisters   []core.Said   `json:"sisters" nullable:"false" doc:"Models that are easily taken for this one, in words."`
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
	Backup    string      `json:"backup" doc:"Id."`
	Taken     time.Time   `json:"taken"`
	Known     bool        `json:"known" doc:"False: no image of the catalogue; main is then the nearest."`
	Main      *InsideOf   `json:"main,omitempty"`
	Others    []InsideOf  `json:"others" nullable:"false"`
	Unknown   []string    `json:"unknown" nullable:"false" doc:"Regions with content that no image explains."`
	Partly    bool        `json:"partly" doc:"Of some of it nobody knows what it holds: a run is open, or did not end well."`
	Parts     []InPart    `json:"parts" nullable:"false" doc:"Every section of which something is known, in the order of the sheet."`
	Says      string      `json:"says" doc:"What the unit said that it ran."`
	Lies      bool        `json:"lies" doc:"Another version than it says."`
	Text      string      `json:"text" doc:"The sentences, one behind the other."`
	Sentences []core.Said `json:"sentences" nullable:"false"`
}

// InPart is what is known of a section.
type InPart struct {
	core.Said
	Section string    `json:"section"`
	Title   string    `json:"title"`
	Known   int       `json:"known" doc:"Sectors, or files, whose content is known by digest."`
	Of      int       `json:"of" doc:"Sectors, or files, in all."`
	Partly  bool      `json:"partly"`
	Release string    `json:"release,omitempty" doc:"Version whose part for this section it holds, byte for byte."`
	At      time.Time `json:"at"`
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
